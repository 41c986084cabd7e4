package test

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync/atomic"
	"testing"
)

// droppingOffice is a live database of an engine, with a migration that drops a column which
// programs have to fill, and a table.
func droppingOffice(t *testing.T, name string, rows int) *office {
	t.Helper()
	var values []string
	for i := 1; i <= rows; i++ {
		values = append(values, fmt.Sprintf("(%d, 'vessel %d', 'NO')", i, i))
	}
	var o *office
	tables := []string{
		"create table vessel (id integer not null primary key, name varchar(40) not null, flag varchar(20) not null)",
		"insert into vessel values " + strings.Join(values, ", "),
		"create table old_berth (id integer not null primary key, code varchar(20))", "insert into old_berth values (1, 'A')",
	}
	if name == "SQLite" {
		tables = append([]string{"pragma journal_mode = wal"}, tables...)
	}
	o = officeOn(t, name, tables)
	o.paced("lock_wait = '200ms'\nlock_tries = 200\n")
	o.migration("0002-less", "-- Flags and the old berths go\nalter table vessel drop column flag, add column tons "+
		"integer;\ndrop table old_berth;\n")
	return o
}

// TestDropsStayUntilSettled is that what a migration drops on a live database stays until it is
// settled, and that programs of before and of after, side by side, meet no error.
func TestDropsStayUntilSettled(t *testing.T) {
	beside(t)
	for _, name := range everywhere {
		t.Run(name, func(t *testing.T) {
			o := droppingOffice(t, name, 200)
			o.wants(o.code(0, "forecast"), "still has to drop column flag of vessel, table old_berth")
			start := o.canonical(true)
			var age atomic.Int64 // of the newest programs: 0 knows flag alone, 1 both shapes are there, 2 nobody knows it
			next := atomic.Int64{}
			next.Store(1000)
			stop := o.meanwhile(2, func(db *sql.DB, r *rand.Rand) error {
				id := next.Add(1)
				old := fmt.Sprintf("insert into vessel (id, name, flag) values (%d, 'of before', 'SE')", id)
				after := fmt.Sprintf("insert into vessel (id, name, tons) values (%d, 'of after', 7)", id)
				switch now := age.Load(); {
				case now == 0, now == 1 && id%2 == 0:
					return again(db, old)
				case now == 1:
					return again(db, after)
				}
				return nil
			})
			o.wants(o.code(0, "advance", "--yes"), "0002 is open", "lastboard settle 0002")
			age.Store(1)
			o.wants(o.code(0, "status"), "open")
			o.must("audit")
			o.wants(o.code(0, "advance", "--yes"), "nothing to do")
			waitFor(t, o, "select count(*) from vessel where name = 'of after' having count(*) > 20")
			o.same("select count(*) from old_berth", "1")
			age.Store(2)
			if n := stop(); n < 20 {
				t.Fatalf("the programs did %d times what they do", n)
			}
			o.same("select count(*) from vessel where name = 'of before' and flag is null", "0")
			o.same("select count(*) from vessel where name = 'of after' and (flag is not null or tons is null)", "0")

			// From open it does not go back while rows have no flag, and loses nothing when it does.
			r := o.code(3, "retreat", "--to", "1", "--yes", "--settle")
			o.wants(r, "flag")
			o.exec("update vessel set flag = 'none' where flag is null")
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.wants(o.code(0, "status"), "waiting")
			o.exec("delete from vessel where id > 1000")
			o.isAgain(start)

			// And from settled.
			o.must("advance", "--yes")
			o.wants(o.code(0, "settle", "0002", "--yes"), "0002 is settled")
			o.must("audit")
			o.wants(o.code(0, "settle", "--yes"), "nothing to do")
			o.wants(o.code(3, "settle", "2", "--yes"), "not-open")
			o.wants(o.code(0, "describe", "vessel"), "tons")
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.isAgain(start)
			o.must("audit")
		})
	}
}

// again does a statement until nobody has the database locked.
func again(db *sql.DB, text string) (err error) {
	for range 400 {
		if _, err = db.Exec(text); err == nil || !strings.Contains(err.Error(), "locked") &&
			!strings.Contains(err.Error(), "SQLITE_BUSY") {
			return err
		}
	}
	return err
}

// isAgain asserts that tables and rows are what they were, but for the order of columns.
func (o *office) isAgain(before string) {
	o.Helper()
	if now := o.canonical(true); now != before {
		o.Errorf("it is not what it was: %s", firstDifference(before, now))
	}
}

// TestOpenOverlapsAreInTheWay is that a later migration runs while an overlap is open as long
// as it leaves alone what that one drops; and that they go back in any order that can be.
func TestOpenOverlapsAreInTheWay(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, everywhere) {
		t.Run(name, func(t *testing.T) {
			o := droppingOffice(t, name, 5)
			start := o.canonical(true)
			o.must("advance", "--yes")
			for _, statement := range []string{
				"backfill vessel set flag = 'SE'", "alter table vessel rename column flag to flags",
				"create index by_flag on vessel (flag)",
				"insert into old_berth (id) values (2)", "alter table old_berth add column n integer",
				"alter table vessel add column letter varchar(40) using (flag)",
			} {
				o.migration("0003-way", "-- In the way\n"+statement+";\n")
				before := o.snapshot()
				r := o.code(3, "advance", "--yes")
				o.wants(r, "settle-first", "0002", "lastboard settle 0002")
				o.unchanged(before)
			}
			o.migration("0003-way", "-- Not in the way\nalter table vessel add column port varchar(20), alter tons set not "+
				"null using (0);\ncreate index by_tons on vessel (tons);\nalter table vessel drop column name;\n")
			o.must("advance", "--yes")
			o.wants(o.code(3, "settle", "3", "--yes"), "settle-first")
			o.must("settle", "2", "--yes")
			o.wants(o.code(0, "status"), "open")
			if r := o.run("retreat", "--to", "2", "--yes", "--settle"); r.code != 0 {
				t.Fatal(r)
			}
			o.must("audit")
			o.must("advance", "--yes")
			o.must("settle", "--yes")
			o.must("audit")
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.must("audit")
			o.isAgain(start)
		})
	}
}

// TestOverlapsGoOnAfterDeath is that a migration whose opening or settling dies anywhere is gone
// on with, or taken back where it can be, and that until then nothing else runs.
func TestOverlapsGoOnAfterDeath(t *testing.T) {
	beside(t)
	const renames = "-- A title\nalter table vessel rename column name to title, rename column flag to flags;\n"
	for _, c := range []struct{ engine, what, migration string }{
		{"SQLite", "drops", ""}, {"PostgreSQL", "drops", ""}, {"MariaDB", "drops", ""}, {"PostgreSQL", "renames", renames},
	} {
		t.Run(c.what+" on "+c.engine, func(t *testing.T) {
			days := map[string]int{"SQLite": 9, "PostgreSQL": 31, "MariaDB": 31}[c.engine]
			opening, settling := 0, 0
			dies := func(o *office, n int, command string) bool {
				o.env = []string{fmt.Sprint("LASTBOARD_FAULT=sent:", n)}
				r := o.run(command, "--yes")
				o.env = nil
				return r.killed
			}
			for n, more := 1, true; n < 600 && more; n++ {
				if !itsTurn(n, days) {
					continue
				}
				o := droppingOffice(t, c.engine, 50)
				if c.migration != "" {
					o.migration("0002-less", c.migration)
				}
				start := o.canonical(true)
				if more = dies(o, n, "advance"); more {
					opening++
					if n%2 == 0 {
						o.must("retreat", "--to", "1", "--yes", "--settle")
						o.isAgain(start)
						o.must("audit")
					}
					o.must("advance", "--yes")
				}
				o.wants(o.code(0, "status"), "open")
				o.must("audit")
				if dies(o, n, "settle") {
					more = true
					settling++
					if strings.Contains(o.must("status"), "while it is settled") {
						o.wants(o.code(3, "advance", "--yes"), "half settled", "lastboard settle")
						o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "half settled", "lastboard settle")
					}
					o.must("settle", "--yes")
				}
				o.wants(o.code(0, "status"), "settled")
				o.must("audit")
				o.must("retreat", "--to", "1", "--yes", "--settle")
				o.isAgain(start)
			}
			if opening == 0 || settling == 0 {
				t.Errorf("it died %d times while it opened and %d times while it was settled", opening, settling)
			}
		})
	}
}

// TestDropsWithWhatNeedsThem is that a constraint on a column goes at once and the column later,
// and that what needs it otherwise is named as ever.
func TestDropsWithWhatNeedsThem(t *testing.T) {
	beside(t)
	onEach(t, []string{
		"create table pier (id integer not null primary key)",
		"create table berth (id integer not null primary key, depth integer, pier integer, constraint deep check (depth " +
			"> 0), constraint at_pier foreign key (pier) references pier (id))",
		"insert into pier values (1)", "insert into berth values (1, 5, 1)",
	}, func(t *testing.T, o *office) {
		o.paced("lock_wait = '2s'\n")
		start := o.canonical(true)
		for statement, words := range map[string]string{
			"alter table berth drop column depth": "check deep", "drop table pier": "at_pier",
			"alter table berth drop column deepness": "no column deepness",
		} {
			o.migration("0002-less", "-- Less\n"+statement+";\n")
			before := o.snapshot()
			o.wants(o.code(3, "advance", "--yes"), words)
			o.unchanged(before)
		}
		o.migration("0002-less", "-- Less\nalter table berth drop constraint deep, drop column depth, drop constraint "+
			"at_pier;\ndrop table pier;\n")
		o.must("advance", "--yes")
		o.same("select depth, pier from berth", "5|1")
		o.exec("insert into berth (id, depth, pier) values (2, -1, 7)")
		o.must("settle", "--yes")
		o.must("audit")
		o.exec("delete from berth where id = 2")
		o.must("retreat", "--to", "1", "--yes", "--settle")
		o.isAgain(start)
	})
}

// TestOverlapIsNotForAll is what keeps no overlap open: what else the migration says of what it
// drops, and what programs of before want a value in.
func TestOverlapIsNotForAll(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table vessel (id integer not null primary key, name varchar(40), flag varchar(20))"},
		func(t *testing.T, o *office) {
			o.paced("")
			list := []string{
				"alter table vessel rename column flag to flags, alter flag set default 'NO'",
				"alter table vessel drop column flag restore using ('NO')",
				"alter table vessel add column port varchar(40) using (flag), drop column flag",
				"alter table vessel drop column flag;\nalter table vessel add column flag integer",
				"drop table vessel;\ncreate table vessel (id integer not null primary key)",
			}
			list = append(list, "alter table vessel rename column flag to flags;\nalter table vessel alter flags set "+
				"default 'NO'",
				"alter table vessel rename column flag to flags;\nalter table vessel rename column name to title")
			if engineWord(o) != "sqlite" {
				list = append(list, "alter table vessel rename to ship;\nalter table ship drop column flag",
					"alter table vessel rename to ship;\nalter table ship rename to boat",
					"alter table vessel rename column flag to flags;\nalter table vessel rename to ship")
			} else {
				list = append(list, "alter table vessel rename to ship")
			}
			for _, statement := range list {
				o.migration("0002-change", "-- A change\n"+statement+";\n")
				before := o.snapshot()
				r := o.code(3, "advance", "--yes")
				o.wants(r, "needs-overlap")
				o.unchanged(before)
			}
		})
}

// TestWritesThatWillFail is that check says on a live database which writes of programs of before are
// refused once rules hold, and says nothing of tables that the migration makes itself.
func TestWritesThatWillFail(t *testing.T) {
	beside(t)
	for _, name := range everywhere {
		t.Run(name, func(t *testing.T) {
			o := droppingOffice(t, name, 3)
			o.migration("0002-less", "-- Rules\nalter table vessel add column kind enum('a', 'b');\n"+
				"alter table vessel alter column kind set not null using ('a'), add constraint named check (name <> '');\n"+
				"alter table old_berth add constraint coded unique (code);\ncreate unique index by_flag on vessel (flag, id);\n"+
				"create table port (id integer primary key, code varchar(9));\nalter table port alter column code set not null "+
				"using ('x');\nalter table old_berth add column port integer references port (id);\n")
			r := o.code(0, "check")
			for _, want := range []string{"null in kind", "what breaks check named", "the same code twice",
				"the same key of by_flag twice", "port that is not in port"} {
				o.wants(r, want)
			}
			if n := strings.Count(r.stdout, "writes-will-fail"); n != 4 {
				t.Errorf("%d statements will let writes fail: %s", n, r)
			}
			o.must("advance", "--yes", "--let-writers-wait")
			o.migration("0003-less", "-- Fewer\nalter table vessel alter column kind set data type enum('a');\n")
			o.wants(o.code(0, "check"), "'b' in kind")
			o.write("lastboard.toml", strings.ReplaceAll(o.read("lastboard.toml"), "live = true", "live = false"))
			if r := o.code(0, "check"); strings.Contains(r.stdout, "writes-will-fail") {
				t.Errorf("no program runs: %s", r)
			}
		})
	}
}

// TestWhatIsMadeByHandBesideAnOpenOverlap is that a column which somebody adds while an overlap is open for
// which nothing had to be done is no part of what the way back leads to.
func TestWhatIsMadeByHandBesideAnOpenOverlap(t *testing.T) {
	beside(t)
	for _, server := range everywhere {
		t.Run(server, func(t *testing.T) {
			o := officeOn(t, server, []string{"create table vessel (id integer not null primary key, flag varchar(20))",
				"insert into vessel values (1, 'NO')"})
			o.paced("")
			o.migration("0002-less", "-- Less\nalter table vessel drop column flag;\n")
			o.must("advance", "--yes")
			o.wants(o.code(0, "status"), "open")
			o.exec("alter table vessel add column by_hand integer")
			if server == "PostgreSQL" { // where the way back is one of the whole table
				o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "changed-by-hand", "column by_hand of table vessel")
			} else {
				o.must("retreat", "--to", "1", "--yes")
			}
			o.wants(o.code(5, "audit"), "column by_hand")
			o.exec("alter table vessel drop column by_hand")
			o.must("retreat", "--to", "1", "--yes")
			o.wants(o.code(0, "audit"), "matches:")
			o.same("select flag from vessel", "NO")
		})
	}
}
