package test

import (
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"lastboard/test/server"
)

// wideServer is wide on a server.
func wideServer(t *testing.T) *office { return wideServerOn(t, postgres) }

// wideServerOn is so in a database of some server, with what more statements make.
func wideServerOn(t *testing.T, database func(*testing.T) string, more ...string) *office {
	t.Helper()
	o := newOfficeOn(t, database, append(more,
		"create table berth (id integer primary key, code text not null)",
		"insert into berth select g, 'B' || g from generate_series(1, 40) g",
		"create table vessel (id integer primary key, name text not null, length_ft numeric(6,1), berth_id integer, "+
			"flag text)",
		"insert into vessel select g, 'vessel ' || g, g / 10.0, g % 40 + 1, case when g % 7 = 0 then null else 'NO' end "+
			"from generate_series(1, 3000) g",
		"create index by_name on vessel (name)", "create view named as select name from vessel", "analyze")...)
	o.must("adopt", "--yes")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
		"'\nlive = true\n[databases.dev.pace]\nlock_wait = '100us'\nbatch_time = '1ms'\nwork_share = '83 %'\n")
	o.write("migrations/flags.csv", csvOfFlags())
	return o
}

// serverKillings are kinds of change that are made in another way on a server, beside
// those of a file.
var serverKillings = []killing{
	{"not null, proven first", "alter table vessel alter flag set not null using ('IS')",
		"select count(*) from vessel where flag = 'IS'", "428"},
	{"a column that is filled", "alter table vessel add tag varchar(40) not null unique using (name || '!')",
		"select count(distinct tag) from vessel", "3000"},
	{"columns in another order", "alter table berth alter code set position first rebuild, add depth integer after " +
		"code rebuild", "select string_agg(column_name, ' ' order by ordinal_position) from information_schema.columns " +
		"where table_name = 'berth'", "code depth id"},
	{"a check", "alter table vessel add constraint sized check (length_ft > 0)",
		"select convalidated from pg_constraint where conname = 'sized'", "true"},
	{"a foreign key", "alter table vessel add constraint at_berth foreign key (berth_id) references berth",
		"select convalidated from pg_constraint where conname = 'at_berth'", "true"},
	{"a unique key", "alter table vessel add constraint one_name unique (name)",
		"select count(*) from pg_constraint where conname = 'one_name'", "1"},
	{"an index", "create index by_flag on vessel (flag)",
		"select indisvalid from pg_index where indexrelid = 'by_flag'::regclass", "true"},
	{"columns in the middle that go", "alter table vessel drop length_ft, drop berth_id",
		"select count(*) from information_schema.columns where table_name = 'vessel'", "3"},
	{"a default for each row", "alter table vessel add token uuid not null default gen_random_uuid()",
		"select count(distinct token) from vessel", "3000"},
}

// wideMariaDB is wide on a MariaDB server, whose views would not follow another name.
func wideMariaDB(t *testing.T) *office { return wideMariaDBOn(t, mariadb) }

func wideMariaDBOn(t *testing.T, database func(*testing.T) string, more ...string) *office {
	t.Helper()
	const options = " engine=InnoDB character set utf8mb4 collate utf8mb4_nopad_bin"
	o := newOfficeOn(t, database, append(more,
		"create table berth (id integer primary key, code varchar(40) not null)"+options,
		"insert into berth select seq, concat('B', seq) from seq_1_to_40",
		"create table vessel (id integer primary key, name varchar(60) not null, length_ft decimal(6,1), berth_id "+
			"integer, flag varchar(20))"+options,
		"insert into vessel select seq, concat('vessel ', seq), seq / 10.0, seq % 40 + 1, case when seq % 7 = 0 then "+
			"null else 'NO' end from seq_1_to_3000",
		"create index by_name on vessel (name)")...)
	o.must("adopt", "--yes")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
		"'\nlive = true\n[databases.dev.pace]\nlock_wait = '100us'\nbatch_time = '1ms'\nwork_share = '83 %'\n")
	o.write("migrations/flags.csv", csvOfFlags())
	return o
}

// mariadbKillings are kinds of change that MariaDB makes in another way.
var mariadbKillings = []killing{
	{"not null in place", "alter table vessel alter flag set not null using ('IS')",
		"select count(*) from vessel where flag = 'IS'", "428"},
	{"a column that is filled", "alter table vessel add tag varchar(70) not null unique using (name || '!')",
		"select count(distinct tag) from vessel", "3000"},
	{"a check", "alter table vessel add constraint sized check (length_ft > 0)",
		"select count(*) from information_schema.check_constraints where constraint_schema = database() and " +
			"check_clause like '%constraint sized%'", "1"},
	{"a foreign key", "alter table vessel add constraint at_berth foreign key (berth_id) references berth",
		"select count(*) from information_schema.referential_constraints where constraint_schema = database() and " +
			"constraint_name = 'at_berth'", "1"},
	{"a unique key", "alter table vessel add constraint one_name unique (name)",
		"select count(*) from information_schema.table_constraints where table_schema = database() and constraint_name " +
			"= 'one_name'", "1"},
	{"a default for each row", "alter table vessel add token uuid not null default uuid()",
		"select count(distinct token) from vessel", "3000"},
	{"a column that goes", "alter table vessel drop flag, drop length_ft",
		"select count(*) from information_schema.columns where table_schema = database() and table_name = 'vessel'", "3"},
	{"a table that goes", "alter table vessel add constraint at_berth foreign key (berth_id) references berth; drop " +
		"table vessel", "select count(*) from information_schema.tables where table_schema = database() and table_name " +
		"= 'vessel'", "0"},
	{"a text of a number", "alter table vessel alter length_ft set data type varchar(20) using (cast(length_ft as " +
		"text) || ' ft'), rename length_ft to length", "select count(*) from vessel where length like '% ft'", "3000"},
}

// TestEachKindOfChangeIsKilledOnServer kills runs at points of their way, forward and
// back, as on a file.
func TestEachKindOfChangeIsKilledOnServer(t *testing.T) {
	beside(t)
	points := []string{"statement:1", "statement:2", "statement:3", "after-step:1", "after-commit:1",
		"batch-before-commit:2", "batch-committed:1", "outside-done:1", "outside-begun:2", "outside-begun:1"}
	for _, e := range []struct {
		name  string
		open  func(*testing.T) *office
		kinds []killing
	}{{"PostgreSQL", wideServer, serverKillings}, {"MariaDB", wideMariaDB, mariadbKillings}} {
		t.Run(e.name, func(t *testing.T) {
			var killed atomic.Int32
			t.Run("kinds", func(t *testing.T) {
				n := 0
				for i, k := range slices.Concat(e.kinds, killings) {
					if strings.Contains(k.query, "sqlite_schema") {
						continue
					}
					if n++; !itsTurn(n, 9) {
						continue
					}
					own := points
					if !*allKinds { // every third point, in turn
						own = nil
						for j := i % 3; j < len(points); j += 3 {
							own = append(own, points[j])
						}
					}
					t.Run(k.name, func(t *testing.T) { killed.Add(killOnServer(e.open(t), own, k)) })
				}
			})
			t.Logf("%d kills", killed.Load())
			if n := killed.Load(); n < 4 {
				t.Errorf("only %d runs were killed: the test has lost its aim", n)
			}
		})
	}
}

func killOnServer(o *office, points []string, k killing) (killed int32) {
	t, statement, query, want := o.T, k.statement, k.query, k.want
	o.migration("0002-change", "-- A change\n"+statement+";\n")
	forward := []string{"advance", "--yes", "--settle", "--let-writers-wait"}
	back := []string{"retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait"}
	start := o.snapshot()
	o.must(forward...)
	end := o.snapshot()
	steady := !strings.Contains(statement, "uuid")
	o.must(back...)
	o.unchanged(start)
	for i, point := range points {
		o.env = []string{"LASTBOARD_FAULT=" + point}
		if o.run(forward...).killed {
			killed++
		}
		o.env = nil
		if i%2 == 0 {
			o.must(forward...)
			o.same(query, want)
			if steady {
				o.unchanged(end)
			}
		}
		o.env = []string{"LASTBOARD_FAULT=" + point}
		if o.run(back...).killed {
			killed++
		}
		o.env = nil
		o.must(back...)
		o.unchanged(start)
		if t.Failed() {
			t.Fatalf("after a kill at %s", point)
		}
	}
	o.must(forward...)
	o.same(query, want)
	o.wants(o.code(0, "audit"), "matches:")
	return killed
}

// TestKilledWhenKeptValuesAreLetGo kills runs that put back what a retreat has kept, also
// when its table has gone already and a run knows that alone, or not even that.
func TestKilledWhenKeptValuesAreLetGo(t *testing.T) {
	beside(t)
	for _, e := range []struct {
		name, place string
		open        func(*testing.T) *office
	}{{"PostgreSQL", "after-commit", wideServer}, {"MariaDB", "outside-done", wideMariaDB}} {
		t.Run(e.name, func(t *testing.T) {
			o := e.open(t)
			o.migration("0002-change", "-- A change\nalter table vessel add seen timestamp on update current_timestamp;\n")
			o.must(forward...)
			o.exec("update vessel set name = 'Rook' where id = 5")
			o.same("select count(seen) from vessel", "1")
			o.must(back...)
			killed := 0
			for i := range 6 {
				o.env = []string{fmt.Sprintf("LASTBOARD_FAULT=%s:%d", e.place, i+1)}
				if o.run(forward...).killed {
					killed++
				}
				o.env = nil
				o.must(back...)
				o.wants(o.code(0, "audit"), "matches:")
			}
			if killed < 3 {
				t.Errorf("only %d runs were killed: the test has lost its aim", killed)
			}
			o.must(forward...)
			o.same("select count(seen) from vessel", "1")
		})
	}
}

// TestAServerKilledBetweenBatches kills the server again and again while a table that nobody
// else uses is filled. Batches that were committed lazily may be lost, each with its
// checkpoint: in the end every row is done once.
func TestAServerKilledBetweenBatches(t *testing.T) {
	beside(t)
	p, err := server.StartPostgres("fsync = on", "full_page_writes = on")
	if err != nil {
		t.Fatal(err)
	}
	defer p.Stop()
	name, err := p.Database()
	if err != nil {
		t.Fatal(err)
	}
	const rows = 120_000
	o := &office{T: t, dir: t.TempDir(), url: p.URL(name)}
	o.exec("create table call (id integer primary key, dues integer)",
		fmt.Sprintf("insert into call select g, 0 from generate_series(1, %d) g", rows), "analyze")
	o.must("init", "--url", o.url)
	o.must("adopt", "--yes")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
		"'\n[databases.dev.pace]\nlock_wait = '1ms'\nbatch_time = '20ms'\n")
	o.migration("0002-change", "-- A change\nbackfill call set dues = dues + 1;\n")
	const done = "select coalesce(max(done_rows), 0) from lastboard.backfill"
	before := "int64:0"
	for range 4 {
		c := o.command("advance", "--yes")
		var out strings.Builder
		c.Stdout, c.Stderr = &out, &out
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		waitFor(t, o, "select count(*) from lastboard.backfill where done_rows > "+strings.TrimPrefix(before, "int64:"))
		if err := p.Kill(); err != nil {
			t.Fatal(err)
		}
		if err := c.Wait(); err == nil {
			t.Fatalf("it went on without its server:\n%s", out.String())
		}
		if err := p.Start(); err != nil {
			t.Fatal(err)
		}
		before = o.query(done)
		// What the checkpoint says is what the rows hold.
		o.same("select (select count(*) from call where dues = 1) = ("+done+
			"), count(*) filter (where dues not in (0, 1)) from call", "true|0")
	}
	o.must("advance", "--yes")
	o.same("select count(*), min(dues), max(dues) from call", fmt.Sprintf("%d|1|1", rows))
	o.wants(o.code(0, "audit"), "matches:")
	o.must("retreat", "--to", "1", "--yes")
	o.same("select count(*), min(dues), max(dues) from call", fmt.Sprintf("%d|0|0", rows))
}
