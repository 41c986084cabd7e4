package mariadb

import (
	"fmt"
	"os"
	"testing"

	"lastboard/internal/engine"
	"lastboard/internal/engine/enginetest"
	"lastboard/test/server"
)

var private *server.MariaDB

func TestMain(m *testing.M) {
	var err error
	if private, err = server.StartMariaDB(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	private.Stop()
	os.Exit(code)
}

func TestEngine(t *testing.T) {
	enginetest.Run(t, enginetest.Target{Engine: Engine{}, WholeIndexes: true, New: fresh})
}

// fresh gives the URL of a new database.
func fresh(t *testing.T) string {
	t.Helper()
	name, err := private.Database()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { private.Drop(name) })
	return private.URL(name)
}

// opened connects to a new database.
func opened(t *testing.T) *database {
	t.Helper()
	d, err := Engine{}.Open(t.Context(), fresh(t), engine.Create)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d.(*database)
}
