package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestNamesOfOthersAreNames is that what somebody else has called like something of
// Lastboard's is neither run nor taken away.
func TestNamesOfOthersAreNames(t *testing.T) {
	o := newServerOffice(t, "create table berth (id integer primary key, code text)", "create schema app",
		"create table app.dues (id integer primary key)", "insert into app.dues values (1)",
		`create schema "lastboard_trial_x"", app cascade; --"`, `create schema "lastboard_kept_1"", app cascade; --"`,
		`create function noop() returns trigger language plpgsql as $$ begin return null; end $$`,
		`create trigger "lastboard_kept_9_""x" after insert on berth for each row execute function noop()`,
		`create trigger "lastboard_kept_9_gone" after insert on berth for each row execute function noop()`,
		`create trigger "lastboard_""; drop schema app cascade; --_fill" after insert on berth for each row execute function noop()`)
	o.must("adopt", "--yes")
	o.migration("0002-depth", "-- A depth\nalter table berth add column depth integer;\n")
	o.code(0, "forecast", "--probe")
	o.must("advance", "--yes")
	o.wants(o.code(0, "audit"), "matches:")
	o.must("retreat", "--to", "1", "--yes")
	o.run("audit", "--clear", "--yes")
	o.same("select count(*) from app.dues", "1")
	o.same("select count(*) from pg_trigger where tgfoid = 'noop'::regproc", "3")
}

// TestLookingRunsNothing is that a statement of the engine's own which could reach beyond
// an empty copy is run by advance alone, and what is looked at before stays as it is.
func TestLookingRunsNothing(t *testing.T) {
	beside(t)
	look := func(o *office) {
		o.Helper()
		for _, args := range [][]string{{"check"}, {"forecast"}, {"forecast", "--probe"}, {"forecast", "--statements"},
			{"status"}, {"describe"}} {
			o.code(0, args...)
		}
		o.wants(o.code(0, "check"), "native-not-tried")
	}
	t.Run("PostgreSQL", func(t *testing.T) {
		o := newServerOffice(t, "create table berth (id integer primary key)", "create sequence gate",
			"create table log (n integer)", "create function note() returns integer language sql as 'insert into log "+
				"values (1) returning n'")
		o.must("adopt", "--yes")
		o.migration("0002-gate", "-- The gate\nnative postgres $$ select setval('gate', 1000) $$ back $$ select "+
			"setval('gate', 1) $$;\n")
		look(o)
		o.same("select last_value, is_called from gate", "1|false")
		o.must("advance", "--yes")
		o.same("select last_value from gate", "1000")
		o.must("retreat", "--to", "1", "--yes")
		o.same("select last_value from gate", "1")
		o.migration("0002-gate", "-- The gate\nnative postgres $$ select note() $$ no way back;\nnative postgres $$ do "+
			"$x$ begin perform nextval('gate'); end $x$ $$ no way back;\n")
		look(o)
		o.same("select count(*) from log", "0")
		o.same("select last_value from gate", "1")
		o.must("advance", "--yes")
		o.same("select count(*) from log", "1")
		o.same("select last_value from gate", "2")
	})
	t.Run("MariaDB", func(t *testing.T) {
		o := newOfficeOn(t, mariadb, "create table berth (id integer primary key)")
		other, _, _ := strings.Cut(o.url[strings.LastIndex(o.url, "/")+1:], "?")
		other += "_other"
		o.exec("create database "+other, "create table "+other+".log (n integer)")
		t.Cleanup(func() { o.exec("drop database " + other) })
		o.must("adopt", "--yes")
		o.migration("0002-log", "-- Elsewhere\nnative mariadb $$ insert into "+other+
			".log values (1) $$ no way back;\nnative mariadb $$ alter table "+other+".log add m integer $$ no way back;\n"+
			"native mariadb $$ create table "+other+".more (n integer) $$ no way back;\nnative mariadb $$ set global "+
			"max_connect_errors = 4711 $$ no way back;\n"+
			"native mariadb $$ create event "+other+"_tick on schedule every 1 second do insert into "+other+
			".log values (2) $$ no way back;\n")
		look(o)
		o.same("select count(*) from "+other+".log", "0")
		o.same("select count(*) from information_schema.columns where table_schema = '"+other+"'", "1")
		if v := o.query("select @@global.max_connect_errors"); strings.Contains(v, "4711") {
			t.Error("a server's variable was set by looking")
		}
	})
	t.Run("SQLite", func(t *testing.T) {
		o := adopted(t, "create table berth (id integer primary key)")
		away := filepath.Join(o.dir, "away.db")
		o.migration("0002-away", "-- Elsewhere\nnative sqlite $$ attach '"+away+
			"' as away $$ no way back;\nnative sqlite $$ vacuum into '"+away+"2' $$ no way back;\n")
		look(o)
		for _, name := range []string{away, away + "2"} {
			if _, err := os.Stat(name); err == nil {
				t.Errorf("%s was made by looking", name)
			}
		}
	})
}

// TestLedgerThatCannotBeRead is that who may not read the ledger is not told that nothing
// has run.
func TestLedgerThatCannotBeRead(t *testing.T) {
	beside(t)
	unread := func(o *office, url string) {
		o.Helper()
		for _, args := range [][]string{{"status"}, {"status", "--waiting"}, {"advance", "--yes"}, {"audit"},
			{"adopt", "--yes"}, {"forecast"}} {
			r := o.run(append(args, "--url", url)...)
			if r.code != 1 {
				o.Errorf("%v: wanted exit 1, got %s", args, r)
			}
			o.wants(r, "the ledger cannot be read, so that nothing is known of what has run")
		}
	}
	const table = "create table berth (id integer primary key)"
	t.Run("PostgreSQL", func(t *testing.T) {
		o := newServerOffice(t, table, aRole("reader login"))
		o.must("adopt", "--yes")
		unread(o, strings.Replace(o.url, "://postgres@", "://reader@", 1))
	})
	t.Run("MariaDB", func(t *testing.T) {
		o := newOfficeOn(t, mariadb, table, "create user if not exists reader@'127.0.0.1'",
			"grant select on berth to reader@'127.0.0.1'")
		o.must("adopt", "--yes")
		unread(o, strings.Replace(o.url, "://root@", "://reader@", 1))
	})
}

// TestLedgerIsTheRunnersOwn is that a place for the ledger which somebody else has made, or
// into which others could write, is refused by name, and that nobody else can look into it.
func TestLedgerIsTheRunnersOwn(t *testing.T) {
	beside(t)
	role := aRole("squatter login")
	start := func(t *testing.T, statements ...string) *office {
		o := newServerOffice(t, append([]string{role, "create table berth (id integer primary key)"}, statements...)...)
		o.migration("0001-depth", "-- A depth\nalter table berth add column depth integer;\n")
		return o
	}
	refused := func(o *office, texts ...string) {
		o.Helper()
		o.wants(o.code(3, "advance", "--yes"), append(texts, "cannot be trusted")...)
		o.same("select count(*) from information_schema.columns where table_name = 'berth'", "1")
	}
	t.Run("a schema of somebody else's", func(t *testing.T) {
		refused(start(t, "create schema lastboard authorization squatter"), "belongs to squatter")
	})
	t.Run("a table of somebody else's", func(t *testing.T) {
		refused(start(t, "create schema lastboard", "create table lastboard.step (id integer)",
			"alter table lastboard.step owner to squatter"), "step in the schema lastboard belongs to squatter")
	})
	t.Run("others may write", func(t *testing.T) {
		o := newServerOffice(t, role, "create table berth (id integer primary key)")
		o.must("adopt", "--yes")
		o.migration("0002-depth", "-- A depth\nalter table berth add column depth integer;\n")
		o.exec("grant usage on schema lastboard to squatter", "grant update on lastboard.step to squatter")
		refused(o, "others may write to the ledger", "squatter", "revoke all on schema lastboard")
		o.exec("revoke all on all tables in schema lastboard from squatter",
			"grant select on lastboard.migration to squatter")
		o.wants(o.code(0, "advance", "--yes"), "cleared away: the rights of squatter on the ledger")
		o.same("select has_schema_privilege('squatter', 'lastboard', 'usage'), has_table_privilege('squatter', "+
			"'lastboard.migration', 'select')", "false|false")
	})
	t.Run("rights by default", func(t *testing.T) {
		o := start(t, "alter default privileges grant all on tables to squatter",
			"alter default privileges grant all on schemas to squatter")
		o.must("advance", "--yes")
		o.exec("insert into berth values (1, 2)")
		o.migration("0002-less", "-- No depth\nalter table berth drop column depth;\n")
		o.must("advance", "--yes")
		o.must("retreat", "--to", "1", "--yes")
		o.must("advance", "--yes")
		o.run("audit", "--clear", "--yes")
		o.must("retreat", "--to", "1", "--yes")
		o.same("select depth from berth", "2")
		o.same("select count(*) from information_schema.role_table_grants where table_schema = 'lastboard' and grantee "+
			"= 'squatter'", "0")
		o.same("select has_schema_privilege('squatter', 'lastboard', 'usage')", "false")
		o.exec("create role outsider login", "alter default privileges grant usage on schemas to outsider",
			"grant select on berth to outsider")
		o.migration("0003-none", "-- No berths\ndrop table berth;\n")
		o.must("advance", "--yes")
		o.same("select has_schema_privilege(r, oid, 'usage') from pg_namespace, unnest(array['squatter', 'outsider']) r "+
			"where nspname like 'lastboard\\_kept%'", "false\nfalse")
		o.must("retreat", "--to", "2", "--yes")
		o.same("select has_table_privilege('outsider', 'berth', 'select')", "true")
		o.exec("alter default privileges revoke all on schemas from outsider", "drop owned by outsider", "drop role outsider")
		o.exec("alter default privileges revoke all on tables from squatter",
			"alter default privileges revoke all on schemas from squatter")
	})
}

// TestCodeOfOthers that a superuser would run by changing their tables is named beforehand.
func TestCodeOfOthers(t *testing.T) {
	o := newServerOffice(t, aRole("mate login"),
		"grant all on schema public to mate",
		"create table own (id integer primary key)", "set role mate; create table berth (id integer primary key, depth "+
			"integer); create function sound() returns trigger language plpgsql as 'begin return new; end'; "+
			"create trigger sounding before update on berth for each row execute function sound(); create function "+
			"deep(integer) returns boolean language sql immutable as 'select $1 > 2'; alter table berth add constraint "+
			"deep check (deep(depth)); reset role")
	o.must("adopt", "--yes")
	o.migration("0002-depth", "-- Depths\nbackfill berth set depth = 3;\nalter table own add column depth integer;\n")
	r := o.code(0, "check")
	o.wants(r, "table berth belongs to mate, and a superuser changes it",
		"constraint deep (deep(integer)), trigger sounding (sound())", "a member of mate and no superuser")
	if strings.Contains(r.String(), "table own belongs") {
		t.Errorf("it warns of a superuser's own table: %s", r)
	}
	o.exec("alter function sound() owner to postgres", "alter function deep(integer) owner to postgres")
	if r := o.code(0, "check"); strings.Contains(r.String(), "belongs to mate") {
		t.Errorf("it warns of what a superuser made: %s", r)
	}
}

// TestLedgerThatWasNotFinished is that a ledger of which a run that died made a table alone is
// made whole by the next.
func TestLedgerThatWasNotFinished(t *testing.T) {
	o := newOfficeOn(t, mariadb, "create table berth (id integer primary key)",
		"create table lastboard_meta (name varchar(40) not null primary key, value longtext not null)")
	o.migration("0001-depth", "-- A depth\nalter table berth add column depth integer;\n")
	o.must("advance", "--yes")
	o.wants(o.code(0, "status"), "settled")
	o.exec("delete from " + o.ledger("meta"))
	o.wants(o.code(1, "status"), "somebody has changed it")
}

// aRole gives the statement that makes a role, unless another test has made it: roles are of the whole
// server.
func aRole(role string) string {
	return "do $$ begin create role " + role + "; exception when duplicate_object or unique_violation then null; end $$"
}
