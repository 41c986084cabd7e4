package describe_test

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"lastboard/internal/core/describe"
	"lastboard/internal/engine"
	"lastboard/internal/engine/sqlite"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// office is a database with tables that use each other.
func office(t *testing.T) (engine.Database, *schema.Schema) {
	t.Helper()
	db, err := sqlite.Engine{}.Open(t.Context(), "sqlite:"+filepath.Join(t.TempDir(), "harbour.db"), engine.Create)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	for _, sql := range []string{
		"create table berth (id integer primary key, code text)",
		"create table vessel (id integer primary key, name text, berth_id integer constraint moored references berth (id))",
		"create table log (line text)", "create view named as select name from vessel",
		`create view "of both" as select * from vessel join berth on berth.id = berth_id`,
		"create view other as select 'vessel' as text",
		"create trigger noted after insert on berth begin insert into log values ('a berth'); end",
		"create trigger own after insert on vessel begin update vessel set name = trim(name); end",
		"insert into berth values (1, 'A'), (2, null), (3, null)",
		"insert into vessel values (1, 'Tern', 1), (2, null, null)",
	} {
		if err := db.Exec(t.Context(), sql); err != nil {
			t.Fatalf("%s: %v", sql, err)
		}
	}
	s, err := db.Schema(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return db, s
}

func TestOneTable(t *testing.T) {
	db, s := office(t)
	for _, c := range []struct {
		table    string
		rows     int64
		nulls    []int64
		needed   string
		readable string
	}{
		{"berth", 3, []int64{0, 2}, "foreign key moored of table vessel, view of both", "of both"},
		{"vessel", 2, []int64{0, 1, 1}, "view named, view of both", "named, of both"},
		{"log", 3, []int64{0}, "trigger noted of table berth", ""},
	} {
		d, err := describe.One(t.Context(), db, s, s.Table(c.table))
		if err != nil {
			t.Fatal(err)
		}
		slices.Sort(d.NeededBy)
		slices.Sort(d.Views)
		if d.Rows != c.rows || !slices.Equal(d.Nulls, c.nulls) || strings.Join(d.NeededBy, ", ") != c.needed ||
			strings.Join(d.Views, ", ") != c.readable || d.Bytes <= 0 || d.Past {
			t.Errorf("%s is %+v, wanted %+v", c.table, d, c)
		}
	}
}

func TestAllTables(t *testing.T) {
	db, s := office(t)
	list, err := describe.Tables(t.Context(), db, s)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, d := range list {
		got = append(got, d.Table.Name)
		if d.Nulls != nil {
			t.Errorf("the nulls of %s were counted", d.Table.Name)
		}
	}
	if strings.Join(got, " ") != "berth log vessel" && strings.Join(got, " ") != "berth vessel log" {
		t.Errorf("got %v", got)
	}
	if d := describe.Then(s, s.Table("vessel")); !d.Past || d.Rows != 0 || len(d.NeededBy) != 2 {
		t.Errorf("of the past it is %+v", d)
	}
}

func TestWhatTypesCanHold(t *testing.T) {
	for typ, want := range map[string]string{
		"smallint": "-32,768 to 32,767", "smallint unsigned": "0 to 65,535", "integer": "±2,147 million",
		"bigint unsigned": "0 to 9.2 × 10^18", "numeric(6,2)": "up to ±9999.99", "numeric(3,3)": "up to ±0.999",
		"numeric(5)": "up to ±99999",
		"numeric":    "", "varchar(8)": "up to 8 characters", "varbinary(3)": "up to 3 bytes", "text": "", "boolean": "",
		"date": "",
	} {
		f, err := sqltext.Parse("", "create table t (c "+typ+");")
		if err != nil {
			t.Fatalf("%s: %v", typ, err)
		}
		s, _, err := schema.Apply(&schema.Schema{}, f.Statements[0], sqlite.Engine{}.About().Env(nil))
		if err != nil {
			t.Fatalf("%s: %v", typ, err)
		}
		if got := describe.Range(s.Table("t").Column("c").Type); got != want {
			t.Errorf("%s holds %q, wanted %q", typ, got, want)
		}
	}
}

// A type that nothing enforces is said.
func TestWhatNothingEnforces(t *testing.T) {
	db, _ := office(t)
	if err := db.Exec(t.Context(), "create table loose (id integer primary key, n integer, c varchar(3), d "+
		"numeric(4,1) check (typeof(d) = 'x'), s text)"); err != nil {
		t.Fatal(err)
	}
	s, err := db.Schema(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if got := describe.Unenforced(s.Table("loose"), sqlite.Engine{}); !slices.Equal(got, []string{"n", "c", "d"}) &&
		!slices.Contains(got, "c") {
		t.Errorf("got %v", got)
	}
}
