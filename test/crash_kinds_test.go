package test

import (
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"lastboard/internal/engine"
)

// wide is an office whose tables are large enough for batches, and whose writers may
// not wait at all: whatever can run in batches does.
func wide(t *testing.T, more ...string) *office {
	t.Helper()
	o := adopted(t, append(more,
		"create table berth (id integer primary key, code text not null)",
		"insert into berth select value, 'B' || value from (with recursive s(value) as (select 1 union all select value "+
			"+ 1 from s where value < 40) select value from s)",
		"create table vessel (id integer primary key, name text not null, length_ft numeric(6,1), berth_id integer, "+
			"flag text)",
		"insert into vessel select value, 'vessel ' || value, value / 10.0, value % 40 + 1, case when value % 7 = 0 "+
			"then null else 'NO' end from (with recursive s(value) as (select 1 union all select value + 1 from s where "+
			"value < 3000) select value from s)",
		"create index by_name on vessel (name)", "create view named as select name from vessel",
	)...)
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = "+
		"'sqlite:harbour.db'\n[databases.dev.pace]\nlock_wait = '1ns'\nbatch_time = '1ms'\n")
	o.write("migrations/flags.csv", csvOfFlags())
	return o
}

func csvOfFlags() string {
	var b strings.Builder
	b.WriteString("vessel,flag\n")
	for i := range 3000 {
		fmt.Fprintf(&b, "%d,F%d\n", i+1, i%9)
	}
	return b.String()
}

// killing is a kind of change, with what its end is told by.
type killing struct{ name, statement, query, want string }

// killings are the kinds of change that a kill may come into, each with what has to be
// there in the end.
var killings = []killing{
	{"another type", "alter table vessel alter length_ft set data type integer using (round(length_ft)), rename " +
		"length_ft to length", "select sum(length), count(*) from vessel", "450300|3000"},
	{"a copy, then a fill", "alter table vessel alter flag set default 'DK'; alter table vessel alter flag set not " +
		"null using ('IS')", "select count(*) from vessel where flag = 'IS'", "428"},
	{"a fill from another table", "backfill vessel set flag = b.code from berth as b on (berth_id = b.id)",
		"select count(distinct flag), count(*) from vessel", "40|3000"},
	{"a fill from a file", "backfill vessel set flag = f.flag from csv 'flags.csv' as f on (id = f.vessel)",
		"select count(distinct flag) from vessel", "9"},
	{"rows that go", "delete from vessel where id > 1000", "select count(*) from vessel", "1000"},
	{"rows that come", "insert into berth (id, code) values (100, 'X'), (101, 'Y'); insert into berth (id, code) " +
		"select id + 200, code from berth", "select count(*) from berth", "84"},
	{"a table that goes", "drop view named; drop table vessel", "select count(*) from sqlite_schema where name = 'vessel'",
		"0"},
	{"another name", "alter table vessel rename to ship; backfill ship set flag = 'same'; alter table ship rename " +
		"name to title", "select count(distinct flag), count(title) from ship", "1|3000"},
	{"a time of update", "alter table vessel add seen timestamp on update current_timestamp; backfill vessel set " +
		"flag = 'same'", "select count(seen), count(distinct flag) from vessel", "0|1"},
	{"a computed column", "alter table vessel add label text generated always as (upper(name)) stored, add " +
		"constraint long check (length_ft > 0)", "select count(label) from vessel", "3000"},
}

// TestEachKindOfChangeIsKilled kills a run of each kind at points of its way, forward
// and back: going on ends where an undisturbed run ends, taking it back where it
// began, and nothing is left behind.
func TestEachKindOfChangeIsKilled(t *testing.T) {
	beside(t)
	points := []string{"statement:1", "statement:3", "statement:8", "after-step:2", "before-commit:1", "before-commit:2",
		"after-commit:1", "batch-statement:2", "batch-before-commit:2", "batch-committed:1"}
	var killed atomic.Int32
	t.Run("kinds", func(t *testing.T) {
		for i, k := range killings {
			if !itsTurn(i, 4) {
				continue
			}
			t.Run(k.name, func(t *testing.T) {
				o := wide(t)
				o.migration("0002-change", "-- A change\n"+k.statement+";\n")
				start := o.snapshot()
				o.must("advance", "--yes")
				end := o.snapshot()
				o.must("retreat", "--to", "1", "--yes")
				o.unchanged(start)
				for i, point := range points {
					o.env = []string{"LASTBOARD_FAULT=" + point}
					if o.run("advance", "--yes").killed {
						killed.Add(1)
					}
					o.env = nil
					if i%2 == 0 {
						o.must("advance", "--yes")
						o.same(k.query, k.want)
						o.unchanged(end)
					}
					o.env = []string{"LASTBOARD_FAULT=" + point}
					if o.run("retreat", "--to", "1", "--yes").killed {
						killed.Add(1)
					}
					o.env = nil
					o.must("retreat", "--to", "1", "--yes")
					o.unchanged(start)
					if t.Failed() {
						t.Fatalf("after a kill at %s", point)
					}
				}
				o.must("advance", "--yes")
				o.same(k.query, k.want)
				o.wants(o.code(0, "audit"), "matches:")
			})
		}
	})
	t.Logf("%d kills", killed.Load())
	if n := killed.Load(); n < 15 {
		t.Errorf("only %d runs were killed: the test has lost its aim", n)
	}
}

// TestEveryKindOfStepIsInTheMatrix is that the changes that faults come into, and those
// beside which applications write, have every kind of step that there is, on each engine.
func TestEveryKindOfStepIsInTheMatrix(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, everywhere) {
		t.Run(name, func(t *testing.T) {
			var o *office
			switch name {
			case "SQLite":
				o = wide(t)
			case "PostgreSQL":
				o = wideServer(t)
			default:
				o = wideMariaDB(t)
			}
			var statements []string
			for _, k := range hazardous[name] {
				if name == "SQLite" || !strings.Contains(k.query, "sqlite_schema") {
					statements = append(statements, k.statement)
				}
			}
			o.hasEveryKind("in the matrix of faults", lacks[name], statements)
			o, statements = interleavedOffice(t, name, nil), nil
			f := &convoy{office: o, engine: name, ships: map[int]*ship{}}
			f.begin(interleavedKinds[0])
			for _, k := range interleavedKinds {
				statements = append(statements, k.statement)
			}
			o.hasEveryKind("beside applications", lacks[name], statements)
		})
	}
}

// hasEveryKind asserts that changes together have every kind of step, but those that the
// engine lacks.
func (o *office) hasEveryKind(where string, lacks []engine.Kind, statements []string) {
	o.Helper()
	seen := map[engine.Kind]bool{}
	for _, s := range statements {
		o.migration("0002-change", "-- A change\n"+s+";\n")
		for _, step := range o.forecast() {
			seen[engine.Kind(step.Kind)] = true
		}
	}
	for _, k := range engine.Kinds {
		if has := !slices.Contains(lacks, k); seen[k] != has {
			o.Errorf("%s: %s %v, on the engine %v", k, where, seen[k], has)
		}
	}
}
