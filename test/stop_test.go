package test

import (
	"fmt"
	"strings"
	"testing"
)

// TestProofThatFailsInTheMiddle is a migration whose own backfill makes the rows
// that its next statement refuses: it stops, says so, and can be taken back.
func TestProofThatFailsInTheMiddle(t *testing.T) {
	o := bigOffice(t, 4000)
	start := o.snapshot()
	o.migration("0002-change", `-- It stops
backfill vessel set n = 7 where id > 3000;
alter table vessel add constraint few check (n < 4000 or id = 0);
assert (select count(*) from vessel where n = 7) = 0 else 'no vessel may have seven';
`)
	r := o.code(4, "advance", "--yes")
	o.wants(r, "no vessel may have seven", "steps of migration 0002 are done and stay", "goes on from here, retreat",
		" takes it back")
	o.same("select count(*) from vessel where n = 7", "1001")
	o.wants(o.code(0, "status"), "stopped")
	o.wants(o.code(0, "ledger"), "stopped", "no vessel may have seven")
	// The same again: nothing is done twice.
	o.code(4, "advance", "--yes")
	// Another text for a migration in the middle is refused.
	text := o.read("migrations/0002-change.sql")
	o.migration("0002-change", "-- Other\ndrop table vessel;\n")
	o.wants(o.code(3, "advance", "--yes"), "was edited after it ran")
	o.migration("0002-change", text)
	// With the rows put right it goes on.
	o.exec("update vessel set n = 8 where n = 7")
	o.must("advance", "--yes")
	o.same("select count(*) from vessel where n = 8", "1002")
	o.must("retreat", "--to", "1", "--yes")
	// What another program wrote since stays.
	o.same("select count(*) from vessel where n = 8", "1002")
	o.exec("update vessel set n = id where n = 8")
	o.unchanged(start)
}

func TestStoppedThenTakenBack(t *testing.T) {
	o := bigOffice(t, 4000)
	start := o.snapshot()
	o.migration("0002-change", `-- It stops
alter table vessel add a text not null using (name), drop old;
backfill vessel set n = 7 where id > 3000;
assert 1 = 2 else 'never';
`)
	o.wants(o.code(4, "advance", "--yes"), "never")
	o.must("retreat", "--to", "1", "--yes")
	o.unchanged(start)
	o.wants(o.code(0, "status"), "waiting")
}

// TestStoppedGoesBackAsItSays takes back what a run that stopped has added on a live database, as its message
// says: nobody uses that yet, so that no other shape has to be given up.
func TestStoppedGoesBackAsItSays(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table vessel (id integer not null primary key, name varchar(20))",
		"insert into vessel with recursive g (n) as (select 1 union all select n + 1 from g where n < 900) select " +
			"n, 'Selja' from g",
	}, func(t *testing.T, o *office) {
		o.paced("lock_wait = '1ms'\nlock_tries = 300\n")
		start := o.canonical(true)
		o.migration("0002-change", "-- It stops\nalter table vessel add column code varchar(30) using (name);\n"+
			"create table port (id integer not null primary key);\nbackfill vessel set name = upper(name);\n"+
			"assert (select count(*) from port) = 1 else 'never';\n")
		o.wants(o.code(4, "advance", "--yes"), "never", "advance goes on from here, retreat takes it back")
		o.must("retreat", "--to", "1", "--yes", "--let-writers-wait")
		o.isAgain(start)
		o.must("audit")
	})
}

// TestManyMigrationsAtOnce runs several in one go; the one that is refused leaves
// those before it done and those after it waiting.
func TestManyMigrationsAtOnce(t *testing.T) {
	o := adopted(t, pier...)
	for i := 2; i <= 6; i++ {
		o.migration(fmt.Sprintf("%04d-change", i), fmt.Sprintf(
			"-- Change %d\nalter table berth add c%d integer using (id * %d);\n", i, i, i))
	}
	o.migration("0005-change", "-- Bad\nalter table vessel alter berth_id set not null;\n")
	o.wants(o.code(3, "advance", "--yes"), "berth_id is null in 1 row of vessel") // before the first of them
	o.must("advance", "--to", "4", "--yes")
	o.wants(o.code(3, "advance", "--yes"), "berth_id is null in 1 row of vessel")
	if s := o.must("status"); strings.Count(s, "settled") != 4 || strings.Count(s, "waiting") != 2 {
		t.Errorf("wanted 4 settled and 2 waiting: %s", s)
	}
	o.same("select c2, c3, c4 from berth", "2|3|4\n4|6|8")
	o.migration("0005-change", "-- Good\nalter table vessel alter berth_id set not null using (1);\n")
	o.must("advance", "--to", "5", "--yes")
	o.must("advance", "--yes")
	o.must("retreat", "--to", "0003-change", "--yes")
	o.same("select count(*) from pragma_table_info('berth')", "4")
	o.wants(o.code(2, "retreat", "--to", "9"), "no migration 9 has run")
	o.wants(o.code(2, "advance", "--to", "9"), "there is no migration 9")
	if o.code(5, "status", "--waiting").code != 5 {
		t.Error("something waits")
	}
}

func TestAdoptedIsNotTakenBack(t *testing.T) {
	o := adopted(t, pier...)
	before := o.snapshot()
	o.wants(o.code(3, "retreat", "--to", "0", "--yes"), "has no way back")
	o.unchanged(before)
}

// TestCompareShowsWhatChangedSince lists attributes, for people and for programs.
func TestCompareShowsWhatChangedSince(t *testing.T) {
	o := adopted(t, pier...)
	o.migration("0002-change", "-- A change\ncomment on table berth is 'where ships lie';\nalter table berth add "+
		"depth integer not null default 3, rename code to sign;\n")
	o.must("advance", "--yes")
	r := o.code(0, "describe", "--compare", "1")
	o.wants(r, "since 0001-adopted", "column depth", "integer not null default 3", "column sign", "table berth: comment",
		"where ships lie")
	o.wants(o.code(0, "describe", "vessel", "--compare", "0001"), "nothing has changed since")
	o.wants(o.code(0, "describe", "--compare", "0001", "--json"), `"attribute": "exists"`, `"table": "berth"`)
	o.wants(o.code(2, "describe", "--compare", "7"), "the ledger knows no migration 7")
	o.wants(o.code(0, "describe", "named"), "named is a view: select name from vessel")
	o.wants(o.code(0, "describe", "berth"), "where ships lie")
	o.wants(o.code(0, "describe", "vessel"), "needed by", "foreign key visit_vessel_id_reference of table visit")
}

// TestForecastShowsRowsAndStatements is what a person checks the arithmetic with.
func TestForecastShowsRowsAndStatements(t *testing.T) {
	o := adopted(t, pier...)
	before := o.snapshot()
	o.migration("0002-change", "-- Metres\nalter table vessel add length_m numeric(7,2) using (round(length_ft * "+
		"0.3048, 2));\nbackfill vessel set registry = upper(registry) where id < 3;\n")
	r := o.code(0, "forecast", "--rows", "2")
	o.wants(r, "length_ft", "length_m", "20.5", "6.25")
	r = o.code(0, "forecast", "--statements")
	o.wants(r, `alter table "vessel" add column "length_m" numeric(7,2)`, `round("length_ft" * 0.3048, 2)`,
		"lastboard_kept_1")
	o.unchanged(before)
	if rows := o.query("select count(*) from sqlite_schema where name like 'lastboard_kept_%'"); !strings.Contains(rows,
		"0") {
		t.Errorf("a forecast keeps nothing: %s", rows)
	}
}

// TestNativeStatements run as they are, and are taken back as they say.
func TestNativeStatements(t *testing.T) {
	o := adopted(t, pier...)
	start := o.snapshot()
	o.migration("0002-change", `-- A trigger
create table log (id integer primary key, line text not null);
native sqlite $$
  create trigger note_name after update of name on vessel begin
    insert into log (line) values (case when new.name = ';' then 'x' else old.name end);
    insert into log (line) values ('end');
  end;
  create index by_name on vessel (name)
$$ touching vessel back $$ drop index by_name; drop trigger note_name $$;
native postgres $$ select pg_sleep(1) $$ no way back;
alter table vessel add a text;
`)
	o.wants(o.code(0, "check", "--offline"), "nothing is known about table vessel")
	o.must("advance", "--yes")
	o.exec("update vessel set name = 'Gull' where id = 1")
	o.same("select line from log", "Tern\nend")
	o.wants(o.code(0, "describe", "vessel"), "by_name", "note_name")
	o.must("retreat", "--to", "1", "--yes")
	o.exec("update vessel set name = 'Tern' where id = 1")
	o.unchanged(start)
	o.migration("0002-change", "-- One way\nnative sqlite $$create table one_way (a text)$$ touching one_way no way "+
		"back;\n")
	o.must("advance", "--yes")
	o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "has no way back")
}
