package adopt_test

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"lastboard/internal/core/adopt"
	"lastboard/internal/engine"
	"lastboard/internal/engine/sqlite"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// read gives the tables that statements of SQLite's own make in a new file.
func read(t *testing.T, statements ...string) *schema.Schema {
	t.Helper()
	db, err := sqlite.Engine{}.Open(t.Context(), "sqlite:"+filepath.Join(t.TempDir(), "harbour.db"), engine.Create)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	for _, s := range statements {
		if err := db.Exec(t.Context(), s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
	s, err := db.Schema(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// What is written for tables makes just these tables, in the language where that is
// possible and natively where not.
func TestWhatIsWrittenMakesTheTables(t *testing.T) {
	for _, c := range []struct {
		what       string
		statements []string
		native     []string
		says       []string
	}{
		{"plain", []string{"create table berth (id integer primary key, code varchar(8) not null default 'A', depth " +
			"numeric(5,1) check (depth > 0))"}, nil, []string{"create table berth", "varchar(8) not null default 'A'"}},
		{"keys that refer to each other", []string{"create table b (id integer primary key, a_id integer references a " +
			"(id) on delete cascade)", "create table a (id integer primary key, name text, unique (name))"}, nil,
			[]string{"create table a", "create table b", "on delete cascade"}},
		{"indexes", []string{"create table v (id integer primary key, a text, b integer)", "create index i on v (a, b desc)",
			"create unique index u on v (lower(a)) where b > 0"}, nil,
			[]string{"create index i on v (a, b desc)", "create unique index u"}},
		{"computed columns", []string{"create table v (id integer primary key, a text, b text generated always as " +
			"(upper(a)) virtual, c integer as (length(a)) stored)"}, nil, []string{"generated always as (upper(a))", "stored"}},
		{"a view", []string{"create table v (id integer primary key)", "create view w as select id from v where id > 0"}, nil,
			[]string{"create view w as select id from v where id > 0"}},
		{"names", []string{`create table "a ""b""" (id integer primary key, "order" text, "C" text)`}, nil,
			[]string{`"a ""b"""`, `"order" text`, `"C" text`}},
		{"no row numbers", []string{"create table v (a text primary key, b text) without rowid"}, []string{"table v"},
			[]string{"native sqlite", "without rowid"}},
		{"strict", []string{"create table v (a integer primary key, b any) strict"}, []string{"table v"},
			[]string{"native sqlite", "strict"}},
		{"a trigger", []string{"create table v (id integer primary key, a text)",
			"create trigger seen after insert on v begin update v set a = 'x;y' where id = new.id; end"},
			[]string{"trigger seen"}, []string{"native sqlite", "no way back"}},
	} {
		t.Run(c.what, func(t *testing.T) {
			s := read(t, c.statements...)
			text, native, _ := adopt.Migration(s, nil, sqlite.Engine{}, "harbour", false)
			if !slices.Equal(native, c.native) {
				t.Errorf("natively written are %v, wanted %v", native, c.native)
			}
			for _, says := range append(c.says, "-- The tables as they were when harbour came under care") {
				if !strings.Contains(text, says) {
					t.Errorf("it does not say %s:\n%s", says, text)
				}
			}
			f, err := sqltext.Parse("0001-adopted.sql", text)
			if err != nil {
				t.Fatalf("%v\n%s", err, text)
			}
			var made []string
			played := &schema.Schema{}
			for _, st := range f.Statements {
				if n, ok := st.(*sqltext.Native); ok {
					made = append(made, n.SQL)
					continue
				}
				after, change, err := schema.Apply(played, st, sqlite.Engine{}.About().Env(nil))
				if err != nil {
					t.Fatalf("%v\n%s", err, text)
				}
				if x := change.Table; x != nil && x.After != nil {
					*x.After = *sqlite.Engine{}.Holds(x)
				}
				played = after
			}
			for _, table := range played.Tables {
				made = append(made, (sqlite.Engine{}).CreateSQL(table)...)
			}
			for _, v := range played.Views {
				made = append(made, "create view "+v.Name+" as "+v.Query)
			}
			again := read(t, ordered(made)...)
			for _, d := range schema.Compare(s, again, (sqlite.Engine{}).Text) {
				if d.Attribute != "declared type" && d.Attribute != "options" {
					t.Errorf("made again it differs: %v\n%s", d, strings.Join(made, "\n"))
				}
			}
		})
	}
}

// ordered lets tables come before what stands on them.
func ordered(list []string) []string {
	slices.SortStableFunc(list, func(a, b string) int {
		late := func(s string) int {
			if strings.HasPrefix(s, "create table") || strings.HasPrefix(s, "CREATE TABLE") {
				return 0
			}
			return 1
		}
		return late(a) - late(b)
	})
	return list
}
