package run_test

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"lastboard/internal/core/backfill"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
	"lastboard/internal/engine/sqlite"
)

// quay is a database in a new file, with what runs there.
type quay struct {
	*testing.T
	path    string
	db      engine.Database
	options run.Options
	events  []run.Event
	on      func(run.Event) // hears each event, too
}

// newQuay makes one with a table of some rows.
func newQuay(t *testing.T, rows int) *quay {
	t.Helper()
	q := &quay{T: t, path: "sqlite:" + filepath.Join(t.TempDir(), "harbour.db")}
	q.db = q.open()
	q.options = run.Options{Program: "1.2.3", LockWait: 100 * time.Millisecond, LockTries: 3, Workers: 1,
		Pace: backfill.Pace{BatchTime: time.Millisecond}, Observe: q.observe}
	q.exec("create table vessel (id integer primary key, name text not null, flag text)")
	if rows > 0 {
		q.exec(fmt.Sprintf("insert into vessel select value, 'vessel ' || value, case when value %% 7 > 0 then 'NO' end "+
			"from (with recursive s(value) as (select 1 union all select value + 1 from s where value < %d) select value "+
			"from s)", rows))
	}
	return q
}

func (q *quay) open() engine.Database {
	q.Helper()
	db, err := sqlite.Engine{}.Open(context.Background(), q.path, engine.Create)
	if err != nil {
		q.Fatal(err)
	}
	q.Cleanup(func() { db.Close() })
	return db
}

func (q *quay) observe(e run.Event) {
	q.events = append(q.events, e)
	if q.on != nil {
		q.on(e)
	}
}

func (q *quay) exec(statements ...string) {
	q.Helper()
	for _, s := range statements {
		if err := q.db.Exec(q.Context(), s); err != nil {
			q.Fatalf("%s: %v", s, err)
		}
	}
}

// one gives the values of a query's first row, apart by spaces.
func (q *quay) one(sql string) string {
	q.Helper()
	r, err := q.db.Query(q.Context(), sql)
	if err != nil || len(r.Values) == 0 {
		q.Fatalf("%s: %v", sql, err)
	}
	list := make([]string, len(r.Values[0]))
	for i, v := range r.Values[0] {
		if list[i] = fmt.Sprint(v); v == nil {
			list[i] = "null"
		}
	}
	return strings.Join(list, " ")
}

func (q *quay) same(sql, want string) {
	q.Helper()
	if got := q.one(sql); got != want {
		q.Errorf("%s gives %s, wanted %s", sql, got, want)
	}
}

func (q *quay) migration(version, text string) *migration.Migration {
	q.Helper()
	m, err := migration.Parse(version+"-change.sql", version, "change", "-- A change\n"+text+";\n")
	if err != nil {
		q.Fatal(err)
	}
	return m
}

// runner gives the one runner, until done is called.
func (q *quay) runner() (r *run.Runner, done func()) {
	q.Helper()
	r = &run.Runner{Engine: sqlite.Engine{}, DB: q.db, Options: q.options}
	if err := r.Begin(q.Context()); err != nil {
		q.Fatal(err)
	}
	return r, func() {
		if err := r.End(); err != nil {
			q.Error(err)
		}
	}
}

// advance runs a migration, or goes on with it.
func (q *quay) advance(ctx context.Context, version, text string) error {
	q.Helper()
	r, done := q.runner()
	defer done()
	_, err := r.Advance(ctx, q.migration(version, text), q.known(version))
	return err
}

func (q *quay) retreat(ctx context.Context, version string) error {
	q.Helper()
	r, done := q.runner()
	defer done()
	_, err := r.Retreat(ctx, q.known(version), nil)
	return err
}

func (q *quay) known(version string) *ledger.Migration {
	q.Helper()
	list, err := ledger.Of(q.db).Migrations(q.Context())
	if err != nil {
		return nil // there is no ledger yet
	}
	if i := slices.IndexFunc(list, func(m *ledger.Migration) bool { return m.Version == version }); i >= 0 {
		return list[i]
	}
	return nil
}

// refused asserts the class and the rule of an error.
func (q *quay) refused(err error, class fault.Class, rule string) {
	q.Helper()
	var f *fault.Fault
	var list fault.List
	if errors.As(err, &f) {
		list = fault.List{f}
	} else {
		errors.As(err, &list)
	}
	if !slices.ContainsFunc(list, func(f *fault.Fault) bool { return f.Class == class && f.Rule == rule }) {
		q.Errorf("got %v (%+v), wanted %s", err, list, rule)
	}
}

func (q *quay) whats() string {
	var list []string
	for _, e := range q.events {
		if len(list) == 0 || list[len(list)-1] != e.What {
			list = append(list, e.What)
		}
	}
	return strings.Join(list, " ")
}
