package sqlite

import (
	"fmt"
	"lastboard/internal/engine/enginetest"
	"strings"
	"testing"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

const plannedOffice = `
create table berth (id integer primary key, code varchar(8) not null unique);
create table vessel (
  id integer primary key, name text not null, registry text, length_ft numeric(6,1), flag enum('NO', 'DK') default 'NO', berth_id integer,
  label text generated always as (name || '!'), constraint long check (length_ft > 0)
);
create index by_name on vessel (name);
`

// planned gives the steps of the last statement on the office, for a number of rows.
func planned(t *testing.T, statement string, rows int64, live bool) []*engine.Step {
	t.Helper()
	f, err := sqltext.Parse("plan", plannedOffice+statement+";")
	if err != nil {
		t.Fatal(err)
	}
	s := &schema.Schema{}
	var steps []*engine.Step
	for i, st := range f.Statements {
		after, change, err := schema.Apply(s, st, Engine{}.About().Env(nil))
		if err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
		if change.Table != nil && change.Table.After != nil {
			*change.Table.After = *Engine{}.Holds(change.Table)
		}
		if i == len(f.Statements)-1 {
			n := 0
			steps, err = Engine{}.Steps(change, engine.Facts{
				Schema: s, Rows: map[string]int64{"vessel": rows, "berth": 3}, Bytes: map[string]int64{}, Short: 0.2, Live: live,
				Now:       "2031-05-01 10:00:00",
				KeptTable: func() string { n++; return fmt.Sprint("lastboard_kept_", n) },
			})
			if err != nil {
				t.Fatalf("%s: %v", statement, err)
			}
		}
		s = after
	}
	return steps
}

// TestStepsOfEachChange is what each statement becomes: a line for each step, with
// its kind, a star for batches, and the statements that change something.
func TestStepsOfEachChange(t *testing.T) {
	cases := []struct {
		statement string
		rows      int64
		want      string
	}{
		{"alter table vessel add a text", 10, `catalog alter table "vessel" add column "a" text`},
		{"alter table vessel add a integer", 10_000_000, `catalog alter table "vessel" add column "a" integer`},
		{"alter table vessel add a varchar(4) default 'x'", 10,
			`scan alter table "vessel" add column "a" varchar(4) default 'x' constraint "vessel_a_limit" check (length("a") <= 4)`},
		{"alter table vessel add a text using (name)", 10,
			"catalog alter table \"vessel\" add column \"a\" text\nbackfill update \"vessel\" set \"a\" = \"name\""},
		{"alter table vessel add a text using (name)", 1_000_000,
			"catalog alter table \"vessel\" add column \"a\" text\nbackfill* update \"vessel\" set \"a\" = \"name\" where " +
				"{range}"},
		{"alter table vessel add a text not null using (name)", 10,
			"catalog alter table \"vessel\" add column \"a\" text\nbackfill update \"vessel\" set \"a\" = \"name\"\nscan " +
				"alter table \"vessel\" alter column \"a\" set not null"},
		{"alter table vessel rename name to title", 10,
			`catalog alter table "vessel" rename column "name" to "title"; update lastboard_note set object = 'title' where table_name = 'vessel' and object = 'name' and kind = 'comment'`},
		{"alter table vessel rename to ship", 10,
			`catalog alter table "vessel" rename to "ship"; update lastboard_note set table_name = 'ship' where table_name = 'vessel'`},
		{"alter table vessel alter name drop not null", 10, `catalog alter table "vessel" alter column "name" drop not null`},
		{"alter table vessel alter registry set not null", 10,
			"proof\nscan alter table \"vessel\" alter column \"registry\" set not null"},
		{"alter table vessel drop constraint long", 10, `catalog alter table "vessel" drop constraint "long"`},
		{"alter table vessel add constraint c check (berth_id > 0)", 10,
			"proof\nscan alter table \"vessel\" add constraint \"c\" check (\"berth_id\" > 0)"},
		{"alter table vessel rename constraint long to longer", 10,
			"catalog alter table \"vessel\" drop constraint \"long\"\nscan alter table \"vessel\" add constraint " +
				"\"longer\" check (\"length_ft\" > 0)"},
		{"alter table vessel add constraint u unique (name)", 10,
			"proof\nbuild create unique index \"u\" on \"vessel\" (\"name\"); insert or replace into lastboard_note " +
				"(table_name, object, kind, text) values ('vessel', 'u', 'unique', 'constraint')"},
		{"create index i on vessel (registry desc) where registry is not null", 10,
			`build create index "i" on "vessel" ("registry" desc) where "registry" is not null`},
		{"drop index by_name on vessel", 10, `catalog drop index "by_name"`},
		{"alter index by_name on vessel rename to named", 10,
			"catalog drop index \"by_name\"\nbuild create index \"named\" on \"vessel\" (\"name\")"},
		{"alter table vessel alter flag set data type enum('NO', 'DK', 'IS')", 10,
			"catalog alter table \"vessel\" drop constraint \"vessel_flag_limit\"\nscan alter table \"vessel\" add " +
				"constraint \"vessel_flag_limit\" check (\"flag\" in ('NO', 'DK', 'IS'))"},
		{"comment on column vessel.flag is 'its flag'", 10,
			`catalog insert or replace into lastboard_note (table_name, object, kind, text) values ('vessel', 'flag', 'comment', 'its flag')`},
		{"alter table vessel alter flag set default 'DK'", 10, "rebuild"},
		{"alter table vessel alter length_ft set data type numeric(9,1)", 10, "rebuild"},
		{"alter table vessel add constraint f foreign key (berth_id) references berth", 10, "proof\nrebuild"},
		{"alter table vessel add a text generated always as (upper(name)) stored", 10, "rebuild"},
		{"alter table vessel add a text generated always as (upper(name))", 10,
			`scan alter table "vessel" add column "a" text generated always as (upper("name"))`},
		{"alter table vessel add a text first rebuild", 10, "rebuild"},
		{"alter table vessel add a text first", 10, `catalog alter table "vessel" add column "a" text`},
		{"alter table vessel rebuild", 10, "rebuild"},
		{"backfill vessel set registry = 'x' discard", 10, `backfill update "vessel" set "registry" = 'x'`},
		{"backfill vessel set registry = 'x' where id > 5 discard", 1_000_000,
			`backfill* update "vessel" set "registry" = 'x' where {range} and ("id" > 5)`},
		{"backfill vessel set registry = b.code from berth as b on (berth_id = b.id) discard", 10,
			"proof\nbackfill update \"vessel\" set \"registry\" = \"b\".\"code\" from \"berth\" as \"b\" where " +
				"\"vessel\".\"berth_id\" = \"b\".\"id\""},
		{"delete from vessel where id = 3 discard", 10, `backfill delete from "vessel" where ("id" = 3)`},
		{"assert (select count(*) from vessel) > 0", 10, "proof"},
		{"create view v as select 1", 10, `catalog create view "v" as select 1`},
	}
	for _, c := range cases {
		if got := shown(planned(t, c.statement, c.rows, false)); got != c.want {
			t.Errorf("%s, %d rows: wanted\n%s\ngot\n%s", c.statement, c.rows, c.want, got)
		}
	}
}

// shown writes a line for each step; of a copy of the table only that it is one.
func shown(steps []*engine.Step) string {
	var lines []string
	for _, s := range steps {
		line := string(s.Kind)
		sql := s.SQL
		if s.Batch != nil {
			line, sql = line+"*", s.Batch.Do
		}
		var kept []string
		for _, q := range sql {
			if !strings.HasPrefix(q, "explain ") && !strings.HasPrefix(q, "delete from lastboard_note") && s.Proof == nil &&
				s.Kind != engine.Rebuild {
				kept = append(kept, engine.Shown(q))
			}
		}
		lines = append(lines, strings.TrimSpace(line+" "+strings.Join(kept, "; ")))
	}
	return strings.Join(lines, "\n")
}

// TestTheCopyOfATable is every statement of a copy, in its order.
func TestTheCopyOfATable(t *testing.T) {
	steps := planned(t, "alter table vessel alter length_ft set default 10, drop constraint long", 10, false)
	want := []string{
		`create table "lastboard_rebuild" (`,
		`insert into lastboard_rebuild ("id", "name", "registry", "length_ft", "flag", "berth_id") select "id", "name", "registry", "length_ft", "flag", "berth_id" from "vessel" order by "id"`,
		`select 'the copy has '`, "pragma legacy_alter_table = on", `drop table "vessel"`,
		`alter table lastboard_rebuild rename to "vessel"`, "pragma legacy_alter_table = off",
		`create index "by_name" on "vessel" ("name")`,
	}
	if len(steps) != 1 || len(steps[0].SQL) != len(want) {
		t.Fatalf("got %d steps: %s", len(steps), strings.Join(steps[0].SQL, "\n"))
	}
	for i, w := range want {
		if !strings.HasPrefix(steps[0].SQL[i], w) {
			t.Errorf("statement %d: wanted %s, got %s", i+1, w, steps[0].SQL[i])
		}
	}
	if s := steps[0]; !s.ForeignKeysOff || !s.Rewrites || s.Rows != 10 {
		t.Errorf("got %+v", s)
	}
}

// TestThePlanIsPure is that the same statement on the same tables gives the same
// steps, and changes neither.
func TestThePlanIsPure(t *testing.T) {
	for _, statement := range []string{
		"alter table vessel drop registry, alter length_ft set data type integer using (round(length_ft)), add a text " +
			"not null using (name), add constraint u unique (a)",
		"backfill vessel set registry = b.code from berth as b on (berth_id = b.id)", "delete from vessel where id = 3",
		"insert into berth (id, code) values (9, 'Z')",
	} {
		first, second := planned(t, statement, 1_000_000, true), planned(t, statement, 1_000_000, true)
		for i := range first {
			a, b := fmt.Sprintf("%+v", *first[i]), fmt.Sprintf("%+v", *second[i])
			if first[i].Batch == nil && first[i].Proof == nil && len(first[i].Keeps) == 0 && a != b {
				t.Errorf("%s: step %d differs:\n%s\n%s", statement, i+1, a, b)
			}
			if shown(first[i:i+1]) != shown(second[i:i+1]) {
				t.Errorf("%s: step %d differs", statement, i+1)
			}
		}
	}
}

// TestWritersWait is what the forecast says of waiting, by the size of the table.
func TestWritersWait(t *testing.T) {
	cases := []struct {
		statement string
		rows      int64
		want      string
	}{
		{"alter table vessel add a text", 10_000_000, "briefly"},
		{"alter table vessel add a boolean default true", 1000, "briefly"},
		{"alter table vessel add a boolean default true", 10_000_000, "throughout"},
		{"create index i on vessel (registry)", 10_000_000, "throughout"},
		{"alter table vessel rebuild", 1000, "briefly"},
		{"alter table vessel rebuild", 10_000_000, "throughout"},
		{"backfill vessel set registry = 'x' discard", 10_000_000, "briefly"},
		{"assert true", 10_000_000, "no"},
	}
	for _, c := range cases {
		steps := planned(t, c.statement, c.rows, true)
		if got := steps[len(steps)-1].WritersWait; got != c.want {
			t.Errorf("%s on %d rows: wanted %s, got %s", c.statement, c.rows, c.want, got)
		}
	}
}

func TestNamesStayNames(t *testing.T) { enginetest.NamesStayNames(t, Engine{}, "") }
