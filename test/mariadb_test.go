package test

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"lastboard/test/server"
)

// TestMariaDBConnectionsThatFail is that each says what is wrong and shows no password.
func TestMariaDBConnectionsThatFail(t *testing.T) {
	beside(t)
	o := newOfficeOn(t, mariadb, "create table vessel (id integer primary key) engine=InnoDB")
	at := strings.TrimPrefix(o.url, "mariadb://root@")
	host, name, _ := strings.Cut(at, "/")
	for _, c := range []struct{ what, url, says string }{
		{"a wrong password", "mariadb://guarded:ebbtide@" + at, "does not let you in"},
		{"no password", "mysql://guarded@" + at, "does not let you in"},
		{"no such database", "mariadb://root@" + host + "/nosuch", "there is no database nosuch"},
		{"no such host", "mariadb://root@nosuch.invalid/" + name, "no host nosuch.invalid"},
		{"nobody listens", "mariadb://root@127.0.0.1:1/" + name, "does not answer"},
		{"TLS by another authority", "mariadb://root@" + at + "?tls=verify&tls-ca=" + mariadbServer(t).Dir + "/other.pem",
			"do not agree on TLS"},
		{"no TLS where it is asked for", "mariadb://pilot@" + at + "?tls=off", "does not let you in"},
		{"no database", "mariadb://root@" + host, "it names no database"},
		{"another way of TLS", "mariadb://root@" + at + "?tls=perhaps", "none of off, prefer, require, verify"},
	} {
		t.Run(c.what, func(t *testing.T) {
			r := o.run("describe", "--url", c.url)
			if r.code == 0 {
				t.Errorf("wanted a failure, got %s", r)
			}
			o.wants(r, c.says)
			if strings.Contains(r.String(), "ebbtide") {
				t.Errorf("the password is shown: %s", r)
			}
		})
	}
}

// TestMariaDBWaysToConnect are TLS, a socket, the environment and option files.
func TestMariaDBWaysToConnect(t *testing.T) {
	beside(t)
	o := newOfficeOn(t, mariadb, "create table vessel (id integer primary key) engine=InnoDB")
	m := mariadbServer(t)
	at := strings.TrimPrefix(o.url, "mariadb://root@")
	_, name, _ := strings.Cut(at, "/")
	o.exec("grant select on " + name + ".* to guarded@'127.0.0.1'")
	o.write("options.cnf", "[mysqld]\nport = 1\n[client]\n# a comment\nuser = guarded\npassword = \"tidewater\"\n")
	for _, c := range []struct {
		what, url string
		env       []string
	}{
		{"a socket", "mariadb://root@/" + name + "?socket=" + m.Socket(), nil},
		{"TLS that is verified", "mariadb://root@" + at + "?tls=verify&tls-ca=" + m.Dir + "/ca.pem", nil},
		{"TLS as it comes", "mariadb://root@" + at + "?tls=require", nil},
		{"a password from the environment", "mariadb://guarded@" + at, []string{"MYSQL_PWD=tidewater"}},
		{"an option file", "mariadb://" + at + "?option-file=" + o.dir + "/options.cnf", nil},
	} {
		t.Run(c.what, func(t *testing.T) {
			way := &office{T: t, dir: o.dir, url: o.url, env: c.env}
			r := way.code(0, "describe", "--url", c.url)
			way.wants(r, "vessel", name)
			if strings.Contains(r.String(), "tidewater") {
				t.Errorf("the password is shown: %s", r)
			}
		})
	}
}

// TestMariaDBRightsThatAreMissing is that they are named before anything is changed.
func TestMariaDBRightsThatAreMissing(t *testing.T) {
	o := newOfficeOn(t, mariadb, "create table vessel (id integer primary key, name varchar(20)) engine=InnoDB",
		"insert into vessel values (1, 'Tern')")
	o.must("adopt", "--yes")
	o.migration("0002-change", "-- A change\nalter table vessel add flag varchar(9);\n")
	_, rest, _ := strings.Cut(o.url, "@")
	_, name, _ := strings.Cut(rest, "/")
	mate := "mate_" + name
	o.exec("create user "+mate+"@'127.0.0.1'", "grant select on "+name+".* to "+mate+"@'127.0.0.1'",
		"grant select on lastboard_"+name+".* to "+mate+"@'127.0.0.1'")
	t.Cleanup(func() { o.exec("drop user " + mate + "@'127.0.0.1'") })
	url := "mariadb://" + mate + "@" + rest
	before := o.snapshot()
	r := o.run("check", "--url", url)
	if r.code == 0 {
		t.Errorf("wanted a failure, got %s", r)
	}
	o.wants(r, "may make no database for the empty copies", "grant all on `lastboard\\_trial\\_%`.*")
	o.unchanged(before)
	o.exec("grant all on `lastboard\\_trial\\_%`.* to " + mate + "@'127.0.0.1'")
	o.code(0, "check", "--url", url)
	if r := o.run("advance", "--yes", "--url", url); r.code == 0 {
		t.Errorf("a user who may only read has changed a table: %s", r)
	}
	o.unchanged(before)
}

// TestMariaDBOfOtherKinds are servers that are refused, or wait for more: one that writes a
// binary log, one that can only be read, one that says that it is another.
func TestMariaDBOfOtherKinds(t *testing.T) {
	beside(t)
	m, err := server.StartMariaDB("log-bin=log", "server-id=1", "binlog-format=ROW")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Stop() })
	for _, sql := range []string{"create database harbour", "create user mate@'127.0.0.1'",
		"grant all on harbour.* to mate@'127.0.0.1'", "grant all on `lastboard\\_trial\\_%`.* to mate@'127.0.0.1'",
		"grant all on `lastboard\\_harbour`.* to mate@'127.0.0.1'"} {
		if err := m.Exec("", sql); err != nil {
			t.Fatal(err)
		}
	}
	o := &office{T: t, dir: t.TempDir(), url: m.URL("harbour")}
	o.exec("create table vessel (id integer primary key, name varchar(20)) engine=InnoDB",
		"insert into vessel values (1, 'Tern')")
	o.must("init", "--url", strings.Replace(o.url, "root@", "mate@", 1))
	o.must("adopt", "--yes")
	o.migration("0002-change", "-- A change\nbackfill vessel set name = upper(name);\n")
	before := o.snapshot()
	for _, command := range []string{"check", "advance"} {
		r := o.run(command, "--yes")
		if command == "check" {
			r = o.run(command)
		}
		if r.code != 3 {
			t.Errorf("wanted a refusal, got %s", r)
		}
		o.wants(r, "writes a binary log", "log_bin_trust_function_creators")
	}
	o.unchanged(before)
	o.exec("set global log_bin_trust_function_creators = 1")
	o.must("advance", "--yes")
	o.same("select name from vessel", "TERN")
	o.exec("set global read_only = 1")
	o.migration("0003-change", "-- A change\nalter table vessel add flag varchar(9);\n")
	r := o.run("advance", "--yes")
	if r.code == 0 {
		t.Errorf("a server that can only be read was changed: %s", r)
	}
	o.wants(r, "can be read but not written")
	o.wants(o.code(0, "describe"), "vessel")
	o.exec("set global read_only = 0")
	o.must("advance", "--yes")
}

// TestMariaDBWhoIsInTheWay is said while a lock is asked for, and nothing is recorded of a
// run that has changed nothing.
func TestMariaDBWhoIsInTheWay(t *testing.T) {
	o := newOfficeOn(t, mariadb, "create table vessel (id integer primary key) engine=InnoDB")
	o.must("adopt", "--yes")
	o.migration("0002-change", "-- A change\nalter table vessel add flag varchar(9);\n")
	db := o.open()
	defer db.Close()
	tx, err := db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec("select count(*) from vessel"); err != nil {
		t.Fatal(err)
	}
	o.write("lastboard.toml", fmt.Sprintf("database = 'dev'\n[databases.dev]\nurl = "+
		"'%s'\n[databases.dev.pace]\nlock_tries = 3\nlock_wait = '100ms'\n", o.url))
	before := o.snapshot()
	r := o.run("advance", "--yes")
	if r.code != 1 {
		t.Errorf("wanted a failure, got %s", r)
	}
	o.wants(r, "in the way is session", "user root", ", for ", "nothing was changed")
	o.unchanged(before)
	o.same("select count(*) from "+o.ledger("migration")+" where version = '0002'", "0")
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}
	o.must("advance", "--yes")
}

// TestMariaDBNoValueIsLostWhileAColumnIsFilled fills a column of a table to which others
// add rows, and whose rows they change.
func TestMariaDBNoValueIsLostWhileAColumnIsFilled(t *testing.T) {
	beside(t)
	const rows = 15_000
	for what, statement := range map[string]string{
		"not null":     "alter table call_ add fee bigint not null using (dues * 2)",
		"nullable":     "alter table call_ add fee bigint using (dues * 2)",
		"another type": "alter table call_ alter note set data type varchar(60) using (trim(note))",
	} {
		t.Run(what, func(t *testing.T) {
			o := newOfficeOn(t, mariadb, "create table call_ (id bigint auto_increment primary key, dues integer not null, "+
				"note varchar(50)) engine=InnoDB character set utf8mb4 collate utf8mb4_nopad_bin",
				fmt.Sprintf("insert into call_ (dues, note) select seq, concat(' ', seq) from seq_1_to_%d", rows),
				"analyze table call_")
			o.must("adopt", "--yes")
			o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
				"'\nlive = true\n[databases.dev.pace]\nlock_wait = '50ms'\nlock_tries = 200\nbatch_time = '4ms'\nwork_share = "+
				"'66 %'\n")
			o.migration("0002-change", "-- A change\n"+statement+";\n")
			var added atomic.Int64
			stop := o.meanwhile(2, func(db *sql.DB, r *rand.Rand) error {
				_, err := db.Exec("insert into call_ (dues, note) values (7, ' new')")
				if err != nil && strings.Contains(err.Error(), "fee") {
					err = nil // the column is there, and wants a value
				} else if err == nil {
					added.Add(1)
				}
				if err == nil {
					id := 1 + r.Int64N(rows)
					_, err = db.Exec("delete from call_ where id = ?", id)
				}
				time.Sleep(time.Millisecond)
				return err
			})
			o.must("advance", "--yes", "--settle", "--let-writers-wait")
			if n := stop(); n < 50 {
				t.Errorf("others did %d times what they do", n)
			}
			if what == "another type" {
				o.same(fmt.Sprintf("select count(*) from call_ where id <= %d and note <> cast(dues as char)", rows), "0")
			} else {
				o.same(fmt.Sprintf("select count(*) from call_ where id <= %d and (fee is null or fee <> dues * 2)", rows), "0")
				o.same("select count(*) from call_ where fee <> dues * 2", "0")
			}
			o.same("select count(*) from call_ where dues = 7 and note like '%new'", fmt.Sprint(added.Load()))
			o.same("select count(*) from information_schema.triggers where trigger_schema = database() and trigger_name "+
				"like '%fill'", "0")
			o.same("select count(*) from information_schema.columns where table_schema = database() and column_name like "+
				"'lastboard%next'", "0")
		})
	}
}

// TestMariaDBCluster is a server of a replicated cluster: what is instant is done there,
// and what is not is refused before anything is touched, with the reason.
func TestMariaDBCluster(t *testing.T) {
	beside(t)
	port, err := server.FreePort()
	if err != nil {
		t.Fatal(err)
	}
	m, err := server.StartMariaDB("wsrep-on=ON", "wsrep-provider=/usr/lib/galera/libgalera_smm.so",
		"wsrep-cluster-address=gcomm://", "wsrep-new-cluster", "wsrep-cluster-name=harbour", "wsrep-node-address=127.0.0.1",
		"binlog-format=ROW", "innodb-autoinc-lock-mode=2",
		fmt.Sprintf("wsrep-provider-options=gmcast.listen_addr=tcp://127.0.0.1:%d;gcache.size=8M", port))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Stop() })
	if err := m.Exec("", "create database harbour"); err != nil {
		t.Fatal(err)
	}
	o := &office{T: t, dir: t.TempDir(), url: m.URL("harbour")}
	o.exec("create table vessel (id integer primary key, name varchar(20), tons integer) engine=InnoDB",
		"insert into vessel values (1, 'Tern', 40), (2, 'Gull', 50)")
	o.must("init", "--url", o.url)
	o.must("adopt", "--yes")
	o.migration("0002-change", "-- A change\nalter table vessel add flag varchar(9) default 'NO', rename tons to "+
		"burden;\nbackfill vessel set name = upper(name);\n")
	o.must("advance", "--yes")
	o.same("select name, burden, flag from vessel order by id", "TERN|40|NO\nGULL|50|NO")
	before := o.snapshot()
	o.migration("0003-change", "-- A change\nalter table vessel alter burden set data type bigint;\n")
	for _, args := range [][]string{{"check"}, {"forecast"}, {"advance", "--yes"}} {
		r := o.run(args...)
		if r.code != 3 {
			t.Errorf("wanted a refusal, got %s", r)
		}
		o.wants(r, "one of a cluster", "only instant changes")
	}
	o.unchanged(before)
	o.migration("0003-change", "-- A change\ncreate index by_name on vessel (name);\n")
	o.wants(o.run("check"), "one of a cluster")
	o.migration("0003-change", "-- A change\nalter table vessel drop flag;\n")
	o.must("advance", "--yes")
	o.must("retreat", "--to", "1", "--yes")
	o.same("select name, tons from vessel order by id", "Tern|40\nGull|50")
}

// TestMariaDBZeroDates are dates that are none, which a careless server has let in: they
// are shown as they are, stand in nobody's way, and are never made or taken for another.
func TestMariaDBZeroDates(t *testing.T) {
	o := newOfficeOn(t, mariadb, "create table vessel (id integer primary key, name varchar(20), built date, seen "+
		"datetime, left_at datetime not null default '0000-00-00 00:00:00') engine=InnoDB")
	o.exec("set sql_mode = ''; insert into vessel values (1, 'Tern', '0000-00-00', '2031-05-01 10:00:00', now()), " +
		"(2, 'Gull', '2031-00-00', null, now()), (3, 'Skua', '2031-05-01', '0000-00-00 00:00:00', default)")
	o.must("adopt", "--yes")
	o.wants(o.code(0, "describe", "vessel", "--rows", "5"), "0000-00-00", "2031-00-00")
	o.migration("0002-change", "-- A change\nalter table vessel add flag varchar(9) not null default 'NO', rename "+
		"name to title;\nbackfill vessel set title = upper(title);\n")
	o.must("advance", "--yes")
	o.same("select title, cast(built as char), flag from vessel order by id",
		"TERN|0000-00-00|NO\nGULL|2031-00-00|NO\nSKUA|2031-05-01|NO")
	o.migration("0003-drop", "-- A change\nalter table vessel drop built, drop seen;\n")
	o.must("advance", "--yes")
	o.must("retreat", "--to", "1", "--yes")
	o.same("select name, cast(built as char), coalesce(cast(seen as char), 'none') from vessel order by id",
		"Tern|0000-00-00|2031-05-01 10:00:00\nGull|2031-00-00|none\nSkua|2031-05-01|0000-00-00 00:00:00")
	o.migration("0002-change", "-- A change\nalter table vessel alter built set data type timestamp, alter id set "+
		"data type bigint;\nalter table vessel alter left_at set not null, rename left_at to gone_at;\n")
	os.Remove(filepath.Join(o.dir, "migrations", "0003-drop.sql"))
	before := o.snapshot()
	o.must("advance", "--yes")
	o.same("select cast(built as char) from vessel order by id",
		"0000-00-00 00:00:00.000000\n2031-00-00 00:00:00.000000\n2031-05-01 00:00:00.000000")
	o.same("select cast(gone_at as char) from vessel where id = 3", "0000-00-00 00:00:00")
	o.must("retreat", "--to", "1", "--yes")
	o.unchanged(before)
}

// TestIndexesThatTheServerMade for foreign keys without a name are part of their tables: the
// server would let another index take their place.
func TestIndexesThatTheServerMade(t *testing.T) {
	beside(t)
	for _, change := range []string{
		"create index by_parent on quay (parent)", "create index by_both on quay (parent, n)",
		"alter table quay add unique (parent, n)",
		"create index by_n on quay (n)", "alter table quay add flag varchar(20)",
		"alter table quay rename column parent to above", "alter table quay drop constraint quay_ibfk_1",
	} {
		t.Run(change, func(t *testing.T) {
			o := newOfficeOn(t, mariadb, "create table quay (id integer primary key, n integer, parent integer references "+
				"quay (id) on delete no action on update no action) engine=InnoDB",
				"insert into quay values (1, 1, null), (2, 2, 1)")
			o.must("adopt", "--yes")
			start := o.snapshot()
			o.migration("0002-change", "-- A change\n"+change+";\n")
			o.must("advance", "--yes")
			if !strings.Contains(change, "drop") {
				o.same("select count(*) from information_schema.statistics where table_schema = database() and table_name = "+
					"'quay' and index_name = 'parent'", "1")
			}
			o.must("retreat", "--to", "1", "--yes")
			o.unchanged(start)
			o.wants(o.code(0, "audit"), "matches:")
		})
	}
}

// TestKeptValuesFollowAKeyWithAnotherName is that what one statement of a way back keeps
// follows its rows when the next gives their key another name, and that what it has let go
// of is not looked for.
func TestKeptValuesFollowAKeyWithAnotherName(t *testing.T) {
	o := newOfficeOn(t, mariadb, "create table vessel (id integer primary key, flag date) engine=InnoDB",
		"insert into vessel values (1, '2031-01-01'), (2, null)")
	o.must("adopt", "--yes")
	o.migration("0002-change", "-- Another key\nalter table vessel rename id to number;\nalter table vessel add "+
		"berths integer not null default 3, alter flag set data type timestamp;\n")
	o.must("advance", "--yes")
	o.exec("update vessel set berths = number + 4")
	o.must("retreat", "--to", "1", "--yes")
	o.exec("delete from vessel where id = 1", "insert into vessel values (1, null)")
	o.wants(o.code(0, "audit"), "matches:")
	o.must("advance", "--yes")
	o.same("select number, flag, berths from vessel order by number", "1|null|3\n2|null|6")
	o.migration("0003-change", "-- Both at once\nalter table vessel alter flag set not null using (timestamp "+
		"'2031-05-01 00:00:00'), rename number to id;\n")
	o.must("advance", "--yes")
	o.exec("delete from vessel where id = 1", "update vessel set id = 3 where id = 2")
	o.wants(o.code(0, "audit"), "matches:")
	o.must("retreat", "--to", "2", "--yes")
	o.same("select number, cast(flag as char) from vessel", "3|null")
}
