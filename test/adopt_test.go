package test

import (
	"strings"
	"testing"
)

// oldDatabases are tables as programs have made them over the years.
var oldDatabases = map[string][]string{
	"an office": pier,
	"plain types": {
		"CREATE TABLE Ship (Id INTEGER PRIMARY KEY AUTOINCREMENT, Name NVARCHAR(40) NOT NULL, Built DATETIME, Crew INT " +
			"DEFAULT (0), Active BOOL DEFAULT 1, Rate DOUBLE DEFAULT -1.5, Code CHARACTER VARYING(8) DEFAULT 'x''y')",
		"CREATE UNIQUE INDEX ShipName ON Ship (Name COLLATE NOCASE)",
	},
	"what only SQLite has": {
		"create table log (at text primary key on conflict ignore, line text collate rtrim) without rowid",
		"create table exact (id integer primary key, n any) strict",
		"create virtual table notes using fts5(body)",
		"create trigger keep before delete on log begin select raise(abort, 'the log is kept'); end",
		"create view both as select at as x from log union select id from exact",
		"create trigger through instead of insert on " +
			"both begin insert into log (at) values (new.x); end",
	},
	"keys that refer in a circle": {
		"create table a (id integer primary key, b_id integer references b deferrable initially deferred)",
		"create table b (id integer primary key, a_id integer references a (id) on delete cascade on update set null)",
	},
	"computed": {
		"create table calls (id integer primary key, came text, went text, hours real generated always as " +
			"((julianday(went) - julianday(came)) * 24) virtual, label as (id || '/' || came) stored, check (went is null " +
			"or went >= came))",
		"create index by_day on calls (substr(came, 1, 10), id desc) where went is not null",
	},
	"names": {`create table "select" ("from" integer primary key, "a b" text, "q""q" text, [br] text, größe real)`,
		`create view "order" as select "a b" from "select"`},
}

// TestAdoptedTablesCanBeMadeAgain is that the migration that adopt writes makes
// the same tables in an empty database, and that adopting touched nothing.
func TestAdoptedTablesCanBeMadeAgain(t *testing.T) {
	beside(t)
	for name, statements := range oldDatabases {
		t.Run(name, func(t *testing.T) {
			o := newOffice(t, statements...)
			before := o.snapshot()
			o.must("adopt", "--yes")
			o.unchanged(before)
			o.wants(o.code(0, "check", "--offline"))
			fresh := &office{T: t, dir: t.TempDir()}
			fresh.must("init", "--url", "sqlite:harbour.db")
			fresh.migration("0001-adopted", o.read("migrations/0001-adopted.sql"))
			fresh.must("advance", "--yes")
			if a, b := tablesOf(o), tablesOf(fresh); a != b {
				t.Errorf("the tables made again differ: %s\n%s", firstDifference(a, b), o.read("migrations/0001-adopted.sql"))
			}
			o.isCanonical()
			if strings.Contains(o.read("migrations/0001-adopted.sql"), "no way back") { // nothing of it is dropped
				before = fresh.snapshot()
				fresh.wants(fresh.code(3, "retreat", "--to", "0", "--yes"), "no-way-back")
				fresh.unchanged(before)
				return
			}
			fresh.must("retreat", "--to", "0", "--yes")
			if left := fresh.query("select name from sqlite_schema where name not like 'lastboard%' and name not like " +
				"'sqlite%'"); left != "" {
				t.Errorf("the way back leaves %s", left)
			}
		})
	}
}

// tablesOf gives what SQLite says of the tables, without their rows. Spellings of
// a type that mean the same may differ.
func tablesOf(o *office) string {
	o.Helper()
	db := o.open()
	defer db.Close()
	var b strings.Builder
	for _, t := range o.names(db, "select name from sqlite_schema where type = 'table' and name not like "+
		"'lastboard%' and name not like 'sqlite%' order by name") {
		l := "'" + strings.ReplaceAll(t, "'", "''") + "'"
		for _, text := range []string{
			`select name, "notnull" or pk, dflt_value is not null, pk, hidden from pragma_table_xinfo(` + l + ") order by cid",
			`select "table", "from", on_update, on_delete from pragma_foreign_key_list(` + l + ") order by 1, 2",
			`select i."unique", i.partial, x.name, x."desc", lower(x.coll) from pragma_index_list(` + l +
				`) i join pragma_index_xinfo(i.name) x where x.key order by 1, 2, 3`,
			"select wr, strict, type from pragma_table_list where name = " + l,
		} {
			rows, err := queryText(db, text)
			if err != nil {
				o.Fatal(err)
			}
			b.WriteString(t + "\n" + rows + "\n")
		}
	}
	rows, err := queryText(db, "select type, name from sqlite_schema where type in ('view', 'trigger') order by 1, 2")
	if err != nil {
		o.Fatal(err)
	}
	return b.String() + rows
}

func TestAdoptIsRefusedTwice(t *testing.T) {
	o := adopted(t, pier...)
	o.wants(o.code(3, "adopt", "--yes"), "under care already")
	other := newOffice(t, pier...)
	other.migration("0001-mine", "-- Mine\ncreate table t (a text);\n")
	other.wants(other.code(3, "adopt", "--yes"), "has migrations already")
	// Existing tables and a migration that makes them: the way is adopt.
	third := newOffice(t, pier...)
	third.migration("0001-berths", "-- Berths\ncreate table berth (id integer primary key);\n")
	third.wants(third.code(3, "advance", "--yes"), "there is a table berth already")
	if rows := third.query("select count(*) from sqlite_schema where name like 'lastboard_migration'"); !strings.Contains(
		rows, "0") && !strings.Contains(rows, "1") {
		t.Error(rows)
	}
}

// TestForecastSaysWhichSteps is the kind of every step for each kind of change, on
// a table that is small and on one that is filled in batches.
func TestForecastSaysWhichSteps(t *testing.T) {
	small := adopted(t, pier...)
	large := adopted(t, "create table vessel (id integer primary key, name text not null, registry text, berth_id "+
		"integer, length_ft numeric(6,1))",
		"create table berth (id integer primary key, code text)",
		"insert into vessel (id, name) select value, 'v' from (with recursive s(value) as (select 1 union all select "+
			"value + 1 from s where value < 90000) select value from s)")
	cases := []struct{ statement, small, large string }{
		{"alter table vessel add a text", "catalog", "catalog"},
		{"alter table vessel add a integer not null default 1", "scan", "scan"},
		{"alter table vessel add a text not null using (name)", "catalog backfill scan", "catalog backfill* scan"},
		{"alter table vessel add a text using (name)", "catalog backfill", "catalog backfill*"},
		{"alter table vessel add a varchar(9) unique using ('v' || cast(id as text))", "proof proof scan backfill build",
			"proof proof scan backfill* build"},
		{"alter table vessel add a text generated always as (name)", "scan", "scan"},
		{"alter table vessel add a text generated always as (name) stored", "rebuild", "rebuild"},
		{"alter table vessel alter name set default 'x'", "rebuild", "rebuild"},
		{"alter table vessel alter name drop not null", "catalog", "catalog"},
		{"alter table vessel alter berth_id set not null using (1)", "catalog backfill scan", "catalog backfill* scan"},
		{"alter table vessel add constraint c check (id > 0)", "proof scan", "proof scan"},
		{"alter table vessel add constraint f foreign key (berth_id) references berth", "proof rebuild", "proof rebuild"},
		{"alter table vessel add b integer references berth", "catalog", "catalog"},
		{"alter table vessel rename length_ft to length_m", "catalog", "catalog"},
		{"alter table vessel drop length_ft", "scan rewrite", "scan rewrite"},
		{"alter table vessel drop length_ft discard", "rewrite", "rewrite"},
		{"backfill vessel set registry = 'x'", "catalog backfill", "catalog backfill*"},
		{"backfill vessel set registry = 'x' discard", "backfill", "backfill*"},
		{"create index i on vessel (name)", "build", "build"},
		{"comment on table vessel is 'x'", "catalog", "catalog"},
		{"create view v as select 1 as one", "catalog", "catalog"},
		{"assert 1 = 1", "proof", "proof"},
	}
	for _, c := range cases {
		for o, want := range map[*office]string{small: c.small, large: c.large} {
			o.migration("0002-change", "-- A change\n"+c.statement+";\n")
			if got := kinds(o); got != want {
				t.Errorf("%s on %s: wanted %s, got %s", c.statement, o.query("select count(*) from vessel"), want, got)
			}
		}
	}
}
