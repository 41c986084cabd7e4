package test

import (
	"maps"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestStoryOnServers tells the whole story on each server, takes it back to the start, and
// compares every row with what was there.
func TestStoryOnServers(t *testing.T) {
	beside(t)
	for i, engine := range slices.Sorted(maps.Keys(engines)) {
		if !itsTurn(i, 3) {
			continue
		}
		t.Run(engine, func(t *testing.T) {
			beside(t)
			storyThereAndBack(&office{T: t, dir: t.TempDir(), url: engines[engine](t)})
		})
	}
}

func storyThereAndBack(o *office) {
	t := o.T
	out := o.must("demo", "office", "--rows", "8000", "--url", o.url)
	for _, says := range []string{"0 lost, 0 refused", "matches: the tables are what the migrations say"} {
		if !strings.Contains(out, says) {
			t.Errorf("the story does not say %q", says)
		}
	}
	all := "select (select count(*) from port_call), (select sum(dues) from port_call), (select sum(length_ft) from " +
		"vessel), (select string_agg(winter_berth, '' order by id) from vessel), " +
		"(select string_agg(coalesce(registry, '?'), ',' order by id) from vessel), (select " +
		"string_agg(coalesce(cast(berth_id as text), '?'), ',' order by id) from port_call where id < 5000)"
	if o.onMariaDB() {
		all = regexp.MustCompile(`string_agg\((.*?), '(,?)' order by id\)`).ReplaceAllString(all,
			"group_concat($1 order by id separator '$2')")
		all = strings.ReplaceAll(all, "as text)", "as char)")
	}
	end := o.query(all)
	home := o.dir
	o.dir = home + "/office"
	o.must("retreat", "--to", "0001", "--yes", "--settle", "--let-writers-wait")
	o.wants(o.code(0, "audit"), "matches:")
	start := o.query(all)
	if start == end {
		t.Error("the way back has put no registry and no berth back")
	}
	if got := o.query("select count(*) from port_call where berth_id is null or berth_id > 24"); got == "int64:0" {
		t.Error("the dirt of the start has not come back")
	}
	o.must("advance", "--yes", "--settle", "--let-writers-wait", "--to", "0012")
	if again := o.query(all); again != end {
		t.Errorf("the second time forward differs:\n%s\n%s", end, again)
	}
}

// TestKeysOfEveryKind fills tables in batches by keys of every kind: each row is filled
// once, and the old values go back.
func TestKeysOfEveryKind(t *testing.T) {
	beside(t)
	kinds := map[string]string{
		"gaps and negative": "create table v (id bigint primary key, n integer); insert into v select g * 37 - 40000, g " +
			"from generate_series(1, 3000) g",
		"composite": "create table v (a integer, b text, n integer, primary key (a, b)); insert into v select g " +
			"/ 7, 'k' || g % 7, g from generate_series(1, 3000) g",
		"uuid": "create table v (id uuid primary key, n integer); insert into v select gen_random_uuid(), " +
			"g from generate_series(1, 3000) g",
		"text": "create table v (id text primary key, n integer); insert into v select 'größe ''' || " +
			"md5(g::text), g from generate_series(1, 3000) g",
		"time": "create table v (id timestamp primary key, n integer); insert into v select timestamp " +
			"'1999-12-31 23:59:59.123456' + g * interval '1 hour', g from generate_series(1, 3000) g",
		"decimal": "create table v (id numeric(12,3) primary key, n integer); insert into v select g / 7.0, g " +
			"from generate_series(1, 3000) g",
		"unique, not null": "create table v (id integer not null unique, n integer); insert into v select g, g from " +
			"generate_series(1, 3000) g",
		"none": "create table v (n integer); insert into v select g from generate_series(1, 3000) g",
	}
	for i, name := range slices.Sorted(maps.Keys(kinds)) {
		create := kinds[name]
		inTurn(t, i, 3, name, func(t *testing.T) {
			o := newServerOffice(t, strings.Split(create, "; ")...)
			o.exec("analyze")
			o.must("adopt", "--yes")
			o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
				"'\n[databases.dev.pace]\nlock_wait = '1us'\nbatch_time = '1ms'\n")
			before := o.query("select sum(n), count(*) from v")
			discard := ""
			if name == "none" {
				discard = " discard"
			}
			o.migration("0002-change", "-- A change\nbackfill v set n = n + 1"+discard+
				";\nalter table v add m integer not null using (n * 2);\n")
			o.must("advance", "--yes")
			o.same("select sum(m - 2 * n), count(m) from v", "0|3000")
			o.must("retreat", "--to", "1", "--yes")
			if discard == "" {
				if after := o.query("select sum(n), count(*) from v"); after != before {
					t.Errorf("the old values are not back: %s, and were %s", after, before)
				}
			}
		})
	}
}

// TestTwoWorkersAreStopped kills a backfill that two workers share, and goes on with one.
func TestTwoWorkersAreStopped(t *testing.T) {
	o := newServerOffice(t, "create table v (id bigint primary key, n integer)",
		"insert into v select g, 0 from generate_series(1, 60000) g", "analyze")
	o.must("adopt", "--yes")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
		"'\n[databases.dev.pace]\nlock_wait = '1us'\nbatch_time = '5ms'\n")
	o.migration("0002-change", "-- A change\nbackfill v set n = n + 1;\n")
	for _, point := range []string{"batch-committed:9", "batch-before-commit:4", "batch-statement:5"} {
		o.env = []string{"LASTBOARD_FAULT=" + point}
		if !o.run("advance", "--yes", "--workers", "2").killed {
			t.Fatalf("it was not killed at %s", point)
		}
	}
	o.env = nil
	o.must("advance", "--yes")
	o.same("select min(n), max(n), count(*) from v", "1|1|60000")
	o.must("retreat", "--to", "1", "--yes", "--workers", "2")
	o.same("select min(n), max(n), count(*) from v", "0|0|60000")
}

// TestSettingsThatWouldChangeTheMeaning are those of a role and a database: Lastboard's
// sessions do not follow them.
func TestSettingsThatWouldChangeTheMeaning(t *testing.T) {
	o := newServerOffice(t, "create table v (id integer primary key, s text, at timestamp with time zone)",
		`insert into v values (1, 'a\b', '2031-05-01 12:00:00+00')`)
	_, name, _ := strings.Cut(strings.TrimPrefix(o.url, "postgres://"), "/")
	var settings []string
	for _, s := range []string{"timezone = 'Asia/Tokyo'", "datestyle = 'SQL, DMY'", "standard_conforming_strings = off",
		"statement_timeout = '1ms'", "lock_timeout = '1ms'", "bytea_output = 'escape'", "extra_float_digits = 0",
		"default_transaction_isolation = 'serializable'", "intervalstyle = 'sql_standard'",
		"idle_in_transaction_session_timeout = '20ms'"} {
		settings = append(settings, "alter database "+name+" set "+s)
	}
	o.exec(settings...) // from a session that does not follow them
	o.must("adopt", "--yes")
	o.migration("0002-change", `-- A change
alter table v add t text using (cast(at as text)), add b text using (s || '\n'), add d date default '2031-02-03', alter at set data type timestamp;
`)
	o.must("advance", "--yes")
	elsewhere := *o
	elsewhere.url = postgresServer(t).URL("postgres") // a statement there may take more than a millisecond
	elsewhere.exec("alter database " + name + " reset all")
	o.same("select t, b, to_char(d, 'YYYY-MM-DD'), to_char(at, 'HH24') from v",
		`2031-05-01 12:00:00+00|a\b\n|2031-02-03|12`)
}

// TestManyTablesTakeFewQueries counts the statements that a command sends to a database
// of a thousand tables.
func TestManyTablesTakeFewQueries(t *testing.T) {
	beside(t)
	for name, o := range map[string]*office{
		"PostgreSQL": newServerOffice(t, "do $$ begin for i in 1..1000 loop execute format('create table t%s (id "+
			"integer primary key, name text not null default ''x'', parent integer references t%s)', i, greatest(i - 1, "+
			"1)); end loop; end $$"),
		"MariaDB": newOfficeOn(t, mariadb, "create procedure build() begin declare i int default 1; while i <= 1000 do "+
			"execute immediate concat('create table t', i, ' (id integer primary key, name varchar(20) not null, parent "+
			"integer references t', greatest(i - 1, 1), ' (id)) engine=InnoDB'); set i = i + 1; end while; end",
			"call build()", "drop procedure build"),
	} {
		t.Run(name, func(t *testing.T) {
			o.T = t
			scheme, rest, _ := strings.Cut(o.url, "://")
			place, database, _ := strings.Cut(rest, "/")
			who, address, _ := strings.Cut(place, "@")
			of, options := postgresStatements, "?sslmode=disable"
			if o.onMariaDB() {
				of, options = mariadbStatements, "?tls=off"
			}
			r := relayTo(t, address, of)
			o.must("adopt", "--yes")
			o.migration("0002-change", "-- A change\nalter table t500 add flag varchar(20);\n")
			for _, c := range []struct {
				command string
				most    int64
			}{{"check", 75}, {"describe", 40}} {
				before, began := r.statements.Load(), time.Now()
				o.must(c.command, "--url", scheme+"://"+who+"@"+r.address+"/"+database+options)
				n, took := r.statements.Load()-before, time.Since(began).Round(time.Millisecond)
				if t.Logf("%s: %d statements, %v", c.command, n, took); n < 5 || n > c.most {
					t.Errorf("%s sends %d statements, from 5 to %d wanted", c.command, n, c.most)
				}
			}
		})
	}
}

// TestFailedBuildIsTakenAway is that an index whose build fails is not left half built.
func TestFailedBuildIsTakenAway(t *testing.T) {
	o := newServerOffice(t, "create table v (id integer primary key, n integer)",
		"insert into v select g, g from generate_series(1, 3000) g", "analyze")
	o.must("adopt", "--yes")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
		"'\n[databases.dev.pace]\nlock_wait = '1us'\n")
	o.migration("0002-change", "-- A change\nalter table v add constraint one unique (n);\n")
	// A duplicate that comes after the proof: the build fails in the middle.
	o.exec("create function late() returns event_trigger language plpgsql as $$ begin if tg_tag = 'CREATE INDEX' "+
		"then raise exception 'not now'; end if; end $$",
		"create event trigger late on ddl_command_end when tag in ('CREATE INDEX') execute function late()")
	before := o.query("select count(*) from pg_index where indrelid = 'v'::regclass")
	r := o.run("advance", "--yes")
	if r.code == 0 {
		t.Fatalf("wanted a build that fails, got %s", r)
	}
	o.exec("drop event trigger late")
	if after := o.query("select count(*) from pg_index where indrelid = 'v'::regclass"); after != before {
		t.Errorf("there are %s indexes, and were %s", after, before)
	}
	o.must("advance", "--yes")
	o.same("select indisvalid from pg_index where indexrelid = 'one'::regclass", "true")
}

// TestViewsOfWhatHasGone is that a view of a table that the same migration has given another
// name is refused before anything is touched, though the table is there still.
func TestViewsOfWhatHasGone(t *testing.T) {
	o := newServerOffice(t, "create table vessel (id integer primary key)", "create view afloat as select id from vessel")
	o.must("adopt", "--yes")
	refusal(t, o, "alter table vessel rename to ship; create view more as select * from vessel", "engine-refuses",
		"reads vessel, which is not there any more")
	refusal(t, o, "drop view afloat; create view more as select * from afloat", "engine-refuses",
		"reads afloat, which is not there any more")
	o.migration("0002-change", "-- A change\nalter table vessel rename to ship; create view more as select * from "+
		"ship; drop view afloat; create view afloat as select id from ship;\n")
	o.must("advance", "--yes")
	o.must("retreat", "--to", "1", "--yes")
}

// TestTheWayBackCopiesNoTable takes a migration back whose last statement dropped a column
// from the middle: the server puts it last, and what was changed before it is taken back as
// the table stands then, without a copy.
func TestTheWayBackCopiesNoTable(t *testing.T) {
	o := newServerOffice(t, "create table berth (id integer primary key, depth_cm integer, code varchar(9) default "+
		"'A1', note text)",
		"create view codes as select code from berth", "insert into berth select g, g, 'B' || g, null from "+
			"generate_series(1, 50) g")
	o.must("adopt", "--yes")
	file := o.query("select relfilenode from pg_class where relname = 'berth'")
	o.migration("0002-change", "-- A change\nalter table berth alter code set default 'B1';\nalter table berth drop "+
		"depth_cm, rename to pier;\n")
	o.must("advance", "--yes")
	o.must("retreat", "--to", "1", "--yes")
	o.same("select sum(depth_cm) from berth", "1275")
	if now := o.query("select relfilenode from pg_class where relname = 'berth'"); now != file {
		t.Errorf("the table was written anew: %s, then %s", file, now)
	}
	o.wants(o.code(0, "audit"), "matches:")
}
