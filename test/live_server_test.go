package test

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// liveOffice is one on a server that applications use, with a pace.
func liveOffice(t *testing.T, pace string, statements ...string) *office {
	t.Helper()
	o := newServerOffice(t, statements...)
	o.must("adopt", "--yes")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+"'\nlive = true\n[databases.dev.pace]\n"+
		pace)
	return o
}

// meanwhile calls work from several goroutines, each with a connection, until the
// function it gives is called; that one says how often.
func (o *office) meanwhile(workers int, work func(db *sql.DB, r *rand.Rand) error) (stop func() int64) {
	o.Helper()
	db := o.open()
	db.SetMaxOpenConns(workers)
	var done atomic.Bool
	var calls atomic.Int64
	var all sync.WaitGroup
	for i := range workers {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(i), 7))
			for !done.Load() {
				err := work(db, r)
				if err != nil {
					o.Errorf("another application: %v", err)
					return
				}
				calls.Add(1)
			}
		})
	}
	return func() int64 {
		done.Store(true)
		all.Wait()
		db.Close()
		return calls.Load()
	}
}

// TestNoValueIsLostWhileAColumnIsFilled fills a column of a table to which others add rows,
// and whose rows they change and so move, with a key and without: in the end every row
// has the value that belongs to it.
func TestNoValueIsLostWhileAColumnIsFilled(t *testing.T) {
	beside(t)
	const rows = 15_000
	for i, name := range []string{"with a key", "without a key"} {
		create := "create table call (id bigint" + []string{" primary key", ""}[i] + ", dues integer)"
		for j, what := range []string{"not null", "nullable"} {
			if !itsTurn(i+j, 2) {
				continue
			}
			statement := "alter table call add fee bigint" + []string{" not null", ""}[j] + " using (id * 2)"
			t.Run(name+", "+what, func(t *testing.T) {
				o := liveOffice(t, "lock_wait = '20ms'\nlock_tries = 200\nbatch_time = '4ms'\nwork_share = '66 %'\n", create,
					fmt.Sprintf("insert into call select g, g from generate_series(1, %d) g", rows),
					"create index call_by_id on call (id)", "analyze")
				o.migration("0002-change", "-- A change\n"+statement+";\n")
				o.wants(o.code(0, "forecast"), "backfill")
				next := atomic.Int64{}
				next.Store(rows)
				stop := o.meanwhile(2, func(db *sql.DB, r *rand.Rand) error {
					_, err := db.Exec("insert into call (id, dues) values ($1, 0)", next.Add(1))
					if err != nil && strings.Contains(err.Error(), "23502") {
						err = nil // the column is there, and wants a value
					}
					if err == nil {
						_, err = db.Exec("update call set dues = dues + 1 where id = $1", 1+r.Int64N(rows))
					}
					if err == nil {
						_, err = db.Exec("delete from call where id = $1", 1+r.Int64N(rows))
					}
					return err
				})
				o.must("advance", "--yes")
				if n := stop(); n < 50 {
					t.Errorf("others did %d times what they do", n)
				}
				o.same("select count(*) from call where fee is distinct from id * 2 and id <= "+fmt.Sprint(rows), "0")
				if what == "not null" {
					o.same("select count(*) from call where fee is distinct from id * 2 and fee is not null", "0")
				}
				if what == "not null" { // programs of before go on leaving it out
					o.must("settle", "--yes")
				}
				o.same("select count(*) from pg_trigger where tgrelid = 'call'::regclass and not tgisinternal", "0")
			})
		}
	}
}

// TestDeadlockGivesWay is that a batch which the server has chosen to give way is done
// again.
func TestDeadlockGivesWay(t *testing.T) {
	o := liveOffice(t, "lock_wait = '5s'\nbatch_time = '5s'\n", "create table call (id integer primary key, dues integer)",
		"insert into call select g, 0 from generate_series(1, 5000) g",
		// A batch pauses at one row, so that the other transaction can ask for the first one.
		"create function pause() returns trigger language plpgsql as $$ begin if new.id = 300 and new.dues = 1 then "+
			"perform pg_sleep(0.5); end if; return new; end $$",
		"create trigger pause before update on call for each row execute function pause()", "analyze")
	_, name, _ := strings.Cut(strings.TrimPrefix(o.url, "postgres://"), "/")
	o.exec("alter database " + name + " set deadlock_timeout = '10ms'")
	o.migration("0002-change", "-- A change\nbackfill call set dues = dues + 1 discard;\n")
	db := o.open()
	defer db.Close()
	tx, err := db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	for _, sql := range []string{"set local deadlock_timeout = '1h'", "update call set dues = dues + 100 where id = 700"} {
		if _, err := tx.Exec(sql); err != nil {
			t.Fatal(err)
		}
	}
	before := o.query("select deadlocks from pg_stat_database where datname = current_database()")
	c := o.command("advance", "--yes", "--let-writers-wait")
	var out strings.Builder
	c.Stdout, c.Stderr = &out, &out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, o, "select count(*) from pg_stat_activity where wait_event = 'PgSleep' and datname = current_database()")
	if _, err := tx.Exec("update call set dues = dues + 100 where id = 1"); err != nil {
		t.Fatalf("the other transaction was chosen: %v", err)
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
	if err := c.Wait(); err != nil {
		t.Fatalf("%v\n%s", err, out.String())
	}
	o.same("select count(*), sum(dues), count(*) filter (where dues = 101) from call", "5000|5200|2")
	time.Sleep(100 * time.Millisecond)
	if after := o.query("select deadlocks from pg_stat_database where datname = current_database()"); after == before {
		t.Error("there was no deadlock")
	}
}

// TestAutovacuumYields is that the server's own cleaning of a table keeps nobody from
// changing it: a short try for a strong lock alone would never make it yield.
func TestAutovacuumYields(t *testing.T) {
	o := liveOffice(t, "lock_wait = '100ms'\nlock_tries = 4\n",
		"create table call (id integer, berth text) with (autovacuum_vacuum_cost_delay = 100, "+
			"autovacuum_vacuum_cost_limit = 1, autovacuum_vacuum_threshold = 1, autovacuum_vacuum_scale_factor = 0)",
		"insert into call select g, repeat('x', 200) from generate_series(1, 50000) g", "delete from call where id % 2 = 0")
	o.migration("0002-change", "-- A change\nalter table call add fee integer;\n")
	const busy = "select count(*) from pg_stat_progress_vacuum where relid = 'call'::regclass and datname = " +
		"current_database()"
	db := o.open()
	defer db.Close()
	for i := 0; ; i++ {
		var n int
		if err := db.QueryRow(busy).Scan(&n); err != nil || i > 600 {
			t.Fatalf("the server does not clean the table: %v", err)
		}
		if n > 0 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	o.must("advance", "--yes")
	o.same("select count(*) from call where fee is null", "25000")
}
