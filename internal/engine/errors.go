package engine

import (
	"fmt"
	"strings"
)

// CannotOpen is the error of Open for a database that is not there or not one.
type CannotOpen struct {
	Message, Cure string
	Err           error
}

func (e *CannotOpen) Error() string { return e.Message }
func (e *CannotOpen) Unwrap() error { return e.Err }

// Violation is the error of a statement that a constraint stops.
type Violation struct {
	Rule    string   // "not null", "unique", "check", "foreign key"
	Table   string   // "" where the engine does not say
	Columns []string // none where the engine does not say
	Name    string   // of the constraint; "" where the engine does not say
	Err     error
}

func (e *Violation) Error() string {
	where := ""
	if e.Table != "" {
		where = " of table " + e.Table
	}
	columns := strings.Join(e.Columns, ", ")
	switch e.Rule {
	case "not null":
		return "column " + columns + where + " may not be null"
	case "unique":
		return "another row" + where + " has the same " + columns
	case "check":
		return "a row breaks check " + e.Name + where
	}
	return "a row would refer to no row, or another row refers to it (foreign key)" + where
}

func (e *Violation) Unwrap() error { return e.Err }

// Refused is the error of a planner for a change that this engine cannot make.
type Refused struct{ Message, Cure string }

func (e *Refused) Error() string { return e.Message }

// Busy is the error of a transaction that did not get its lock in time, or was chosen
// to give way to another: trying again helps.
type Busy struct {
	Err error
	Who []Session // in the way, where that is known
}

func (e *Busy) Error() string {
	if len(e.Who) > 0 {
		return "a lock was not given: in the way is " + e.Who[0].String()
	}
	return fmt.Sprintf("somebody else is writing: %v", e.Err)
}
func (e *Busy) Unwrap() error { return e.Err }
