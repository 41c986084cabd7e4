package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// workShare is the setting by which backfills work as much as they may.
func workShare(url string) string {
	if url == "" || strings.HasPrefix(url, "sqlite:") {
		return "work_share = '50 %'\n"
	}
	return "work_share = '100 %'\n"
}

// paced sets the pace of an office's live database.
func (o *office) paced(pace string) {
	url := o.url
	if url == "" {
		url = "sqlite:harbour.db"
	}
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+url+"'\nlive = true\n[databases.dev.pace]\n"+
		pace)
}

// TestBatchesHaveALimit is that a batch which takes longer than it may is given up and tried
// with fewer rows, and that a single row which does so stops the run, until it may.
func TestBatchesHaveALimit(t *testing.T) {
	beside(t)
	var rows []string
	for i := range 4000 {
		rows = append(rows, fmt.Sprintf("(%d, 'n%d', 0)", i+1, i%50))
	}
	onOneOfToday(t, []string{
		"create table berth (id integer not null primary key, name varchar(20), twins integer)",
		"insert into berth values " + strings.Join(rows, ", "),
		"insert into berth select id + 4000 * n, name, 0 from berth cross join (select 1 as n union all select 2 union " +
			"all select 3 union all select 4 union all select 5 union all select 6 union all select 7 union all select 8 " +
			"union all select 9 union all select 10 union all select 11) m",
	}, func(t *testing.T, o *office) {
		pace := workShare(o.url) + "batch_time = '10ms'\nlock_wait = '1ms'\nbatch_limit = "
		from, limit, later := "berth other where other.name = berth.name", "1ms", "60ms"
		switch engineWord(o) { // which wait for a row for as long as a second, beside
		case "postgres":
			from, limit, later = "berth one join berth other on other.name = one.name where one.id < 48000", "50ms", "50ms"
		case "mariadb":
			from, limit = "berth one join berth other on other.name = one.name where one.id < 1000", "50ms"
		}
		o.paced(pace + "'" + limit + "'\n")
		o.migration("0002-pairs", "-- Rows that take long\nbackfill berth set twins = (select count(*) from "+from+
			") where id <= 40;\n")
		r := o.code(4, "advance", "--yes", "--let-writers-wait", "--slow-statement", "--json")
		o.wants(r, `"rule":"row-too-slow"`, `"event":"too-slow"`, "batch_limit")
		o.same("select count(*) from berth where twins > 0", "0")
		o.must("retreat", "--to", "1", "--yes", "--let-writers-wait")
		if err := os.Remove(filepath.Join(o.dir, "migrations", "0002-pairs.sql")); err != nil {
			t.Fatal(err)
		}
		o.paced(pace + "'" + later + "'\n")
		o.migration("0002-twins", "-- How many have the same name\nbackfill berth set twins = (select count(*) from "+
			"berth other where other.name = berth.name) where id <= 40;\n")
		if r := o.code(0, "advance", "--yes", "--let-writers-wait", "--slow-statement",
			"--json"); engineWord(o) != "mariadb" {
			o.wants(r, `"event":"too-slow"`)
		}
		o.same("select min(twins), max(twins), count(*) from berth where id <= 40", "960|960|40")
		o.must("retreat", "--to", "1", "--yes", "--let-writers-wait")
		o.same("select max(twins) from berth", "0")
	})
}

// TestWhatIsDoneAtOnceHasALimit is that a small table whose rows take long is not filled for as
// long as it takes while applications wait, unless they may.
func TestWhatIsDoneAtOnceHasALimit(t *testing.T) {
	beside(t)
	var rows []string
	for i := range 2000 {
		rows = append(rows, fmt.Sprintf("(%d, 'n%d')", i+1, i%50))
	}
	onOneOfToday(t, []string{
		"create table berth (id integer not null primary key, name varchar(20))",
		"insert into berth values " + strings.Join(rows, ", "),
		"create table pier (id integer not null primary key, name varchar(20), berths integer)",
		"insert into pier values (1, 'n1', 0), (2, 'n2', 0), (3, 'n3', 0)",
	}, func(t *testing.T, o *office) {
		o.paced("lock_wait = '5ms'\nbatch_limit = '20ms'\n")
		o.migration("0002-berths", "-- Their berths\nbackfill pier set berths = (select count(*) from berth one join "+
			"berth other on other.name <> one.name where one.name = pier.name or one.id > 7);\n")
		o.exec("update pier set berths = 0")
		if engineWord(o) != "mariadb" { // which does it in batches, down to one row
			o.wants(o.code(1, "advance", "--yes", "--slow-statement"),
				"it takes longer than 250ms, for which others could not write to pier", "batch_limit", "nothing was changed")
			o.same("select max(berths) from pier", "0")
		} else {
			o.paced("lock_wait = '5ms'\nbatch_limit = '5s'\n") // one row takes what a busy machine makes of it
		}
		o.must("advance", "--yes", "--slow-statement", "--let-writers-wait")
		o.same("select count(*) from pier where berths > 0", "3")
	})
}

// TestLookupsWithoutAnIndex is that a statement which reads a whole table for each row of a
// large one is refused beforehand, with the index that would help, and taken where that is made
// first, or where somebody allows it.
func TestLookupsWithoutAnIndex(t *testing.T) {
	beside(t)
	var rows []string
	for i := range 4000 {
		rows = append(rows, fmt.Sprintf("(%d, 'n%d', 0)", i+1, i/2))
	}
	onEach(t, []string{
		"create table berth (id integer not null primary key, name varchar(20), twins integer)",
		"insert into berth values " + strings.Join(rows, ", "),
		"insert into berth select id + 4000 * n, name || '-' || n, 0 from berth cross join (select 1 as n union all " +
			"select 2 union all select 3 union all select 4 union all select 5) m",
	}, func(t *testing.T, o *office) {
		slow := "backfill berth set twins = (select count(*) from berth other where other.name = berth.name);\n"
		o.migration("0002-twins", "-- How many have the same name\n"+slow)
		o.wants(o.code(3, "check"), "slow-statement", "24000 rows for each of 24000", "create index on berth (name)",
			"--slow-statement")
		before := o.snapshot()
		o.wants(o.code(3, "advance", "--yes"), "slow-statement")
		o.unchanged(before)
		o.migration("0002-twins", "-- How many have the same name\ncreate index by_name on berth (name);\n"+slow)
		o.must("check")
		o.must("advance", "--yes")
		o.same("select min(twins), max(twins) from berth", "2|2")
		// With the index there, the engine says itself that it reads little.
		o.migration("0003-again", "-- Again\nbackfill berth set twins = 1 + (select count(*) from berth other where "+
			"other.name = berth.name);\n")
		o.must("check")
		// What is read once, or a small table, is no matter.
		o.migration("0003-again", "-- Again\nbackfill berth set twins = (select count(*) from berth other);\n")
		o.must("check")
	})
}
