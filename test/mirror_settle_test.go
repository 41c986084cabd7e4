package test

import (
	"fmt"
	"strings"
	"testing"
)

// TestTwoWhoSettle is that an overlap which another run has ended is not ended again, and that
// what was decided on a stage that has passed is not done.
func TestTwoWhoSettle(t *testing.T) {
	beside(t)
	for _, name := range everywhere {
		t.Run(name, func(t *testing.T) {
			o := droppingOffice(t, name, 5)
			o.must("advance", "--yes")
			for _, other := range [][]string{{"settle", "--yes"}, {"retreat", "--to", "1", "--yes", "--settle"}} {
				p := o.pausedAt("claiming:1", "settle", "--yes")
				if p == nil {
					t.Fatal("it ended at once")
				}
				o.must(other...)
				r := p.goOn()
				if r.code != 3 {
					t.Errorf("settle while another did %v: %s", other, r)
				}
				o.wants(r, "another run has changed this database since it was looked at")
				o.must("audit")
				if other[0] == "settle" {
					o.must("retreat", "--to", "1", "--yes", "--settle")
					o.must("advance", "--yes")
				}
			}
			o.wants(o.code(0, "status"), "waiting")
		})
	}
}

// TestTwoNamesOfAKey is that a key can have two names while what is kept of rows follows it: a row
// that gets another key by either name keeps what it had.
func TestTwoNamesOfAKey(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, []string{"MariaDB", "PostgreSQL"}) {
		t.Run(name, func(t *testing.T) {
			o := interleavedOffice(t, name, nil)
			f := &convoy{office: o, engine: name, ships: map[int]*ship{}}
			f.begin(interleaved{statement: "alter table vessel drop column flag"})
			o.must("advance", "--yes", "--settle", "--let-writers-wait")
			o.migration("0003-number", "-- A number\nalter table vessel rename column id to number;\n")
			o.wants(o.code(0, "advance", "--yes"), "0003 is open")
			o.exec("update vessel set number = -5 where orig = 5", "update vessel set id = -6 where orig = 6",
				"insert into vessel (number, orig, name) values (9001, 9001, 'n')",
				"insert into vessel (id, orig, name) values (9002, 9002, 'n')", "delete from vessel where number = 9")
			o.same("select count(*) from vessel where id <> number or number is null", "0")
			for n := 1; n < 9; n++ {
				o.env = []string{fmt.Sprint("LASTBOARD_FAULT=locked-statement:", n)}
				r := o.run("settle", "--yes")
				o.env = nil
				if !r.killed {
					break
				}
				o.must("settle", "--yes")
				o.exec(fmt.Sprintf("update vessel set number = %d where orig = 20", -100-n))
				o.must("audit")
				o.must("retreat", "--to", "2", "--yes", "--settle")
				o.exec(fmt.Sprintf("update vessel set id = %d where orig = 21", -200-n))
				o.must("advance", "--yes")
			}
			o.must("audit")
			o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
			o.same("select count(*) from vessel where flag = 'NO' and orig % 7 <> 0 and orig <= 400", "342")
			o.must("audit")
		})
	}
}

// TestViewsByTheNewName is that views which read a column by its new name while it has two go on as the
// overlap is settled, with what is set for them, with views on them and with their rights.
func TestViewsByTheNewName(t *testing.T) {
	beside(t)
	for _, server := range everywhere {
		t.Run(server, func(t *testing.T) {
			o := officeOn(t, server, []string{"create table vessel (id integer not null primary key, name varchar(20) not null)",
				"insert into vessel values (1, 'Selja'), (2, 'Runde')", "create view short as select name from vessel"})
			o.paced("lock_wait = '300ms'\n")
			o.migration("0002-title", "-- Titles\nalter table vessel rename column name to title;\n")
			barrier := map[string]string{"PostgreSQL": " with (security_barrier = true)"}[server]
			o.must("advance", "--yes")
			if server == "SQLite" { // whose views are made again, with what acts in their place
				o.exec("create view writable as select id, title from vessel",
					"create trigger through instead of update on writable "+
						"begin update vessel set title = new.title where id = new.id; end")
			}
			o.exec("create view titles"+barrier+" as select id, title, upper(v.title) as loud from vessel v where title <> ''",
				"create view louder as select loud from titles")
			if server == "PostgreSQL" {
				o.exec(aRole("view_reader"),
					"grant select on titles to view_reader")
			} else if server == "MariaDB" { // whose views say names, and no numbers of columns
				o.wants(o.code(3, "settle", "--yes"), "view short")
				o.exec("create or replace view short as select title as name from vessel")
			}
			o.wants(o.run("settle", "--check"), "view titles")
			r := o.code(0, "settle", "--yes")
			o.wants(r, "0002 is settled", "column title: name")
			if strings.Contains(r.stdout, "lost") || strings.Contains(r.stdout, "position") {
				t.Errorf("nothing goes but a name: %s", r)
			}
			o.same("select concat(title, loud) from titles order by id", "SeljaSELJA\nRundeRUNDE")
			o.same("select loud from louder order by loud", "RUNDE\nSELJA")
			o.same("select count(*) from short", "2")
			if server == "SQLite" {
				o.exec("update writable set title = 'Through' where id = 2")
				o.same("select title from vessel where id = 2", "Through")
			}
			if server == "PostgreSQL" {
				o.same("select reloptions[1] from pg_class where relname = 'titles'", "security_barrier=true")
				o.same("select has_table_privilege('view_reader', 'titles', 'select')", "true")
			}
		})
	}
}
