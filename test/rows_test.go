package test

import (
	"encoding/json"
	"strings"
	"testing"
)

// pier is a small office: rows with a null, a duplicate, an orphan and a text
// that is no number.
var pier = []string{
	"create table berth (id integer primary key, code text)",
	"insert into berth values (1, 'A1'), (2, 'A2')",
	"create table vessel (id integer primary key, name text not null, registry text, berth_id integer, length_ft " +
		"numeric(6,1))",
	"insert into vessel values (1, 'Tern', 'SKR 12', 1, 20.5), (2, 'Skua', 'SKR 12', 7, null), (3, 'Ember', 'SKR', " +
		"null, 31)",
	"create view named as select name from vessel",
	"create trigger log_berth after update of berth_id on vessel begin select new.registry; end",
	"create table visit (id integer primary key, vessel_id integer references vessel on delete cascade, note text)",
	"insert into visit values (1, 1, 'first'), (2, 2, null)",
}

// TestWhatRowsRefuse is what existing rows and dependants forbid: each is refused
// with its rule, count and sample keys before anything is touched.
func TestWhatRowsRefuse(t *testing.T) {
	beside(t)
	cases := []struct{ name, statement, rule, says string }{
		{"not null without a value", "alter table vessel add a integer not null", "rows-need-value",
			"table vessel has 3 rows"},
		{"using gives null", "alter table vessel add a numeric(6,1) not null using (length_ft * 2)", "rows-would-break",
			"cannot hold what 1 row of vessel would get"},
		{"using does not fit", "alter table vessel add a varchar(3) using (name)", "rows-would-break",
			"column a (varchar(3)) cannot hold what 3 rows of vessel would get"},
		{"using cannot be cast", "alter table vessel add a integer using (cast(registry as integer))", "rows-would-break",
			"the text for column a is no number in 3 rows of vessel"},
		{"duplicates", "alter table vessel add constraint u unique (registry)", "rows-would-break",
			"constraint u allows each registry once, and 2 rows of vessel"},
		{"duplicates of a unique column", "alter table vessel add a text unique using (substring(registry from 1 for 3))",
			"rows-would-break", "'SKR' '3 times'"},
		{"unique index", "create unique index i on vessel ((lower(registry)))", "rows-would-break", "2 rows"},
		{"nulls", "alter table vessel alter berth_id set not null", "rows-would-break",
			"berth_id is null in 1 row of vessel"},
		{"nulls that using leaves", "alter table vessel alter length_ft set not null using (berth_id - 7 + nullif(0, 0))",
			"rows-would-break", "1 row of vessel"},
		{"check", "alter table vessel add constraint c check (length_ft < 30)", "rows-would-break",
			"check (length_ft < 30) fails for 1 row of vessel"},
		{"check over an added column", "alter table vessel add a integer using (id * 10), add constraint c check (a < 30)",
			"rows-would-break", "check (a < 30) fails"},
		{"orphans", "alter table vessel add constraint f foreign key (berth_id) references berth", "rows-would-break", "2 7"},
		{"orphans of an added column", "alter table vessel add b integer references berth using (id)", "rows-would-break",
			"3"},
		{"backfill against a check", "backfill vessel set name = null", "rows-would-break", "3 rows"},
		{"backfill of a generated key", "backfill vessel set id = id + 1", "key-set", "part of the key"},
		{"drop what a view uses", "alter table vessel drop name", "name-in-use", "view named"},
		{"drop what a trigger fires on", "alter table vessel drop berth_id", "name-in-use", "trigger log_berth"},
		{"drop what a trigger reads", "alter table vessel drop registry", "name-in-use", "trigger log_berth"},
		{"drop what is referred to", "drop table vessel", "name-in-use",
			"foreign key visit_vessel_id_reference of table visit"},
		{"drop a key", "alter table vessel drop id", "name-in-use", "the primary key"},
		{"unknown table", "alter table vesel drop name", "name-unknown", "did you mean vessel?"},
		{"unknown column", "alter table vessel drop nme", "name-unknown", "did you mean name?"},
		{"unknown name in an expression", "alter table vessel add a text using (nam || '!')", "name-unknown",
			"did you mean name?"},
		{"a name for a string", `backfill vessel set name = "Tern"`, "name-unknown", "a string stands between single quotes"},
		{"column twice", "alter table vessel add NAME text", "name-taken", "has a column name already"},
		{"table twice", "create table berth (id integer)", "name-taken", "there is a table berth already"},
		{"not steady", "alter table vessel add a timestamp generated always as (current_timestamp)", "expression-not-steady",
			"gives another result each time"},
		{"default reads the row", "alter table vessel add a text default (name)", "default-reads-row", "cannot read the row"},
		{"refers to no key", "alter table vessel add a text references berth (code)", "reference-not-unique",
			"no row can refer to it"},
		{"assertion", "assert (select count(*) from vessel) = 4 else 'four vessels were expected'", "assertion-fails",
			"four vessels were expected"},
		{"a view that reads nothing", "create view v as select nosuch from vessel", "engine-refuses", "no such column"},
		{"months", "alter table vessel add a date using (date '2031-01-31' + interval '1' month)", "engine-refuses",
			"another date on each engine"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			o := adopted(t, pier...)
			o.migration("0002-change", "-- It must not run\n"+c.statement+";\n")
			before := o.snapshot()
			// The check finds it with its rule, and advance refuses it.
			o.wants(o.code(3, "check"), c.rule, c.says)
			o.wants(o.code(3, "advance", "--yes"), c.says)
			o.unchanged(before)
			if s := o.must("status"); !strings.Contains(s, "waiting") {
				t.Errorf("wanted the migration to wait: %s", s)
			}
		})
	}
}

// TestWhatRowsGet is what a statement gives to existing rows, and that the
// way back gives them what they had.
func TestWhatRowsGet(t *testing.T) {
	beside(t)
	cases := []struct{ name, statement, query, want string }{
		{"nothing", "alter table vessel add a text", "select a is null from vessel", "1\n1\n1"},
		{"a default", "alter table vessel add a integer not null default 7", "select a from vessel", "7\n7\n7"},
		{"the migration's time", "alter table vessel add a timestamp not null default current_timestamp",
			"select count(distinct a), count(a) from vessel", "1|3"},
		{"an expression", "alter table vessel add a varchar(20) not null using (upper(name) || '-' || cast(id as " +
			"varchar(4)))", "select a from vessel", "TERN-1\nSKUA-2\nEMBER-3"},
		{"an expression, then the default for new rows",
			"alter table vessel add a integer not null default 5 using (id * 2); native sqlite $$insert into vessel (id, " +
				"name) values (9, 'New')$$ touching vessel back $$delete from vessel where id = 9$$",
			"select a from vessel", "2\n4\n6\n5"},
		{"a generated value", "alter table vessel add a text generated always as (name || '!')", "select a from vessel",
			"Tern!\nSkua!\nEmber!"},
		{"a stored generated value", "alter table vessel add a integer generated always as (id * 3) stored",
			"select a from vessel", "3\n6\n9"},
		{"a value for nulls alone", "alter table vessel alter berth_id set not null using (2)", "select berth_id from vessel",
			"1\n7\n2"},
		{"a default for new rows alone", "alter table vessel alter berth_id set default 2", "select berth_id from vessel",
			"1\n7\nnull"},
		{"a backfill", "backfill vessel set registry = 'SKR 0', berth_id = 1 where position(' ' in registry) = 0",
			"select registry, berth_id from vessel", "SKR 12|1\nSKR 12|7\nSKR 0|1"},
		{"a backfill that reads its own", "backfill vessel set length_ft = (select max(length_ft) from vessel)",
			"select length_ft from vessel", "31\n31\n31"},
		{"values of a column whose columns are renamed",
			"alter table vessel rename registry to papers, add a text using (registry || '!')",
			"select papers, a from vessel where id = 1", "SKR 12|SKR 12!"},
		{"nothing of a dropped column", "drop view named; alter table vessel drop length_ft",
			"select count(*) from pragma_table_info('vessel')", "4"},
		{"a reference with cascade", "backfill vessel set berth_id = 1 where berth_id = 7; alter table vessel add " +
			"constraint f foreign key (berth_id) references berth on delete cascade",
			"select count(*) from pragma_foreign_key_list('vessel')", "1"},
		{"whole division, and none", "alter table vessel add a real using (id / 2), add b real using (length_ft / 2)",
			"select a, b from vessel where id = 3", "1|15.5"},
		{"an enum", "alter table vessel add a enum('in', 'out') not null default 'out'", "select a from vessel",
			"out\nout\nout"},
		{"a dropped table's absence", "drop table visit", "select count(*) from sqlite_schema where name = 'visit'", "0"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) { thereAndBack(t, pier, c.statement, c.query, c.want) })
	}
}

// thereAndBack runs a migration on an office, asserts what a query gives then, takes it
// back to the start, and runs it again to the same end.
func thereAndBack(t *testing.T, office []string, statement, query, want string) {
	t.Helper()
	o := adopted(t, office...)
	start := o.snapshot()
	o.migration("0002-change", "-- A change\n"+statement+";\n")
	o.must("advance", "--yes")
	o.same(query, want)
	end := o.snapshot()
	o.must("retreat", "--to", "1", "--yes")
	o.unchanged(start)
	o.must("advance", "--yes")
	if !strings.Contains(statement, "current_timestamp") && !strings.Contains(statement, "identity") {
		o.unchanged(end) // a clock goes on, and so do numbers
	}
}

// TestWhatApplicationsWroteSince is that a retreat puts a kept value back only
// where the row still holds what the migration wrote, and that advancing again
// brings back what applications had written into the taken-back column.
func TestWhatApplicationsWroteSince(t *testing.T) {
	o := adopted(t, pier...)
	o.migration("0002-change", `-- A change
drop view named;
backfill vessel set registry = upper(registry || '!');
alter table vessel add a text using (name), drop length_ft restore using (id + 0.5);
`)
	o.must("advance", "--yes")
	o.exec("update vessel set registry = 'mine', a = 'mine' where id = 1", "delete from vessel where id = 3",
		"insert into vessel (id, name, registry) values (4, 'Late', 'SKR 99')")
	o.must("retreat", "--to", "1", "--yes")
	o.same("select id, registry, length_ft from vessel order by id", "1|mine|20.5\n2|SKR 12|null\n4|SKR 99|4.5")
	o.must("advance", "--yes")
	// The late row had nothing in the column, and has nothing again.
	o.same("select id, a from vessel order by id", "1|mine\n2|Skua\n4|null")
}

// TestRetreatThatCannotFillNotNull is refused with the rows it has nothing for.
func TestRetreatThatCannotFillNotNull(t *testing.T) {
	o := adopted(t, "create table berth (id integer primary key, code text not null)", "insert into berth values (1, 'A')")
	o.migration("0002-change", "-- A change\nalter table berth drop code;\n")
	o.must("advance", "--yes")
	o.exec("insert into berth (id) values (2)")
	before := o.snapshot()
	o.wants(o.code(3, "retreat", "--to", "1", "--yes"),
		"column code (text not null) cannot hold what 1 row of berth would get", "2 null")
	o.unchanged(before)
}

func TestJSONIsWhatScriptsRelyOn(t *testing.T) {
	o := adopted(t, pier...)
	o.migration("0002-change", "-- Papers\nalter table vessel add a integer not null default 1, add b text using "+
		"(name);\n")
	shape := func(want string, args ...string) {
		t.Helper()
		var doc any
		out := strings.TrimSpace(o.must(args...))
		if i := strings.LastIndexByte(out, '\n'); args[0] == "advance" && i > 0 {
			out = out[i+1:] // one object a line, the result last
		}
		if err := json.Unmarshal([]byte(out), &doc); err != nil {
			t.Fatalf("%v: %v\n%s", args, err, out)
		}
		for path := range strings.SplitSeq(want, " ") {
			if !has(doc, strings.Split(path, ".")) {
				t.Errorf("%v: %s is missing in %s", args, path, out)
			}
		}
	}
	shape("database.name database.engine database.engine_version database.live migrations.version migrations.name "+
		"migrations.title migrations.state migrations.checksum migrations.advanced_at migrations.settled_at", "status",
		"--json")
	shape("database.name tables.name tables.comment tables.rows tables.columns.name tables.columns.type "+
		"tables.columns.nullable tables.columns.default tables.columns.generated tables.columns.identity "+
		"tables.columns.on_update_now tables.columns.comment tables.primary_key tables.unique tables.checks "+
		"tables.foreign_keys tables.indexes tables.triggers tables.views", "describe", "--json")
	shape("database.name migrations.version migrations.steps.number migrations.steps.stage migrations.steps.kind "+
		"migrations.steps.table migrations.steps.what migrations.steps.sql migrations.steps.lock "+
		"migrations.steps.rewrites migrations.steps.writers_wait migrations.steps.rows migrations.steps.bytes "+
		"migrations.steps.seconds", "forecast", "--json")
	shape("findings", "check", "--json")
	shape("result.outcome result.migrations.version result.migrations.state result.errors", "advance", "--yes", "--json")
	shape("entries.at entries.version entries.what entries.by entries.host entries.seconds entries.rows", "ledger",
		"--json")
	o.migration("0003-bad", "-- Bad\nalter table vessel drop id;\n")
	r := o.code(3, "advance", "--yes", "--json")
	o.wants(r, `"outcome":"refused"`, `"cure":"drop what needs it first`)
}

// has reports whether a document has a path; a list has it if its first item does.
func has(doc any, path []string) bool {
	if list, ok := doc.([]any); ok && len(path) > 0 {
		return len(list) > 0 && has(list[0], path)
	}
	if len(path) == 0 {
		return true
	}
	m, ok := doc.(map[string]any)
	if !ok {
		return false
	}
	v, ok := m[path[0]]
	return ok && has(v, path[1:])
}

// TestKeptValuesFollowTheirRows is that a row which has the number of one that was
// deleted does not inherit what was kept of that, whatever was kept and however the
// table was changed since.
func TestKeptValuesFollowTheirRows(t *testing.T) {
	beside(t)
	cases := []struct{ name, statement, query, want string }{
		{"a dropped column", "drop view named; alter table vessel drop length_ft",
			"select id, length_ft from vessel order by id", "1|20.5\n2|null\n3|null\n9|null"},
		{"a dropped column, by copying", "drop view named; alter table vessel drop length_ft, alter name set default 'x'",
			"select id, length_ft from vessel order by id", "1|20.5\n2|null\n3|null\n9|null"},
		{"a dropped column, and a copy later", "drop view named; alter table vessel drop length_ft; alter table vessel " +
			"rebuild", "select id, length_ft from vessel order by id", "1|20.5\n2|null\n3|null\n9|null"},
		{"another type", "alter table vessel alter registry set data type varchar(9) using ('same')",
			"select id, registry from vessel order by id", "1|SKR 12\n2|SKR 12\n3|null\n9|null"},
		{"a backfill", "backfill vessel set registry = 'same'", "select id, registry from vessel order by id",
			"1|SKR 12\n2|SKR 12\n3|same\n9|same"},
		{"filled nulls", "alter table vessel alter berth_id set not null using (2)",
			"select id, berth_id from vessel order by id", "1|1\n2|7\n3|2\n9|2"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			o := adopted(t, pier...)
			o.migration("0002-change", "-- A change\n"+c.statement+";\n")
			o.must("advance", "--yes")
			row := "insert into vessel (id, name, registry, berth_id) values (3, 'New', 'same', 2)"
			o.exec("delete from vessel where id = 3", row, strings.Replace(row, "3", "8", 1),
				"update vessel set id = 9 where id = 8")
			o.must("retreat", "--to", "1", "--yes")
			o.same(c.query, c.want)
			o.same("select count(*) from sqlite_schema where type = 'table' and name glob 'lastboard_kept_[0-9]' and name "+
				"not in (select kept_table from lastboard_kept)", "0")
		})
	}
}
