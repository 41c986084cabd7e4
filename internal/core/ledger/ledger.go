// Package ledger is what a database remembers of what Lastboard did to it, in
// tables of its own beside those of the applications: which migrations ran, the
// steps of each, how far a backfill came, and what is kept.
//
// A record is always written in the transaction that does what it says, so that
// the ledger is never ahead of the tables or behind them. Entries are only ever
// added. Times are UTC.
package ledger

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// format is the version of the tables below; it grows when they change.
const format = 1

// The ledger's tables. The statements are of the SQL that every engine has.
var create = []string{
	`create table lastboard_meta (name varchar(40) not null primary key, value text not null)`,
	`create table lastboard_entry (id integer not null primary key, at varchar(30) not null, version varchar(20) not null, what varchar(40) not null,
		by_whom varchar(200) not null, host varchar(200) not null, seconds double precision not null, changed_rows bigint not null, note text not null, forecast double precision)`,
	`create table lastboard_migration (version varchar(20) not null primary key, name varchar(200) not null, title text not null, reason text not null,
		state varchar(20) not null, direction varchar(20) not null, checksum varchar(64) not null, source text not null,
		changes text not null, wanted text not null, advanced_at varchar(30), settled_at varchar(30))`,
	`create table lastboard_step (version varchar(20) not null, direction varchar(20) not null, number integer not null, step text not null,
		state varchar(20) not null, started_at varchar(30), done_at varchar(30), changed_rows bigint not null, tries integer not null, longest_wait double precision not null,
		primary key (version, direction, number))`,
	`create table lastboard_backfill (version varchar(20) not null, direction varchar(20) not null, number integer not null,
		last_key text not null, upper_key text not null, done_rows bigint not null, primary key (version, direction, number))`,
	`create table lastboard_kept (id integer not null primary key, version varchar(20) not null, direction varchar(20) not null, checksum varchar(64) not null,
		table_name varchar(200) not null, kept_table varchar(200) not null, keeping text not null, kept_at varchar(30) not null)`,
	`create table lastboard_runner (id integer not null primary key, token varchar(64) not null, by_whom varchar(200) not null, host varchar(200) not null,
		process integer not null, since varchar(30) not null, beat varchar(30) not null)`,
	`create table lastboard_table (kind varchar(10) not null, name varchar(200) not null, model text not null, primary key (kind, name))`,
	`create table ` + engine.NoteTable + ` (table_name varchar(200) not null, object varchar(200) not null, kind varchar(20) not null, text text not null,
		primary key (table_name, object, kind))`,
}

// Migration is what the ledger knows of a migration.
type Migration struct {
	Version, Name, Title, Reason string
	State                        string // running, stopped, open or settled
	Direction                    string // advance, settle or retreat, while it is running or stopped
	Checksum, Source             string
	Changes                      json.RawMessage // what was changed, for the way back
	Wanted                       json.RawMessage // the tables that its steps lead to, as far as they change them
	AdvancedAt, SettledAt        string
}

// Same reports whether two records say the same; nil stands for none.
func (m *Migration) Same(o *Migration) bool {
	if m == nil || o == nil {
		return m == o
	}
	return m.Version == o.Version && m.State == o.State && m.Direction == o.Direction && m.Checksum == o.Checksum &&
		m.AdvancedAt == o.AdvancedAt &&
		string(m.Changes) == string(o.Changes) && string(m.Wanted) == string(o.Wanted)
}

// Standing says in a word where a migration stands; nil stands for one that has not run.
func (m *Migration) Standing() string {
	switch {
	case m == nil:
		return Waiting
	case m.State == Stopped && m.Direction == Retreat:
		return "half way back"
	case m.State == Stopped && m.Direction == Settle:
		return "half settled"
	case m.State == Settled || m.State == Open:
		return m.State + ", advanced at " + m.AdvancedAt
	}
	return m.State
}

// The states of a migration.
const (
	Waiting = "waiting"
	Running = "running"
	Stopped = "stopped"
	Open    = "open"
	Settled = "settled"
)

// The directions of a run.
const (
	Advance = "advance"
	Settle  = "settle" // of an open migration to its end
	Retreat = "retreat"
)

// Entry is one line of the record of what was done.
type Entry struct {
	At      string  `json:"at"`
	Version string  `json:"version"`
	What    string  `json:"what"`
	By      string  `json:"by"`
	Host    string  `json:"host"`
	Seconds float64 `json:"seconds"`
	// Forecast is how long it was to take; nil where nothing was said.
	Forecast *float64 `json:"forecast_seconds"`
	Rows     int64    `json:"rows"`
	Note     string   `json:"note"`
}

// Step is a step and how far it is.
type Step struct {
	Step  *engine.Step
	State string // waiting, running or done
	Rows  int64
	// What it took, once it is done: seconds in all, tries for a lock, and for how long it
	// held locks at most.
	Took, Longest float64
	Tries         int
}

// Kept is something that is kept.
type Kept struct {
	Version, Direction, Checksum string
	Keeping                      engine.Keeping
	At                           string
}

// Time gives when it began to be kept.
func (k Kept) Time() time.Time {
	at, err := time.Parse(timeFormat, k.At)
	if err != nil {
		return time.Now() // a time that cannot be read is not old
	}
	return at
}

// Runner is who is changing the database.
type Runner struct {
	Token, By, Host string
	Process         int
	Since, Beat     time.Time
}

// Ledger reads the record; what writes to it takes a transaction.
type Ledger struct {
	db      engine.Database
	project string // whose ledger it has to be; "" for anybody's
}

// Of gives the ledger of a database, which need not have one yet.
func Of(db engine.Database) *Ledger { return &Ledger{db: db} }

// For gives the ledger of a database that the project with this id works on; "" is a project
// without one.
func For(db engine.Database, project string) *Ledger { return &Ledger{db, project} }

// Exists reports whether the database has a ledger, and refuses one that a newer
// Lastboard has written.
func (l *Ledger) Exists(ctx context.Context) (bool, error) {
	rows, err := l.db.Query(ctx, "select name, value from lastboard_meta where name in ('format', 'needs', "+
		"'project') order by name")
	var none *engine.NoTable
	var busy *engine.Busy
	switch {
	case errors.As(err, &none):
		return false, l.belongs(ctx, false)
	case err != nil && (errors.As(err, &busy) || ctx.Err() != nil):
		return false, err
	case err != nil:
		cure := "connect as the user who runs the migrations, or find out why it cannot be read"
		if cannot := (*engine.CannotOpen)(nil); errors.As(err, &cannot) && cannot.Cure != "" {
			cure = cannot.Cure
		}
		f := fault.New(fault.Failed, "ledger-unreadable", cure,
			"the ledger cannot be read, so that nothing is known of what has run: %v", err)
		f.Err = err
		return false, f
	case len(rows.Values) == 0:
		// Where each table is made by itself, a run may have died before the ledger was whole.
		if known, err := l.Migrations(ctx); errors.As(err, &none) || err == nil && len(known) == 0 {
			return false, nil
		}
		return false, fault.New(fault.Failed, "ledger-broken",
			"bring the ledger's tables back from a backup of this database",
			"the ledger is there and does not say its own version: somebody has changed it")
	}
	said := map[string]string{"needs": "a newer one"}
	for _, v := range rows.Values {
		said[text(v[0])] = text(v[1])
	}
	if n, err := strconv.Atoi(said["format"]); err != nil || n > format {
		return false, fault.New(fault.Refused, "ledger-newer", "install Lastboard "+said["needs"]+" or later",
			"this database's ledger was written by a newer Lastboard (its format is %s, this program knows %d)", said["format"],
			format)
	}
	if of := said["project"]; of != "" && l.project != "" && of != l.project {
		return false, fault.New(fault.Refused, "ledger-of-another",
			`work in that project's folder, or, if this is where its migrations are now, write id = "`+of+
				`" into lastboard.toml`,
			"the database is in the care of another project: its ledger is that of %s, and this is %s", of, l.project)
	}
	return true, l.belongs(ctx, true)
}

// Sign writes into a ledger without one whose it is.
func (l *Ledger) Sign(ctx context.Context, tx engine.Tx) error {
	if l.project == "" {
		return nil
	}
	rows, err := tx.Query(ctx, "select 1 from lastboard_meta where name = 'project'")
	if err != nil || len(rows.Values) > 0 {
		return err
	}
	return PutMeta(ctx, tx, "project", l.project)
}

// belongs refuses the ledger of another database, and to take a database for one without
// that had one.
func (l *Ledger) belongs(ctx context.Context, found bool) error {
	g, ok := l.db.(engine.Guarded)
	if !ok {
		return nil
	}
	err := g.Belongs(ctx, found)
	var cannot *engine.CannotOpen
	if errors.As(err, &cannot) {
		f := fault.New(fault.Refused, "ledger-of-another", cannot.Cure, "%s", cannot.Message)
		f.Err = err
		return f
	}
	return err
}

// Tables gives the statements that make the ledger's tables.
func Tables() []string { return slices.Concat(create, side) }

// Create makes the ledger's tables in the place that the engine has for them; program is
// the version that can read them.
func Create(ctx context.Context, tx engine.Tx, place []string, program string) error {
	for _, sql := range slices.Concat(place, create, side) {
		if _, err := tx.Exec(ctx, sql); err != nil {
			return fmt.Errorf("making the ledger: %w", err)
		}
	}
	_, err := tx.Exec(ctx, "insert into lastboard_meta (name, value) values ('format', ?), ('needs', ?)",
		strconv.Itoa(format), program)
	return err
}

// Migrations lists every migration that the ledger knows, in order.
func (l *Ledger) Migrations(ctx context.Context) ([]*Migration, error) {
	rows, err := l.db.Query(ctx, `select version, name, title, reason, state, direction, checksum, source, changes, wanted, advanced_at, settled_at
		from lastboard_migration order by length(version), version`)
	if none := (*engine.NoTable)(nil); errors.As(err, &none) {
		f := fault.New(fault.Failed, "ledger-broken", "bring it back from a backup", "a part of the ledger is gone: %v", err)
		f.Err = err
		return nil, f
	}
	if err != nil {
		return nil, err
	}
	var list []*Migration
	for _, r := range rows.Values {
		list = append(list, &Migration{
			text(r[0]), text(r[1]), text(r[2]), text(r[3]), text(r[4]), text(r[5]), text(r[6]), text(r[7]),
			json.RawMessage(text(r[8])), json.RawMessage(text(r[9])), text(r[10]), text(r[11]),
		})
	}
	return list, nil
}

// TablesAfter gives the tables as they were after the last of the migrations, which
// are all from the first on.
func TablesAfter(list []*Migration) (*schema.Schema, error) {
	s := &schema.Schema{}
	for _, m := range list {
		var d schema.Delta
		if err := Decode(m.Wanted, &d); err != nil {
			return nil, fmt.Errorf("the ledger's record of migration %s: %w", m.Version, err)
		}
		s = d.On(s)
	}
	return s, nil
}

// Entries lists the record, oldest first.
func (l *Ledger) Entries(ctx context.Context) ([]Entry, error) {
	rows, err := l.db.Query(ctx, "select * from lastboard_entry order by id")
	if err != nil {
		return nil, err
	}
	list := []Entry{}
	for _, r := range rows.Values {
		e := Entry{At: text(r[1]), Version: text(r[2]), What: text(r[3]), By: text(r[4]), Host: text(r[5]),
			Seconds: real(r[6]), Rows: number(r[7]), Note: text(r[8])}
		if len(r) > 9 && r[9] != nil { // an earlier version did not keep it
			f := real(r[9])
			e.Forecast = &f
		}
		list = append(list, e)
	}
	return list, nil
}

// Steps lists the steps of a run in their order.
func (l *Ledger) Steps(ctx context.Context, version, direction string) ([]Step, error) {
	rows, err := l.db.Query(ctx, "select step, state, changed_rows, started_at, done_at, tries, longest_wait from "+
		"lastboard_step where version = ? and direction = ? order by number", version, direction)
	if err != nil {
		return nil, err
	}
	var list []Step
	for _, r := range rows.Values {
		s := Step{Step: &engine.Step{}, State: text(r[1]), Rows: number(r[2]), Tries: int(number(r[5])), Longest: real(r[6])}
		if began, err := time.Parse(timeFormat, text(r[3])); err == nil {
			if done, err := time.Parse(timeFormat, text(r[4])); err == nil {
				s.Took = done.Sub(began).Seconds()
			}
		}
		if err := Decode([]byte(text(r[0])), s.Step); err != nil {
			return nil, fmt.Errorf("step of migration %s in the ledger: %w", version, err)
		}
		list = append(list, s)
	}
	return list, nil
}

// Facts gives what the plan of a run was made from, as [PutFacts] has written it; nil where
// an earlier version has not.
func (l *Ledger) Facts(ctx context.Context, version, direction string) (json.RawMessage, error) {
	rows, err := l.db.Query(ctx, "select facts from lastboard_plan where version = ? and direction = ?", version,
		direction)
	if err != nil || len(rows.Values) == 0 {
		return nil, err
	}
	return json.RawMessage(text(rows.Values[0][0])), nil
}

// Checkpoint gives how far a backfill came: the last key done and the greatest
// key to do, as [EncodeKey] wrote them, and the rows done. ok is false before it
// has begun.
func (l *Ledger) Checkpoint(ctx context.Context, version, direction string,
	step int) (last, upper string, rows int64, ok bool, err error) {
	r, err := l.db.Query(ctx, "select last_key, upper_key, done_rows from lastboard_backfill where version = ? and "+
		"direction = ? and number = ?", version, direction, step)
	if err != nil || len(r.Values) == 0 {
		return "", "", 0, false, err
	}
	return text(r.Values[0][0]), text(r.Values[0][1]), number(r.Values[0][2]), true, nil
}

// Kept lists what is kept, oldest first, and the greatest number given to a
// table of kept values.
func (l *Ledger) Kept(ctx context.Context) (list []Kept, last int64, err error) {
	rows, err := l.db.Query(ctx, "select id, version, direction, checksum, keeping, kept_at from lastboard_kept "+
		"order by id")
	if err != nil {
		return nil, 0, err
	}
	for _, r := range rows.Values {
		k := Kept{Version: text(r[1]), Direction: text(r[2]), Checksum: text(r[3]), At: text(r[5])}
		if err := Decode([]byte(text(r[4])), &k.Keeping); err != nil {
			return nil, 0, fmt.Errorf("what is kept of migration %s, in the ledger: %w", k.Version, err)
		}
		list = append(list, k)
		last = number(r[0])
	}
	given, err := l.meta(ctx, "kept")
	if err != nil {
		return nil, 0, err
	}
	if n, err := strconv.ParseInt(given, 10, 64); err == nil {
		last = max(last, n)
	}
	return list, last, nil
}

// Owns reports whether a table is one of the ledger's own.
func Owns(table string) bool {
	return slices.Contains([]string{
		"lastboard_meta", "lastboard_entry", "lastboard_migration", "lastboard_step", "lastboard_backfill", "lastboard_kept",
		"lastboard_runner", "lastboard_table", "lastboard_work", "lastboard_pace", "lastboard_plan", "lastboard_id",
		engine.NoteTable,
	}, table)
}

// Tables gives the tables and views as they were after the last run.
func (l *Ledger) Tables(ctx context.Context) (*schema.Schema, error) {
	models, err := l.Models(ctx)
	if err != nil {
		return nil, err
	}
	s := &schema.Schema{}
	for _, m := range slices.SortedFunc(maps.Keys(models), func(a, b Model) int {
		return strings.Compare(a.Kind+a.Name, b.Kind+b.Name)
	}) {
		var into any
		if m.Kind == "view" {
			s.Views = append(s.Views, &schema.View{})
			into = s.Views[len(s.Views)-1]
		} else {
			s.Tables = append(s.Tables, &schema.Table{})
			into = s.Tables[len(s.Tables)-1]
		}
		if err := Decode([]byte(models[m]), into); err != nil {
			return nil, fmt.Errorf("%s %s in the ledger: %w", m.Kind, m.Name, err)
		}
	}
	return s, nil
}

// Model names a table or a view whose definition the ledger remembers; Name is in
// lower case.
type Model struct{ Kind, Name string }

// Models gives the tables and views as they were after the last run, as JSON;
// none before any.
func (l *Ledger) Models(ctx context.Context) (map[Model]string, error) {
	r, err := l.db.Query(ctx, "select kind, name, model from lastboard_table")
	if err != nil {
		return nil, err
	}
	models := map[Model]string{}
	for _, v := range r.Values {
		models[Model{text(v[0]), text(v[1])}] = text(v[2])
	}
	return models, nil
}

func (l *Ledger) meta(ctx context.Context, name string) (string, error) {
	r, err := l.db.Query(ctx, "select value from lastboard_meta where name = ?", name)
	if err != nil || len(r.Values) == 0 {
		return "", err
	}
	return text(r.Values[0][0]), nil
}

// Runner gives who is changing the database; nil if nobody is. A record that a
// dead runner left does not count.
func (l *Ledger) Runner(ctx context.Context) (*Runner, error) {
	r, err := runner(ctx, l.db.Query)
	if err != nil || r == nil || !l.lives(r) {
		return nil, err
	}
	return r, nil
}

// Now gives the time as the ledger writes it.
func Now() string { return time.Now().UTC().Format(timeFormat) }

const timeFormat = "2006-01-02T15:04:05.000Z"

func text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case []byte:
		return string(v)
	case string:
		return v
	}
	return fmt.Sprint(v)
}

func number(v any) int64 {
	n, _ := v.(int64)
	return n
}
