package test

import (
	"context"
	"fmt"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestFrozenRunKeepsNobodyWaiting is that a run which is frozen while it holds what writers
// of a live database wait for lets them go on by itself, that it loses nothing, and that it
// ends when it is run again.
func TestFrozenRunKeepsNobodyWaiting(t *testing.T) {
	beside(t)
	for name, c := range map[string]struct {
		make  func(*testing.T) *office
		place string
	}{
		"PostgreSQL":                  {wideServer, "before-commit:2"},
		"PostgreSQL, between a batch": {wideServer, "batch-before-commit:2"},
		"MariaDB":                     {wideMariaDB, "locked-statement:1"},
		"MariaDB, between a batch":    {wideMariaDB, "batch-before-commit:2"},
	} {
		t.Run(name, func(t *testing.T) {
			o := c.make(t)
			o.migration("0002-change", "-- A change\nbackfill vessel set berth_id = berth_id + 1;\nalter table vessel drop "+
				"column flag;\n")
			p := o.pausedAt(c.place, "advance", "--yes", "--settle", "--let-writers-wait")
			if p == nil {
				t.Fatal("it did not come there")
			}
			p.cmd.Process.Signal(syscall.SIGSTOP)
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			db := o.open()
			defer db.Close()
			for _, sql := range []string{"update vessel set name = 'written' where id < 3000",
				"insert into vessel (id, name) values (9000, 'new')"} {
				if _, err := db.ExecContext(ctx, sql); err != nil {
					t.Errorf("while it is frozen: %v", err)
				}
			}
			p.cmd.Process.Signal(syscall.SIGCONT)
			// PostgreSQL says for certain that all was taken back: the run does it again by itself.
			r := p.goOn()
			if strings.HasPrefix(name, "PostgreSQL") {
				o.wants(r, "did nothing for too long")
			}
			if r.code != 0 && (r.code != 4 && r.code != 1 || strings.HasPrefix(name, "PostgreSQL")) {
				t.Error(r)
			}
			o.must("advance", "--yes", "--settle", "--let-writers-wait")
			o.same("select count(*) from vessel where berth_id <> id % 40 + 2 and id <= 3000 or name <> 'written' and id < 3000",
				"0")
			o.wants(o.code(0, "audit"), "matches:")
			o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
			o.same("select count(*) from vessel where berth_id <> id % 40 + 1 and id <= 3000", "0")
			o.same("select count(*) from vessel where flag is null and id <= 3000", "428")
			o.wants(o.code(0, "audit"), "matches:")
		})
	}
}

// TestAHeldRunStaysTheOneRunner is that a server which ends idle sessions after a second does not
// take the claim from a run that somebody lets hold: no second one is let in, and it goes on.
func TestAHeldRunStaysTheOneRunner(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, []string{"PostgreSQL", "MariaDB"}) {
		t.Run(name, func(t *testing.T) {
			beside(t)
			own, err := startServer(t, name)
			if err != nil {
				t.Fatal(err)
			}
			url := own.database(t)
			q := &office{T: t, dir: t.TempDir(), url: url}
			if name == "MariaDB" {
				q.exec("set global wait_timeout = 1, global interactive_timeout = 1, global idle_transaction_timeout = 1")
			} else {
				q.exec("alter role postgres set idle_session_timeout = '1s'",
					"alter role postgres set idle_in_transaction_session_timeout = '1s'")
			}
			f := filling(t, url, 60_000, "", "")
			f.until("its rows", begun)
			f.must("pace", "--hold")
			f.until("the hold", holding)
			time.Sleep(3 * time.Second)
			f.wants(f.code(3, "advance", "--yes", "--let-writers-wait"), "another Lastboard is changing this database")
			f.wants(f.code(3, "retreat", "--to", "1", "--yes"), "another Lastboard is changing this database")
			f.must("pace", "--release")
			f.until("going on", goesOn)
			f.end()
		})
	}
}

// TestTriggerThatKeepsRowsFromBeingWritten is that a backfill which a trigger of somebody
// else's keeps from its rows is not done without them.
func TestTriggerThatKeepsRowsFromBeingWritten(t *testing.T) {
	beside(t)
	rows := map[string]string{"PostgreSQL": "insert into vessel select g, g from generate_series(1, 3000) g",
		"SQLite": "insert into vessel select value, value from (with recursive s(value) as (select 1 union all select " +
			"value + 1 from s where value < 3000) select value from s)"}
	for name, trigger := range map[string][]string{
		"PostgreSQL": {"create function keep() returns trigger language plpgsql as $$ begin if old.id % 2 = 0 then " +
			"return null; end if; return new; end $$", "create trigger keep before update on vessel for each row execute " +
			"function keep()", "analyze"},
		"SQLite": {"create trigger keep before update on vessel when old.id % 2 = 0 begin select raise(ignore); end"},
	} {
		for _, live := range []string{"true", "false"} {
			t.Run(name+" "+live, func(t *testing.T) {
				statements := append([]string{"create table vessel (id integer primary key, n integer)", rows[name]}, trigger...)
				o := newOffice
				if name == "PostgreSQL" {
					o = newServerOffice
				}
				q := o(t, statements...)
				q.must("adopt", "--yes")
				url := q.url
				if url == "" {
					url = "sqlite:harbour.db"
				}
				q.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+url+"'\nlive = "+live+
					"\n[databases.dev.pace]\nlock_wait = '100us'\nbatch_time = '1ms'\n")
				start := q.query("select sum(n) from vessel")
				q.migration("0002-change", "-- A change\nbackfill vessel set n = n + 1;\n")
				r := q.run("advance", "--yes")
				if r.code == 0 {
					t.Fatalf("half of the rows are not written: %s", r)
				}
				q.wants(r, "a trigger of the table keeps them from it")
				if now := q.query("select sum(n) from vessel"); now != start {
					t.Errorf("wanted %s as at the start, got %s", start, now)
				}
			})
		}
	}
}

// TestFrozenWhileShapesChange freezes runs that open overlaps, settle them and take them back at some
// of their commits, or of what defines something: who writes meanwhile waits for a little while, and
// nothing is lost.
func TestFrozenWhileShapesChange(t *testing.T) {
	beside(t)
	place := map[string]string{"PostgreSQL": "before-commit", "MariaDB": "statement"}
	every := map[string]int{"PostgreSQL": 4, "MariaDB": 9}
	for i, what := range []string{"another type", "two shapes"} {
		for j, server := range everywhere[1:] {
			inTurn(t, 2*i+j, 4, what+" on "+server, func(t *testing.T) {
				office := swapOffice
				if i == 1 {
					office = splitOffice
				}
				o := office(t, server, 300, "lock_wait = '300ms'\nlock_tries = 100\n")
				db := o.open()
				defer db.Close()
				wrote := 0
				for n, came := 1+int(*day)%every[server], true; came; n += every[server] {
					came = false
					for _, args := range [][]string{{"advance", "--yes"}, {"settle", "--yes"}, {"retreat", "--to", "1", "--yes",
						"--settle"}} {
						p := o.pausedAt(fmt.Sprint(place[server], ":", n), args...)
						if p == nil {
							o.code(0, args...) // it had come to its end
							continue
						}
						came = true
						p.cmd.Process.Signal(syscall.SIGSTOP)
						ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
						if _, err := db.ExecContext(ctx, "update vessel set n = n + 1 where id = -1"); err != nil {
							t.Errorf("%v frozen at %s %d: %v", args, place[server], n, err)
						} else {
							wrote++
						}
						cancel()
						p.cmd.Process.Signal(syscall.SIGCONT)
						if r := p.goOn(); r.code != 0 {
							o.must(args...)
						}
						o.must("audit")
					}
					if o.onMariaDB() { // it takes only so many changes in an instant
						o.exec("alter table vessel force")
					}
				}
				o.same("select n from vessel where id = -1", fmt.Sprint(wrote))
				if wrote == 0 {
					t.Error("it was never frozen: the test has lost its aim")
				}
			})
		}
	}
}

// TestFrozenAtEachCommit is that a run whose transaction the server has taken back while it was frozen, at
// whichever of its commits, does it again whole: in the end the ledger says what the tables are.
func TestFrozenAtEachCommit(t *testing.T) {
	o := liveOffice(t, "lock_wait = '300ms'\nlock_tries = 100\n", "create table vessel (id integer primary key, n "+
		"integer)",
		"insert into vessel select g, g from generate_series(1, 300) g", "analyze")
	o.migration("0002-tag", "-- A tag\nalter table vessel add column tag varchar(80) not null using (concat('t', n));\n")
	start := o.canonical(true)
	db := o.open()
	defer db.Close()
	frozen := 0
	for n, came := 1, true; came; n++ {
		came = false
		for _, args := range [][]string{{"advance", "--yes", "--settle"}, {"retreat", "--to", "1", "--yes", "--settle"}} {
			p := o.pausedAt(fmt.Sprint("before-commit:", n), args...)
			if p == nil {
				o.code(0, args...) // it had come to its end
				continue
			}
			came = true
			frozen++
			p.cmd.Process.Signal(syscall.SIGSTOP)
			if _, err := db.Exec("do $$ begin lock table vessel in access exclusive mode; end " +
				"$$"); err != nil { // once the server has ended it
				t.Errorf("%v frozen at %d: %v", args, n, err)
			}
			time.Sleep(4 * time.Second) // for one that holds no lock on the table
			p.cmd.Process.Signal(syscall.SIGCONT)
			if r := p.goOn(); r.code != 0 {
				o.must(args...)
			}
			o.must("audit")
		}
		o.isAgain(start)
	}
	if frozen < 4 {
		t.Errorf("it was frozen only %d times", frozen)
	}
}
