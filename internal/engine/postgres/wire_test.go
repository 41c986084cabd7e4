package postgres

import (
	"context"
	"errors"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"lastboard/internal/engine"
	"lastboard/internal/engine/enginetest"
)

// Marks become numbered parameters, and Lastboard's own tables stand in their schema: where
// a table is meant, and nowhere else.
func TestStatementsOfTheCore(t *testing.T) {
	for _, c := range []struct {
		text string
		args int
		want string
	}{
		{"select a from t where b = ?", 1, "select a from t where b = $1"},
		{"insert into t values (?, '?', ?)", 2, "insert into t values ($1, '?', $2)"},
		{`select "?" from t where a = ?`, 1, `select "?" from t where a = $1`},
		{"select '?'", 0, "select '?'"}, {"select a ? 'x' from t", 0, "select a ? 'x' from t"},
		{"select * from lastboard_step where version = ?", 1, `select * from "lastboard"."step" where version = $1`},
		{"delete from lastboard_kept_7", 0, `delete from "lastboard"."kept_7"`},
		{"select lastboard_rows.a from (select 1) as lastboard_rows", 0,
			"select lastboard_rows.a from (select 1) as lastboard_rows"},
		{`drop schema "lastboard_trial_x"`, 0, `drop schema "lastboard_trial_x"`},
		{"select 'from lastboard_step'", 0, "select 'from lastboard_step'"},
	} {
		if got := translate(c.text, c.args); got != c.want {
			t.Errorf("%s becomes %s, wanted %s", c.text, got, c.want)
		}
	}
}

// What the server answers has the types that the core knows, and what it is given is text.
func TestValues(t *testing.T) {
	for _, c := range []struct {
		oid  uint32
		text string
		want any
	}{
		{oidBool, "t", true}, {oidBool, "f", false}, {oidInt4, "-7", int64(-7)},
		{oidInt8, "9223372036854775807", int64(9223372036854775807)}, {oidFloat8, "1.5", 1.5}, {25, "a", "a"},
		{1700, "12.50", "12.50"},
	} {
		got, err := value(c.oid, []byte(c.text))
		if err != nil || got != c.want {
			t.Errorf("%s of type %d is %v, %v", c.text, c.oid, got, err)
		}
	}
	if got, err := value(oidBytea, []byte(`\x00ff`)); err != nil || !slices.Equal(got.([]byte), []byte{0, 255}) {
		t.Errorf("bytes are %v, %v", got, err)
	}
	if got, err := value(oidInt4, nil); got != nil || err != nil {
		t.Errorf("null is %v, %v", got, err)
	}
	if _, err := value(oidInt4, []byte("x")); err == nil {
		t.Error("x is a number")
	}
	for i, want := range []string{"<nil>", "a", `\x0aff`, "0.1", "7", "true"} {
		given := parameters([]any{nil, "a", []byte{10, 255}, 0.1, int64(7), true})[i]
		if got := string(given); given != nil && got != want || given == nil && want != "<nil>" {
			t.Errorf("parameter %d is %q, wanted %q", i, got, want)
		}
	}
}

// An error has the type by which callers know what to do.
func TestErrorsOfTheServer(t *testing.T) {
	ctx := context.Background()
	for _, code := range []string{"55P03", "40P01", "40001"} {
		var busy *engine.Busy
		if err := failure(ctx, &pgconn.PgError{Code: code}); !errors.As(err, &busy) {
			t.Errorf("%s is %v, which is not tried again", code, err)
		}
	}
	for _, code := range []string{"25006", "53100", "57P01", "42501"} {
		var cannot *engine.CannotOpen
		if err := failure(ctx, &pgconn.PgError{Code: code, Message: "m"}); !errors.As(err, &cannot) || cannot.Cure == "" ||
			cannot.Message == "" {
			t.Errorf("%s is %v, and says not what to do", code, err)
		}
	}
	for code, rule := range map[string]string{"23502": "not null", "23505": "unique", "23514": "check",
		"23503": "foreign key"} {
		var broken *engine.Violation
		err := failure(ctx, &pgconn.PgError{Code: code, TableName: "vessel", ConstraintName: "k",
			Detail: "Key (name, flag)=(a, b) already exists."})
		if !errors.As(err, &broken) || broken.Rule != rule || broken.Table != "vessel" ||
			!slices.Equal(broken.Columns, []string{"name", "flag"}) {
			t.Errorf("%s is %+v", code, err)
		}
	}
	stopped, stop := context.WithCancel(ctx)
	stop()
	if err := failure(stopped, &pgconn.PgError{Code: "57014"}); !errors.Is(err, context.Canceled) {
		t.Errorf("what was stopped is %v", err)
	}
	var lost *engine.CannotOpen
	if err := failure(ctx, errors.New("EOF")); !errors.As(err, &lost) {
		t.Errorf("a lost connection is %v", err)
	}
	if err := failure(ctx, nil); err != nil {
		t.Errorf("nothing is %v", err)
	}
}

func TestTimeoutsAreNeverNone(t *testing.T) {
	for d, want := range map[time.Duration]string{200 * time.Millisecond: "'200ms'", time.Microsecond: "'1ms'", 0: "'1ms'",
		3 * time.Second: "'3000ms'"} {
		if got := milliseconds(d); got != want {
			t.Errorf("%s is %s, wanted %s", d, got, want)
		}
	}
}

// FuzzWire is a server that answers at random.
func FuzzWire(f *testing.F) {
	ready := "R\x00\x00\x00\x08\x00\x00\x00\x00" + "Z\x00\x00\x00\x05I"
	enginetest.FuzzWire(f, Engine{}, func(address string) string {
		return "postgres://pilot@" + address + "/harbour?sslmode=disable"
	},
		"", "S", "R\x00\x00\x00\x08\x00\x00\x00\x05abcd", "E\x00\x00\x00\x10SFATAL\x00C3D000\x00\x00", ready,
		ready+"C\x00\x00\x00\x08SET\x00Z\x00\x00\x00\x05I", ready+"T\x00\x00\x00\x06\x00\x00", ready+"D\x7f\xff\xff\xff")
}
