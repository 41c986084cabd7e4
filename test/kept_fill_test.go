package test

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// TestFillFromWhatIsKept advances a migration once more that adds a column, after a retreat that has
// kept what the column held, while rows are written and get other keys: what was kept comes back,
// and rows of which nothing was kept get what the migration says.
func TestFillFromWhatIsKept(t *testing.T) {
	beside(t)
	for _, name := range everywhere {
		t.Run(name, func(t *testing.T) {
			var rows []string
			for i := range 3000 {
				rows = append(rows, fmt.Sprintf("(%d, 'vessel %d', 1)", i+1, i+1))
			}
			statements := []string{"create table vessel (id integer not null primary key, name varchar(60), berth integer)",
				"insert into vessel values " + strings.Join(rows, ", ")}
			if name == "PostgreSQL" {
				statements = append(statements, "analyze")
			}
			o := officeOn(t, name, statements)
			o.paced("lock_wait = '100us'\nbatch_time = '2ms'\n" + workShare(o.url))
			o.migration("0002-tag", "-- A tag\nalter table vessel add column tag varchar(80) using (name || '!');\n")
			o.must("advance", "--yes", "--let-writers-wait")
			o.exec("update vessel set tag = 'mine' where id in (2980, 2985, 2990)",
				"update vessel set tag = null where id = 2995")
			o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
			o.exec("insert into vessel (id, name, berth) values (9001, 'new 1', 1), (9002, 'new 2', 1), (9003, 'new 3', 1)")
			p := o.pausedAt("batch-committed:1", "advance", "--yes", "--let-writers-wait")
			if p == nil {
				t.Fatal("it did not come there")
			}
			o.exec("update vessel set id = -1 where id = 9001", "update vessel set id = -2 where id = 2990",
				"update vessel set berth = 7 where id = 2980",
				"update vessel set berth = 7 where id in (2995, 9003)", "update vessel set id = -3 where id = 2970")
			if r := p.goOn(); r.code != 0 {
				t.Fatal(r)
			}
			o.same("select id, tag from vessel where id < 0 or id in (1, 2980, 2985, 2995) or id > 9000 order by id",
				"-3|vessel 2970!\n-2|mine\n-1|new 1!\n1|vessel 1!\n2980|mine\n2985|mine\n2995|null\n9002|new 2!\n9003|new 3!")
			o.same("select count(*) from vessel where tag is null", "1")
			o.wants(o.code(0, "audit"), "matches:")
		})
	}
}

// TestFillThatCannotBeFollowed is that a column is not filled beside applications with what no
// trigger could give to rows that come or move meanwhile, and that what the message says in place of
// it does.
func TestFillThatCannotBeFollowed(t *testing.T) {
	beside(t)
	for _, name := range everywhere {
		t.Run(name, func(t *testing.T) {
			var rows []string
			for i := range 3000 {
				rows = append(rows, fmt.Sprintf("(%d, 'vessel %d', 1)", i+1, i+1))
			}
			statements := []string{"create table pier (id integer not null primary key, code varchar(9))",
				"insert into pier values (1, 'A')",
				"create table vessel (id integer not null primary key, name varchar(60), berth integer)",
				"insert into vessel values " + strings.Join(rows, ", ")}
			if name == "PostgreSQL" {
				statements = append(statements, "analyze")
			}
			o := officeOn(t, name, statements)
			o.paced("lock_wait = '100us'\nbatch_time = '2ms'\n" + workShare(o.url))
			const code = "(select code from pier where pier.id = vessel.berth)"
			o.migration("0002-tag", "-- A tag\nalter table vessel add column tag varchar(80) using ("+code+");\n")
			before := o.snapshot()
			o.wants(o.code(3, "advance", "--yes", "--let-writers-wait"), "cannot be followed", "fill it with a backfill")
			o.unchanged(before)
			o.migration("0002-tag", "-- A tag\nalter table vessel add column tag varchar(80);\nbackfill vessel set tag = "+
				code+";\n")
			p := o.pausedAt("batch-committed:1", "advance", "--yes", "--let-writers-wait")
			if p == nil {
				t.Fatal("it did not come there")
			}
			o.exec("update vessel set id = -2 where id = 2990")
			if r := p.goOn(); r.code != 0 {
				t.Fatal(r)
			}
			o.same("select count(*) from vessel where tag is null or tag <> 'A'", "0")
			o.wants(o.code(0, "audit"), "matches:")
		})
	}
}

// TestRowsThatComeToASmallTable lets a row come at statements of a run that fills a small table at
// once and makes the column not null: the run comes to its end, and every row has its value.
func TestRowsThatComeToASmallTable(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, everywhere) {
		t.Run(name, func(t *testing.T) {
			o := officeOn(t, name, []string{"create table vessel (id integer not null primary key, name varchar(60), flag " +
				"varchar(9))",
				"insert into vessel values (1, 'a', 'NO'), (2, 'b', null), (3, 'c', null)"})
			o.paced("")
			o.migration("0002-tag", "-- A tag\nalter table vessel add column tag varchar(80) not null using (name || '!'), "+
				"alter "+
				"flag set not null using ('IS');\n")
			const every = 9
			came := 0
			for n := 1 + int(*day)%every; ; n += every {
				p := o.pausedAt(fmt.Sprint("sent:", n), "advance", "--yes", "--let-writers-wait")
				if p == nil {
					break
				}
				db := o.open()
				done := make(chan error, 1)
				go func() {
					_, err := db.Exec(fmt.Sprintf("insert into vessel (id, name) values (%d, 'new')", 100+n))
					done <- err
				}()
				select {
				case err := <-done:
					done <- err
				case <-time.After(100 * time.Millisecond): // it waits for the run
				}
				r := p.goOn()
				if err := <-done; err == nil {
					came++
				}
				db.Close()
				if r.code != 0 {
					o.must("advance", "--yes", "--let-writers-wait")
				}
				o.same("select count(*) from vessel where tag is null or tag <> "+
					map[bool]string{true: "concat(name, '!')", false: "name || '!'"}[name == "MariaDB"]+" or flag is null", "0")
				o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
			}
			if came == 0 && name != "SQLite" { // there all is one transaction
				t.Error("no row came")
			}
			o.wants(o.code(0, "audit"), "matches:")
		})
	}
}

// TestSmallTableIsWrittenBetweenSteps kills a run that gives a column of a small live table another
// type, and lets applications write before it goes on: what they wrote is what the column holds.
func TestSmallTableIsWrittenBetweenSteps(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, everywhere) {
		t.Run(name, func(t *testing.T) {
			o := officeOn(t, name, []string{"create table vessel (id integer not null primary key, length integer)",
				"insert into vessel values (1, 10), (2, 20), (3, 30)"})
			o.paced("")
			o.migration("0002-length", "-- Texts\nalter table vessel alter length set data type varchar(20);\n")
			advance := []string{"advance", "--yes", "--settle", "--let-writers-wait"}
			const every = 9
			for n := 1 + int(*day)%every; ; n += every {
				o.env = []string{fmt.Sprint("LASTBOARD_FAULT=sent:", n)}
				r := o.run(advance...)
				o.env = nil
				if !r.killed {
					break
				}
				o.exec(fmt.Sprintf("update vessel set length = %d where id = 1", 1000+n), fmt.Sprintf("insert into vessel values "+
					"(%d, %d)", 100+n, n), "delete from vessel where id = 2", "insert into vessel values (2, 22)")
				o.must(advance...)
				o.same("select length from vessel where id in (1, 2, 3) order by id", fmt.Sprintf("%d\n22\n30", 1000+n))
				o.same(fmt.Sprintf("select length from vessel where id = %d", 100+n), fmt.Sprint(n))
				o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
				o.same("select length from vessel where id in (1, 2, 3) order by id", fmt.Sprintf("%d\n22\n30", 1000+n))
			}
			o.wants(o.code(0, "audit"), "matches:")
		})
	}
}

// TestRowThatComesIntoABatch lets a row come between the two statements of a batch that keeps old
// values and writes: the batch is done again, and nothing is written of which nothing is kept.
func TestRowThatComesIntoABatch(t *testing.T) {
	beside(t)
	for _, name := range everywhere[1:] {
		t.Run(name, func(t *testing.T) {
			var values []string
			for i := range 3000 {
				values = append(values, fmt.Sprintf("('k%05d', 1)", i))
			}
			o := officeOn(t, name, []string{"create table berth (code varchar(20) not null primary key, n integer)",
				"insert into berth values " + strings.Join(values, ", ")})
			o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
				"'\n[databases.dev.pace]\nlock_wait = '1ms'\n")
			o.migration("0002-more", "-- One more\nbackfill berth set n = n + 1;\n")
			p := o.pausedAt("batch-statement:1", "advance", "--yes")
			if p == nil {
				t.Fatal("there was no batch")
			}
			o.exec("insert into berth values ('k00001x', 70)")
			if r := p.goOn(); r.code != 0 {
				t.Fatal(r)
			}
			o.same("select count(*) from berth where n not in (2, 71)", "0")
			o.must("retreat", "--to", "1", "--yes")
			o.same("select count(*) from berth where n <> 1", "1")
			o.same("select n from berth where code = 'k00001x'", "70")
		})
	}
}

// TestKeysThatMoveWhileAllIsPutBack is that what a small table had comes back into rows whose key is just
// being changed, and that rows which a migration inserted go with whatever key they have.
func TestKeysThatMoveWhileAllIsPutBack(t *testing.T) {
	beside(t)
	for _, name := range everywhere {
		for what, statement := range map[string]string{
			"old values": "backfill vessel set n = n * 2", "nulls": "alter table vessel alter flag set not null using ('IS')",
			"inserted rows": "insert into vessel (id, n) values (5, 5), (6, 6)",
		} {
			t.Run(what+" on "+name, func(t *testing.T) {
				o := officeOn(t, name, []string{"create table vessel (id integer not null primary key, n integer, flag varchar(9))",
					"insert into vessel (id, n) values (1, 1), (2, 2), (3, 3), (4, 4)"})
				o.paced("lock_wait = '500ms'\nlock_tries = 50\n")
				o.migration("0002-change", "-- A change\n"+statement+";\n")
				o.must("advance", "--yes")
				db := o.open()
				defer db.Close()
				tx, err := db.Begin()
				if err != nil {
					t.Fatal(err)
				}
				for _, id := range []int{2, 5} {
					if _, err := tx.Exec(fmt.Sprintf("update vessel set id = id + 100 where id = %d", id)); err != nil {
						t.Fatal(err)
					}
				}
				p := o.start("retreat", "--to", "1", "--yes")
				time.Sleep(700 * time.Millisecond)
				if err := tx.Commit(); err != nil {
					t.Fatal(err)
				}
				if r := p.goOn(); r.code != 0 {
					t.Fatal(r)
				}
				o.same("select id, n from vessel where flag is null order by id", "1|1\n3|3\n4|4\n102|2")
				o.must("audit")
			})
		}
	}
}
