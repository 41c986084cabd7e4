package test

import (
	"strings"
	"testing"
)

// strange is a schema as others make them, with what the language has no words for.
var strange = []string{
	"create extension if not exists btree_gist", "create schema billing", `create type mood as enum ('calm', 'rough')`,
	"create domain positive as integer check (value > 0)", "create sequence tickets start 100",
	`create table "Mixed Case" (id serial primary key, "order" text collate "C", état mood not null default 'calm', n positive, tags text[] default '{}', span int4range, data jsonb default '{"a": [1, 2]}', ip inet, bits bit(3), money numeric, code varchar, when_at timestamptz(3) default now(),
		ticket integer default nextval('tickets'), calc integer generated always as (n * 2) stored, constraint "no overlap" exclude using gist (span with &&))`,
	`create index "by lower" on "Mixed Case" (lower("order") text_pattern_ops, n desc nulls last) include (code) where n > 0`, `create index on "Mixed Case" using gin (data)`,
	`create unique index parts on "Mixed Case" (coalesce(code, ''))`, `alter table "Mixed Case" set (fillfactor = 70)`,
	`alter table "Mixed Case" alter n set statistics 500`,
	"create table logs (id bigint generated always as identity, at date not null, primary key (id, at)) partition by " +
		"range (at)", "create table logs_2031 partition of logs for values from ('2031-01-01') to ('2032-01-01')",
	"create table base (a integer primary key)", "create table derived (b integer) inherits (base)",
	"create unlogged table scratch (id integer primary key, code text unique deferrable initially deferred, other " +
		"integer references scratch deferrable)",
	"create table guarded (id integer primary key, owner text)", "alter table guarded enable row level security",
	"create policy own on guarded using (owner = current_user)",
	"create table billing.invoice (id integer primary key, amount numeric(9,2) check (amount >= 0 and amount < 1e6), " +
		"note text unique, constraint pair unique (id, note))",
	`create table line (invoice_id integer not null references billing.invoice match full on delete set null, n integer check (n in (1, 2, 3)) , kind text check (kind like 'a%' or kind is null), primary key (invoice_id, n))`,
	"create view totals as select invoice_id, count(*) as n from line group by 1",
	"create materialized view sums as select sum(amount) as total from billing.invoice",
	"create rule quiet as on delete to scratch do instead nothing",
	"create function stamp() returns trigger language plpgsql as $$ begin new.note := upper(new.note); return new; end $$",
	"create trigger stamps before insert or update of note on billing.invoice for each row when (new.note is not " +
		"null) execute function stamp()",
	"comment on column billing.invoice.note is 'it''s a note'",
	"insert into billing.invoice values (1, 10, 'a'), (2, 20, null)",
	"insert into line values (1, 1, 'ab'), (2, 3, null)", `insert into "Mixed Case" (n, span) values (3, '[1,5)')`,
	"insert into guarded values (1, 'x')",
	"insert into logs (at) values ('2031-05-01')",
}

// TestSchemasThatOthersMade are read in full, changed where they are understood, and
// refused where not.
func TestSchemasThatOthersMade(t *testing.T) {
	o := newServerOffice(t, strange...)
	o.wants(o.code(0, "adopt", "--yes"), "enum type mood", "domain positive", "function stamp()",
		"policy own on guarded")
	o.wants(o.code(0, "audit"), "matches:")
	for _, says := range []string{"billing.invoice", "Mixed Case", "logs_2031", "sums"} {
		if out := o.must("describe"); !strings.Contains(out, says) {
			t.Errorf("describe does not list %s:\n%s", says, out)
		}
	}
	start := o.snapshot()
	for i, statement := range []string{
		`alter table "Mixed Case" add flag boolean not null default true, add label text using (concat("order", n))`,
		`alter table "Mixed Case" rename "order" to reihenfolge`, `alter table "Mixed Case" rename to plain`,
		`alter table "Mixed Case" alter n set not null`, `alter table "Mixed Case" drop code discard`,
		`alter table guarded add note text default 'x'`, `backfill guarded set owner = 'y'`,
		`alter table billing.invoice add due date, alter amount set data type numeric(12,2)`,
		`backfill billing.invoice set amount = amount + 1`, `alter table billing.invoice drop column note discard`,
		`alter table line add constraint small check (n < 9)`, `alter table scratch add n integer`,
		`create index by_kind on line (kind)`, `drop table line`, `alter table logs add x integer`,
		`alter table derived add x integer`,
		`create table billing.extra (id integer primary key, invoice_id integer references billing.invoice)`,
		`alter table billing.invoice rename to bill`,
	} {
		o.migration("0002-change", "-- A change\n"+statement+";\n")
		r := o.run("advance", "--yes")
		if r.code == 3 {
			o.unchanged(start)
			t.Logf("%d: %s: refused: %s", i, statement, strings.TrimSpace(r.stdout+r.stderr))
			continue
		}
		if r.code != 0 {
			t.Fatalf("%s: %s", statement, r)
		}
		o.wants(o.code(0, "audit"), "matches:")
		o.must("retreat", "--to", "1", "--yes")
		if after := o.snapshot(); after != start && !strings.Contains(statement, "discard") {
			t.Errorf("%s: the way back does not lead to the start: %s", statement, firstDifference(start, after))
		}
		start = o.snapshot()
	}
}

// modes are tables and triggers as programs make them on MariaDB, each in a mode of its own.
var modes = []string{
	"create table berth (id int unsigned not null primary key, name varchar(40) default '' comment 'as painted', " +
		"deep int, wide int, kind enum('deep', 'shallow'), key (name(10))) engine=InnoDB default charset=utf8mb4 " +
		"collate=utf8mb4_unicode_ci comment='where ships lie'",
	"set session sql_mode = ''",
	"create trigger sorts before insert on berth for each row begin if new.deep > 9 || new.wide > 9 then " +
		`set new.name = concat("big ", new.name); end if; end`,
	"set session sql_mode = 'PIPES_AS_CONCAT'",
	`create trigger marks before update on berth for each row set new.name = new.name || "!"`,
	"set session sql_mode = default",
	"create view large as select id, name from berth where deep > 9",
	"create table log (at tinyblob not null, n int not null, primary key (n, at(20)))",
	"create table cache (id int not null primary key) engine=MEMORY",
	"create table old (id int not null primary key) engine=MyISAM",
	"set session sql_mode = ''",
	`create procedure tides(in n int, out said varchar(20)) begin if n > 9 || n < 0 then set said = "it; is"; end if; end`,
	"create function high(n int) returns int deterministic return n * 2",
	"create procedure `a\"b'; drop table berth; -- %s\x1b[2J`() select 1",
	`create procedure odd() begin select 'it\'s; end'; end`, "create event tide on schedule every 1 year do select 1",
	"set session sql_mode = default",
}

// TestAdoptedTriggersKeepTheirMode is that a database made by the migration that adopt wrote is the
// same: comments stand, and triggers mean what they meant.
func TestAdoptedTriggersKeepTheirMode(t *testing.T) {
	o := newOfficeOn(t, mariadb)
	db := o.open()
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, sql := range modes {
		if _, err := db.Exec(sql); err != nil {
			t.Fatalf("%s: %v", sql, err)
		}
	}
	o.wants(o.code(0, "adopt", "--yes"), "event tide")
	o.isCanonical()
	fresh := newOfficeOn(t, mariadb)
	fresh.migration("0001-adopted", o.read("migrations/0001-adopted.sql"))
	if r := fresh.code(0, "check"); strings.Count(r.stdout+r.stderr, "native-not-tried") != 2 { // odd and tide
		t.Errorf("the others were not tried: %s", r)
	}
	fresh.must("advance", "--yes")
	a, b := o.serverSnapshot(), strings.ReplaceAll(fresh.serverSnapshot(), fresh.name(), o.name())
	if a != b {
		t.Errorf("made again it differs: %s", firstDifference(a, b))
	}
	for _, x := range []*office{o, fresh} {
		x.exec("insert into berth values (1, 'a', 10, 1, 'deep'), (2, 'b', 1, 1, null)",
			"update berth set deep = 11 where id = 2")
		x.same("select name from berth order by id", "big a\nb!")
		x.same("select concat(trigger_name, ' ', sql_mode) from information_schema.triggers where trigger_schema = "+
			"database() order by 1", "marks PIPES_AS_CONCAT\nsorts ")
		x.same("select table_comment from information_schema.tables where table_schema = database() and table_name = 'berth'",
			"where ships lie")
		x.same("select high(21)", "42")
		x.exec("call `a\"b'; drop table berth; -- %s\x1b[2J`()")
		x.same("select concat(table_name, ' ', engine) from information_schema.tables where table_schema = database() and "+
			"engine <> 'InnoDB' order by 1", "cache MEMORY\nold MyISAM")
		x.exec("call tides(10, @said)")
		x.same("select concat(routine_name, ' ', sql_mode, ' ', routine_definition) from information_schema.routines where "+
			"routine_schema = database() and routine_name = 'tides'",
			`tides  begin if n > 9 || n < 0 then set said = "it; is"; end if; end`)
		x.wants(x.code(0, "audit"), "matches:")
	}
}

// isCanonical is that an adopted file is in its one form, and says of its own database what that is.
func (o *office) isCanonical() {
	o.Helper()
	o.wants(o.code(0, "tidy", "--check"))
	r := o.code(0, "draft", "Nothing", "--wanted", "migrations/0001-adopted.sql")
	if !strings.Contains(r.stdout, "as migrations/0001-adopted.sql wants") {
		o.Errorf("it is drafted to be otherwise: %s\n%s", r, o.read("migrations/0002-nothing.sql"))
	}
}

// besides are what stands beside tables on PostgreSQL, and tables that need it.
var besides = []string{
	"create type mood as enum ('calm', 'it''s rough')",
	"create domain depth as numeric(6,2) default 1.5 not null check (value > 0)",
	"create sequence tickets as integer increment by 5 start 100 cycle",
	"create table berth (id integer primary key, mood mood not null default 'calm', deep depth, ticket integer default " +
		"nextval('tickets'), note text)",
	"create function stamp() returns trigger language plpgsql as $body$ begin new.note := 'a' || $$b$$; return new; " +
		"end $body$",
	"create function twice(n integer) returns integer language sql immutable as 'select n * 2'",
	"create procedure calm() language sql as $$ update berth set mood = 'calm' $$",
	"create trigger stamps before insert on berth for each row execute function stamp()",
	`create function "a""b'; drop table berth; -- %s"() returns integer language sql as 'select 1'`,
	`create type "c""d'; drop table berth; --" as enum ('x''; drop table berth; --')`,
	"create view deep as select id, twice(id) as t from berth where deep > 9",
	"comment on table berth is 'where ships lie'",
}

// TestAdoptedObjectsComeAlong is that types, sequences and functions come with the tables that need them.
func TestAdoptedObjectsComeAlong(t *testing.T) {
	o := newServerOffice(t, besides...)
	r := o.code(0, "adopt", "--yes")
	if strings.Contains(r.stdout, "left out") {
		t.Errorf("it leaves something out: %s", r)
	}
	o.isCanonical()
	fresh := newServerOffice(t)
	fresh.migration("0001-adopted", o.read("migrations/0001-adopted.sql"))
	fresh.must("advance", "--yes")
	if a, b := o.serverSnapshot(), fresh.serverSnapshot(); a != b {
		t.Errorf("made again it differs: %s\n%s", firstDifference(a, b), o.read("migrations/0001-adopted.sql"))
	}
	for _, x := range []*office{o, fresh} {
		x.exec("insert into berth (id, mood) values (1, 'it''s rough'), (2, default)", "call calm()")
		x.same("select * from berth order by id", "1|calm|1.50|100|ab\n2|calm|1.50|105|ab")
		x.same("select string_agg(oid::regprocedure::text, ' ' order by proname) from pg_proc where pronamespace = "+
			"'public'::regnamespace", `"a""b'; drop table berth; -- %s"() calm() stamp() twice(integer)`)
		x.same("select enumlabel from pg_enum where enumtypid::regtype::text like '%drop%'", "x'; drop table berth; --")
		x.same("select pg_get_constraintdef(oid) from pg_constraint where contypid = 'depth'::regtype",
			"CHECK ((VALUE > (0)::numeric))")
		x.wants(x.code(0, "audit"), "matches:")
	}
}
