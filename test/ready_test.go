package test

import (
	"encoding/json"
	"strings"
	"testing"
)

// TestReady is that what a run depends on is looked at and told, each thing with its cure, and that
// nothing is changed by it.
func TestReady(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table vessel (id integer primary key, name varchar(20))",
		"insert into vessel values (1, 'Tern')"}, func(t *testing.T, o *office) {
		before := o.snapshot()
		r := o.code(0, "ready")
		o.wants(r, "lastboard.toml with 1 migration", "the largest, vessel", "1 migration has run", "ready")
		o.unchanged(before)
		var doc struct {
			Ready  bool
			Things []struct{ What, State, Found, Cure string }
		}
		if err := json.Unmarshal([]byte(o.must("ready", "--json")), &doc); err != nil || !doc.Ready || len(doc.Things) < 4 {
			t.Errorf("%v: %+v", err, doc)
		}
		o.migration("0002-broken", "-- Broken\nalter tabel vessel;\n")
		o.wants(o.code(3, "ready"), "project", "wrong", "not ready")
		o.migration("0002-broken", "-- Whole\nbackfill vessel set name = 'Gull';\n")
		p := o.pausedAt("statement:4", "advance", "--yes")
		if p == nil {
			t.Fatal("it was not stopped")
		}
		o.wants(o.code(0, "ready"), "is at work", "lastboard follow shows it")
		p.cmd.Process.Kill()
		p.goOn()
		o.wants(o.code(0, "ready"), "to look at", "a crashed run left behind")
	})
}

// TestNotReady is that rights and settings are found that keep a run from being made.
func TestNotReady(t *testing.T) {
	beside(t)
	t.Run("no project", func(t *testing.T) {
		o := &office{T: t, dir: t.TempDir()}
		o.wants(o.code(3, "ready"), "there is no lastboard.toml", "run lastboard init")
	})
	t.Run("no server", func(t *testing.T) {
		o := newOffice(t)
		o.wants(o.code(3, "ready", "--url", "postgres://clerk@127.0.0.1:1/harbour"), "does not answer", "cure:", "not ready")
	})
	t.Run("a journal", func(t *testing.T) {
		o := newOffice(t, pier...)
		o.wants(o.code(0, "ready"), "there is none yet: adopt", "rollback journal", "cure: pragma journal_mode = wal")
	})
	t.Run("PostgreSQL", func(t *testing.T) {
		o := newServerOffice(t, "create table vessel (id integer primary key)")
		o.wants(o.code(0, "ready"), "is a superuser", "use a login that is a member of the tables' owner")
		_, rest, _ := strings.Cut(o.url, "@")
		_, name, _ := strings.Cut(rest, "/")
		mate := "mate_" + name
		o.exec("create role "+mate+" login", "revoke create on schema public from public")
		t.Cleanup(func() { o.exec("drop owned by "+mate, "drop role "+mate) })
		url := "postgres://" + mate + "@" + rest
		o.wants(o.code(3, "ready", "--url", url), "may not make a schema in database", "grant create on database",
			"table vessel belongs to postgres", "may make nothing in schema public")
		o.exec("grant create on database "+name+" to "+mate, "grant create on schema public to "+mate,
			"alter table vessel owner to "+mate)
		o.wants(o.code(0, "ready", "--url", url), "may change every table")
		o.exec("alter role " + mate + " set default_transaction_read_only = on")
		o.wants(o.code(0, "ready", "--url", url), "default_transaction_read_only is on",
			"set default_transaction_read_only = off")
	})
	t.Run("MariaDB", func(t *testing.T) {
		o := newOfficeOn(t, mariadb, berths, "create table tide (n integer) engine=Aria")
		o.wants(o.code(0, "ready"), "table tide is of engine Aria", "engine = InnoDB", "may make copies, and triggers")
		o.must("advance", "--yes")
		toml := o.read("lastboard.toml")
		o.write("lastboard.toml", toml+"ledger = \"here\"\n")
		o.must("adopt", "--yes")
		o.wants(o.code(0, "ready"), "it stands in the database itself", `delete the line ledger = "here"`)
		o.write("lastboard.toml", toml)
		mate := o.as("mate", "all on "+o.name()+".*")
		o.wants(o.code(3, "ready", "--url", mate.url), "may make no database for the empty copies", "cure: grant all on")
	})
}
