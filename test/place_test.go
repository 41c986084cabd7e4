package test

import (
	"bytes"
	"encoding/json"
	"os/exec"
	"strings"
	"testing"

	"lastboard/test/server"
)

// name is that of an office's database.
func (o *office) name() string {
	return o.url[strings.LastIndex(o.url, "/")+1:]
}

// as gives the office as another user of MariaDB meets it, who may do what is granted.
func (o *office) as(user string, grants ...string) *office {
	o.Helper()
	user += "_" + o.name()
	account := "'" + user + "'@'127.0.0.1'"
	o.exec("create user " + account)
	o.Cleanup(func() { o.exec("drop user " + account) })
	for _, g := range grants {
		o.exec("grant " + g + " to " + account)
	}
	return &office{T: o.T, dir: o.dir, url: strings.Replace(o.url, "root@", user+"@", 1)}
}

const berths = "create table berth (id integer primary key, name varchar(20)) engine=InnoDB"

// TestApplicationsDoNotReachTheLedger is that a user with every right on the database itself
// can neither read nor write what a run goes by, on MariaDB.
func TestApplicationsDoNotReachTheLedger(t *testing.T) {
	o := newOfficeOn(t, mariadb, berths, "insert into berth values (1, 'A1'), (2, 'B2')")
	o.must("adopt", "--yes")
	o.migration("0002-less", "-- No names\nalter table berth drop column name restore using ('?');\n")
	o.must("advance", "--yes")
	o.same("select count(*) from information_schema.tables where table_schema = database() and table_name like "+
		"'lastboard%' and table_name not like 'lastboard\\_kept%'", "1")
	app := o.as("app", "all on "+o.name()+".*")
	db := app.open()
	defer db.Close()
	for _, table := range []string{"migration", "step", "entry", "meta"} {
		for _, sql := range []string{"select count(*) from ", "delete from ", "drop table "} {
			if _, err := db.Exec(sql + o.ledger(table)); err == nil || !strings.Contains(err.Error(), "denied") {
				t.Errorf("%s%s: wanted to be denied, got %v", sql, o.ledger(table), err)
			}
		}
	}
	// What it makes under the ledger's names in its own database is no ledger.
	app.exec("create table lastboard_meta (name varchar(40) not null primary key, value longtext not null)",
		"insert into lastboard_meta values ('format', '99')")
	o.must("status")
	o.must("retreat", "--to", "1", "--yes")
	o.same("select name from berth where id = 2", "B2")
}

// TestLedgerOfBeforeIsBroughtAway is that a ledger which stands in the database itself comes
// into its own, with all that it knows, and only by a run.
func TestLedgerOfBeforeIsBroughtAway(t *testing.T) {
	o := newOfficeOn(t, mariadb, berths, "insert into berth values (1, 'A1')")
	config := "database = 'dev'\n[databases.dev]\nurl = '" + o.url + "'\n"
	o.write("lastboard.toml", config+"ledger = 'here'\n")
	o.must("adopt", "--yes")
	o.migration("0002-less", "-- No names\nalter table berth drop column name restore using ('?');\n")
	o.must("advance", "--yes")
	o.same("select count(*) from lastboard_migration", "2")
	o.same("select count(*) from information_schema.schemata where schema_name = 'lastboard_"+o.name()+"'", "0")
	before := o.must("status", "--json")
	o.write("lastboard.toml", config)
	if after := o.must("status", "--json"); after != before {
		t.Errorf("status has changed: %s, and was %s", after, before)
	}
	o.same("select count(*) from lastboard_migration", "2")
	o.wants(o.code(0, "retreat", "--to", "1", "--yes"), "cleared away: the ledger's tables from the database itself")
	o.same("select name from berth", "A1")
	o.same("select count(*) from "+o.ledger("migration"), "1")
	o.same("select count(*) from information_schema.tables where table_schema = database() and table_name like "+
		"'lastboard\\_m%'", "0")
	o.must("advance", "--yes")
}

// TestLedgerInTheDatabaseItself is for a user who may make no other database.
func TestLedgerInTheDatabaseItself(t *testing.T) {
	o := newOfficeOn(t, mariadb, berths)
	mate := o.as("mate", "all on "+o.name()+".*", "all on `lastboard\\_trial\\_%`.*")
	config := "database = 'dev'\n[databases.dev]\nurl = '" + mate.url + "'\n"
	mate.write("lastboard.toml", config)
	account := "'mate_" + o.name() + "'@'127.0.0.1'"
	for _, command := range []string{"status", "check", "ledger"} {
		mate.wants(mate.run(strings.Fields(command)...), "may not look into database lastboard_"+o.name(),
			"grant all on `lastboard\\_", account, `ledger = "here"`)
	}
	mate.write("lastboard.toml", config+"ledger = 'here'\n")
	mate.must("adopt", "--yes")
	mate.same("select count(*) from lastboard_migration", "1")
	mate.write("lastboard.toml", config+"ledger = 'elsewhere'\n")
	mate.wants(mate.code(2, "status"), `is not "here"`)
	mate.write("lastboard.toml", config)
	o.exec("grant all on `lastboard\\_" + strings.ReplaceAll(o.name(), "_", "\\_") + "`.* to " + account)
	mate.migration("0002-depth", "-- A depth\nalter table berth add column depth integer;\n")
	mate.must("advance", "--yes")
	o.same("select count(*) from "+o.ledger("migration"), "2")
}

// TestOthersWhoMayWriteToTheLedger are named, and nothing is changed.
func TestOthersWhoMayWriteToTheLedger(t *testing.T) {
	o := newOfficeOn(t, mariadb, berths)
	o.must("adopt", "--yes")
	o.migration("0002-depth", "-- A depth\nalter table berth add column depth integer;\n")
	o.as("app")
	account := "'app_" + o.name() + "'@'127.0.0.1'"
	for _, right := range []string{"insert on `lastboard_" + o.name() + "`.*", "update on " + o.ledger("step")} {
		o.exec("grant " + right + " to " + account)
		before := o.snapshot()
		o.wants(o.code(3, "advance", "--yes"), "others may write to the ledger", "app_"+o.name(), "cannot be trusted")
		o.unchanged(before)
		o.exec("revoke " + right + " from " + account)
	}
	o.must("advance", "--yes")
}

// copyOf brings a dump of one MariaDB database into another.
func copyOf(t *testing.T, m *server.MariaDB, from, to string) {
	t.Helper()
	var dump, errs bytes.Buffer
	c := exec.Command("mariadb-dump", "--no-defaults", "--socket="+m.Socket(), "--user=root", "--routines", "--triggers",
		from)
	c.Stdout, c.Stderr = &dump, &errs
	if err := c.Run(); err != nil {
		t.Fatalf("%v: %s", err, errs.String())
	}
	if err := m.Exec("", "create database "+to); err != nil {
		t.Fatal(err)
	}
	c = exec.Command("mariadb", "--no-defaults", "--socket="+m.Socket(), "--user=root", to)
	c.Stdin, c.Stderr = &dump, &errs
	if err := c.Run(); err != nil {
		t.Fatalf("%v: %s", err, errs.String())
	}
}

// TestCopiesOfADatabase are restored under another name, with and without their ledger: what
// applications write there touches nothing of the first, and nothing runs without a ledger.
func TestCopiesOfADatabase(t *testing.T) {
	o := newOfficeOn(t, mariadb, berths, "insert into berth values (1, 'A1'), (2, 'B2')")
	o.must("adopt", "--yes")
	o.migration("0002-less", "-- No names\nalter table berth drop column name restore using ('?');\n")
	o.must("advance", "--yes")
	m := mariadbServer(t)
	twin := &office{T: t, dir: o.dir, url: o.url + "_twin"}
	t.Cleanup(func() { m.Drop(twin.name()) })
	copyOf(t, m, o.name(), twin.name())
	twin.exec("delete from berth where id = 1", "update berth set id = 7 where id = 2", "insert into berth values (3)")
	for _, command := range [][]string{{"status"}, {"check"}, {"advance", "--yes"}, {"retreat", "--to", "1", "--yes"}} {
		twin.wants(twin.code(3, append(command, "--url", twin.url)...),
			"the ledger of database "+twin.name()+" is not on this server", "lastboard adopt")
	}
	copyOf(t, m, "lastboard_"+o.name(), "lastboard_"+twin.name())
	twin.must("retreat", "--to", "1", "--yes", "--url", twin.url)
	twin.same("select id, name from berth order by id", "3|?\n7|B2")
	o.must("retreat", "--to", "1", "--yes")
	o.same("select id, name from berth order by id", "1|A1\n2|B2")
}

// TestDatabaseThatWasMadeAnew is that the ledger of a database which was dropped is not taken
// for that of the one which has its name since.
func TestDatabaseThatWasMadeAnew(t *testing.T) {
	o := newOfficeOn(t, mariadb, berths)
	o.must("adopt", "--yes")
	o.exec("drop database " + o.name())
	if err := mariadbServer(t).Exec("", "create database "+o.name()); err != nil {
		t.Fatal(err)
	}
	o.exec(berths)
	o.migration("0002-depth", "-- A depth\nalter table berth add column depth integer;\n")
	before := o.snapshot()
	o.wants(o.code(3, "advance", "--yes"), "belongs to another database", "drop database lastboard_"+o.name())
	o.unchanged(before)
	o.exec("drop database lastboard_" + o.name())
	o.must("advance", "--yes")
}

// TestClaimOfAnother is that a session which keeps Lastboard out by taking its lock is named,
// with what ends it.
func TestClaimOfAnother(t *testing.T) {
	beside(t)
	for name, lock := range map[string]string{
		"PostgreSQL": "select pg_advisory_lock(hashtextextended('lastboard:' || current_database(), 0))",
		"MariaDB":    "select get_lock('LOCK', 0)",
	} {
		t.Run(name, func(t *testing.T) {
			o := officeOn(t, name, []string{"create table berth (id integer not null primary key)"})
			o.migration("0002-depth", "-- A depth\nalter table berth add column depth integer;\n")
			db := o.open()
			defer db.Close()
			if name == "MariaDB" {
				lock = strings.Replace(lock, "LOCK", "lastboard:"+o.name()+"_runner", 1)
			}
			if _, err := db.Exec(lock); err != nil {
				t.Fatal(err)
			}
			o.wants(o.code(3, "advance", "--yes"), "the lock of the one runner of this database is held by session", "user",
				"if that session is no Lastboard, end it:")
			db.Close()
			o.must("advance", "--yes")
		})
	}
}

// TestTriggersOfAnAccountThatIsGone keep applications from writing: audit names them, and what it
// says mends them.
func TestTriggersOfAnAccountThatIsGone(t *testing.T) {
	o := newOfficeOn(t, mariadb, "create table vessel (id integer primary key, name varchar(20)) engine=InnoDB",
		"insert into vessel values (1, 'Tern'), (2, 'Knot'), (3, 'Dunlin')",
		"create user if not exists gone_pilot@'127.0.0.1'", "grant all on *.* to gone_pilot@'127.0.0.1'")
	o.must("adopt", "--yes")
	o.migration("0002-less", "-- Less\nalter table vessel drop column name;\n")
	_, at, _ := strings.Cut(o.url, "@")
	pilot := *o
	pilot.url = "mariadb://gone_pilot@" + at
	pilot.must("advance", "--yes", "--url", pilot.url)
	o.must("audit")
	o.exec("drop user gone_pilot@'127.0.0.1'")
	db := o.open()
	defer db.Close()
	if _, err := db.Exec("delete from vessel where id = 1"); err == nil {
		t.Error("the server lets a trigger act as an account that is gone")
	}
	r := o.code(5, "audit")
	o.wants(r, "gone_pilot@127.0.0.1, which is gone: writes to the table fail", "create or replace trigger")
	var found struct {
		Differences []struct{ Mend string }
	}
	if err := json.Unmarshal([]byte(o.code(5, "audit", "--json").stdout), &found); err != nil {
		t.Fatal(err)
	}
	for _, d := range found.Differences {
		o.asPerson(d.Mend)
	}
	o.exec("delete from vessel where id = 1", "update vessel set id = 9 where id = 2")
	o.must("audit")
	o.must("retreat", "--to", "1", "--yes")
	o.same("select id, name from vessel order by id", "3|Dunlin\n9|Knot")
}

// TestCopyOfAFile is that a copy of an SQLite file, made while nothing runs or in the middle of a
// fill, is a database of its own: it goes on or back by itself, and the first one knows nothing of it.
func TestCopyOfAFile(t *testing.T) {
	beside(t)
	o := interleavedOffice(t, "SQLite", nil)
	f := &convoy{office: o, engine: "SQLite", ships: map[int]*ship{}}
	f.begin(interleaved{statement: "backfill vessel set berth = berth * 2;\nalter table vessel drop column flag"})
	p := o.pausedAt("batch-committed:1", "advance", "--yes", "--settle", "--let-writers-wait")
	if p == nil {
		t.Fatal("it did not come there")
	}
	o.exec("vacuum into 'file:"+o.dir+"/half.db'", "update vessel set name = 'first'")
	r := p.goOn()
	o.wants(r, "done: 0002")
	o.exec("vacuum into 'file:" + o.dir + "/whole.db'")
	for _, copied := range []string{"half.db", "whole.db"} {
		at := func(args ...string) []string { return append(args, "--url", "sqlite:"+copied) }
		if copied == "half.db" {
			o.must(at("advance", "--yes", "--settle", "--let-writers-wait")...)
		}
		o.wants(o.code(0, at("audit")...), "matches:")
		o.must(at("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")...)
		o.wants(o.code(0, at("audit")...), "matches:")
	}
	o.wants(o.code(0, "audit"), "matches:")
	o.same("select count(*) from vessel where berth = orig * 2 and name = 'first'", "400")
	o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
	o.same("select count(*) from vessel where berth = orig and name = 'first' and (flag = 'NO' or orig % 7 = 0)", "400")
}
