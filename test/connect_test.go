package test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"
)

// TestConnectionsThatFail is that each says what is wrong, changes nothing, and shows no
// password.
func TestConnectionsThatFail(t *testing.T) {
	beside(t)
	o := newServerOffice(t, "create table vessel (id integer primary key)", "grant select on vessel to guarded")
	at := strings.TrimPrefix(o.url, "postgres://postgres@")
	host, name, _ := strings.Cut(at, "/")
	for _, c := range []struct{ what, url, says string }{
		{"a wrong password", "postgres://guarded:ebbtide@" + at, "does not let you in"},
		{"no password", "postgres://guarded@" + at, "does not let you in"},
		{"no such database", "postgres://postgres@" + host + "/nosuch", "there is no database nosuch"},
		{"no such host", "postgres://postgres@nosuch.invalid/" + name, "no host nosuch.invalid"},
		{"nobody listens", "postgres://postgres@127.0.0.1:1/" + name, "does not answer"},
		{"TLS by another authority", "postgres://postgres@" + at + "?sslmode=verify-full&sslrootcert=" +
			postgresServer(t).Dir + "/other.pem", "do not agree on TLS"},
		{"no TLS where it is asked for", "postgres://pilot@" + at + "?sslmode=disable", "does not let you in"},
		{"no such user", "postgres://nosuch@" + at, "does not let you in"},
		{"no URL", "postgres://%zz", "cannot be read"},
		{"an engine that there is not", "oracle://x", "no engine for oracle: URLs"},
	} {
		t.Run(c.what, func(t *testing.T) {
			r := o.run("describe", "--url", c.url)
			if r.code != 1 && r.code != 3 && r.code != 2 {
				t.Errorf("wanted a failure, got %s", r)
			}
			o.wants(r, c.says)
			if strings.Contains(r.String(), "ebbtide") {
				t.Errorf("the password is shown: %s", r)
			}
		})
	}
	r := o.code(0, "describe", "--url", "postgres://guarded:tidewater@"+at)
	if strings.Contains(r.String(), "tidewater") {
		t.Errorf("the password is shown: %s", r)
	}
}

// TestWaysToConnect are those of the server's own programs.
func TestWaysToConnect(t *testing.T) {
	beside(t)
	o := newServerOffice(t, "create table vessel (id integer primary key)", "grant select on vessel to guarded")
	p := postgresServer(t)
	at := strings.TrimPrefix(o.url, "postgres://postgres@")
	host, name, _ := strings.Cut(at, "/")
	_, port, _ := strings.Cut(host, ":")
	o.write("secrets", host+":"+name+":guarded:tidewater\n")
	if err := os.Chmod(o.dir+"/secrets", 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		what, url string
		env       []string
	}{
		{"a socket", "postgres://postgres@/" + name + "?host=" + p.Dir + "&port=" + port, nil},
		{"TLS that is verified", "postgres://postgres@" + at + "?sslmode=verify-full&sslrootcert=" + p.Dir + "/ca.pem", nil},
		{"TLS from the environment", "postgres://postgres@" + at,
			[]string{"PGSSLMODE=verify-ca", "PGSSLROOTCERT=" + p.Dir + "/ca.pem"}},
		{"a password from the environment", "postgres://guarded@" + at, []string{"PGPASSWORD=tidewater"}},
		{"a password file", "postgres://guarded@" + at, []string{"PGPASSFILE=" + o.dir + "/secrets"}},
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

// TestRightsThatAreMissing is that check names the right, and the grant that gives it.
func TestRightsThatAreMissing(t *testing.T) {
	o := newServerOffice(t, "create table vessel (id integer primary key, name text)",
		"insert into vessel values (1, 'Tern')")
	_, rest, _ := strings.Cut(o.url, "@")
	_, name, _ := strings.Cut(rest, "/")
	mate := "mate_" + name
	o.exec("create role "+mate+" login", "revoke create on schema public from public")
	t.Cleanup(func() {
		o.exec("drop owned by "+mate, "drop role "+mate)
	})
	o.must("adopt", "--yes")
	o.migration("0002-change", "-- A change\nalter table vessel add flag text unique;\n")
	url := "postgres://" + mate + "@" + rest
	try := func(says ...string) {
		t.Helper()
		before := o.snapshot()
		r := o.run("check", "--url", url)
		if r.code == 0 {
			t.Errorf("wanted a failure, got %s", r)
		}
		o.wants(r, says...)
		o.unchanged(before)
	}
	o.exec("grant select on vessel to "+mate, "grant usage on schema lastboard to "+mate,
		"grant select on all tables in schema lastboard to "+mate)
	try("may not make a schema in database", "grant create on database")
	o.exec("grant create on database " + name + " to " + mate)
	try("table vessel belongs to postgres", `grant "postgres" to "`+mate+`"`)
	o.exec("alter table vessel owner to " + mate)
	try("may make nothing in schema public", `grant create on schema "public"`)
	o.exec("grant create on schema public to " + mate)
	o.wants(o.code(0, "check", "--url", url), "will have no flag")
}

// TestReadOnlyServer is refused before anything is changed.
func TestReadOnlyServer(t *testing.T) {
	o := newServerOffice(t, "create table vessel (id integer primary key)")
	o.must("adopt", "--yes")
	o.migration("0002-change", "-- A change\nalter table vessel add flag text;\n")
	_, name, _ := strings.Cut(strings.TrimPrefix(o.url, "postgres://"), "/")
	o.exec("alter database " + name + " set default_transaction_read_only = on")
	r := o.run("advance", "--yes")
	if r.code != 1 {
		t.Errorf("wanted a failure, got %s", r)
	}
	o.wants(r, "can be read but not written", "connect to the primary server")
}

// TestPoolerThatSharesSessions is refused: nobody could tell the one runner there.
func TestPoolerThatSharesSessions(t *testing.T) {
	o := newServerOffice(t, "create table vessel (id integer primary key)")
	o.must("adopt", "--yes")
	o.migration("0002-change", "-- A change\nalter table vessel add flag text;\n")
	_, name, _ := strings.Cut(strings.TrimPrefix(o.url, "postgres://"), "/")
	url, stop, err := postgresServer(t).StartPooler(name)
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	before := o.snapshot()
	r := o.run("advance", "--yes", "--url", url)
	if r.code == 0 {
		t.Errorf("wanted a refusal, got %s", r)
	}
	o.wants(r, "a pooler shares the sessions")
	o.unchanged(before)
	o.must("advance", "--yes")
}

// TestOtherServers is that a server which answers in another way is refused by what it
// says of itself.
func TestOtherServers(t *testing.T) {
	o := newServerOffice(t, "create table vessel (id integer primary key)",
		"create function public.version() returns text language sql as $$ select 'HarbourSQL 3.1 (compatible with "+
			"PostgreSQL 15)'::text $$")
	_, name, _ := strings.Cut(strings.TrimPrefix(o.url, "postgres://"), "/")
	o.exec("alter database " + name + " set search_path = public, pg_catalog")
	r := o.run("describe")
	if r.code == 0 {
		t.Errorf("wanted a refusal, got %s", r)
	}
	o.wants(r, "is another: HarbourSQL 3.1", "--unproven")
	o.wants(o.code(0, "describe", "--unproven"), "vessel")
}

// TestConnectionThatIsLost stops in the middle, and the next run goes on.
func TestConnectionThatIsLost(t *testing.T) {
	o := newServerOffice(t, "create table vessel (id integer primary key, name text)",
		"insert into vessel select g, 'V' || g from generate_series(1, 200000) g", "analyze")
	o.must("adopt", "--yes")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
		"'\nlive = true\n[databases.dev.pace]\nbatch_time = '20ms'\n")
	o.migration("0002-change", "-- A change\nalter table vessel add tag text not null using (name || '!');\n")
	c := o.command("advance", "--yes")
	var out strings.Builder
	c.Stdout, c.Stderr = &out, &out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	db := o.open()
	defer db.Close()
	ended := false
	for range 400 {
		time.Sleep(20 * time.Millisecond)
		var rows int64
		if err := db.QueryRow("select coalesce(max(done_rows), 0) from lastboard.backfill").Scan(&rows); err == nil &&
			rows > 5000 {
			if _, err := db.Exec("select pg_terminate_backend(pid) from pg_stat_activity where datname = " +
				"current_database() and application_name = 'lastboard'"); err != nil {
				t.Fatal(err)
			}
			ended = true
			break
		}
	}
	err := c.Wait()
	if !ended || err == nil || c.ProcessState.ExitCode() != 4 {
		t.Fatalf("wanted a run that is stopped in the middle, got %v %d:\n%s", ended, c.ProcessState.ExitCode(), out.String())
	}
	if !strings.Contains(out.String(), "connection") {
		t.Errorf("wanted to hear of the connection, got %s", out.String())
	}
	o.must("advance", "--yes")
	const all = "int64:200000|int64:200000|int64:200000"
	if got := o.query("select count(*), count(tag), count(distinct tag) from vessel"); got != all {
		t.Errorf("after going on: %s", got)
	}
}

// TestWhoIsInTheWay is said while a lock is asked for.
func TestWhoIsInTheWay(t *testing.T) {
	o := newServerOffice(t, "create table vessel (id integer primary key)")
	o.must("adopt", "--yes")
	o.migration("0002-change", "-- A change\nalter table vessel add flag text;\n")
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
	o.wants(r, "in the way is session", "idle in transaction", "select count(*) from vessel")
	o.unchanged(before)
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}
	o.must("advance", "--yes")
}
