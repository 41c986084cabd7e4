package sqlite

import (
	"database/sql/driver"
	"fmt"
	"sync"

	"modernc.org/sqlite"
)

// remembered is the last value that could not be converted, for the statement
// that runs: Lastboard runs one that uses it at a time.
var remembered struct {
	sync.Mutex
	value driver.Value
	set   bool
}

// registerFunctions gives Lastboard's connections the functions of render.go.
var registerFunctions = sync.OnceValue(func() error {
	functions := map[string]struct {
		args int32
		call func(*sqlite.FunctionContext, []driver.Value) (driver.Value, error)
	}{
		failFunction: {2, func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
			return nil, fmt.Errorf("the value '%v' cannot become %v", args[0], args[1])
		}},
		markFunction: {2, func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
			remembered.Lock()
			defer remembered.Unlock()
			remembered.value, remembered.set = args[0], true
			return nil, nil
		}},
		failedFunction: {1, func(*sqlite.FunctionContext, []driver.Value) (driver.Value, error) {
			remembered.Lock()
			defer remembered.Unlock()
			value := remembered.value
			if !remembered.set {
				value = nil
			}
			remembered.value, remembered.set = nil, false
			return value, nil
		}},
	}
	for name, f := range functions {
		if err := sqlite.RegisterScalarFunction(name, f.args, f.call); err != nil {
			return err
		}
	}
	return nil
})
