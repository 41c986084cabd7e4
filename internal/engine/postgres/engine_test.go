package postgres_test

import (
	"fmt"
	"os"
	"testing"

	"lastboard/internal/engine/enginetest"
	"lastboard/internal/engine/postgres"
	"lastboard/test/server"
)

var one *server.Postgres

func TestMain(m *testing.M) {
	p, err := server.StartPostgres()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	one = p
	code := m.Run()
	if err := p.Stop(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func newDatabase(t *testing.T) string {
	t.Helper()
	name, err := one.Database()
	if err != nil {
		t.Fatal(err)
	}
	return one.URL(name)
}

func TestEngine(t *testing.T) {
	enginetest.Run(t, enginetest.Target{Engine: postgres.Engine{}, New: newDatabase})
}
