package test

import (
	"bytes"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

var kills = flag.Int("kills", 12, "how many runs to kill at a random moment")

// bigOffice has enough rows for backfills to run in batches.
func bigOffice(t *testing.T, rows int) *office {
	t.Helper()
	o := adopted(t,
		"pragma journal_mode = wal",
		"create table vessel (id integer primary key, name text not null, old text, n integer)",
		"create index vessel_name on vessel (name)",
		fmt.Sprintf("insert into vessel (name, old, n) select 'vessel ' || value, 'old ' || value, value from (with "+
			"recursive s(value) as (select 1 union all select value + 1 from s where value < %d) select value from s)", rows),
	)
	// Batches short enough for many of them.
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = "+
		"'sqlite:harbour.db'\n[databases.dev.pace]\nbatch_time = '5ms'\nlock_wait = '1ms'\n")
	o.migration("0002-change", bigChange)
	return o
}

// bigChange has every kind of step: proofs, additions, two backfills, one of which
// keeps old values, a rebuild and a drop.
const bigChange = `-- A change with every kind of step
alter table vessel
  add column code text not null using ('V' || cast(id as text)),
  add column flag boolean not null default false;
backfill vessel set n = n * 2 where n % 3 = 0;
alter table vessel
  drop column old,
  alter column name set default 'unnamed';
create unique index vessel_code on vessel (code);
`

// afterChange are queries whose answers show that every row was done once.
func afterChange(o *office, rows int) {
	o.Helper()
	o.same("select count(*), count(distinct code), sum(code = 'V' || id), sum(flag) from vessel",
		fmt.Sprintf("%d|%d|%d|0", rows, rows, rows))
	o.same("select sum(case when id % 3 = 0 then n = id * 2 else n = id end) from vessel", fmt.Sprint(rows))
	o.same("pragma integrity_check", "ok")
	o.same("select count(*) from sqlite_schema where name like 'lastboard_rebuild%'", "0")
}

// points are the places at which a run can be killed, and how often each may be
// passed before it is.
var points = []struct {
	name  string
	times []int
}{
	{"before-step", []int{1, 3, 6, 9}}, {"after-step", []int{1, 4, 8}}, {"statement", []int{1, 2, 5, 9, 14}},
	{"before-commit", []int{1, 2, 3}}, {"after-commit", []int{1, 2, 3}},
	{"batch-statement", []int{1, 2, 7, 11}}, {"batch-before-commit", []int{1, 3, 9}}, {"batch-committed", []int{1, 2, 8}},
	{"run-finished", []int{1}},
}

func TestKilledAtEveryPointThenAdvance(t *testing.T) {
	beside(t)
	var reached atomic.Int32
	t.Run("points", func(t *testing.T) {
		for _, p := range points {
			for i, n := range p.times {
				if !itsTurn(i, 2) && len(p.times) > 1 {
					continue
				}
				fault := fmt.Sprintf("%s:%d", p.name, n)
				t.Run(fault, func(t *testing.T) {
					if killedThenAdvanced(t, fault) {
						reached.Add(1)
					}
				})
			}
		}
	})
	if n := reached.Load(); n < 8 {
		t.Errorf("only %d of the points were reached: the test has lost its aim", n)
	}
}

// killedThenAdvanced kills a run at a point, goes on with it, takes it back with the
// way back killed at the same point, and runs it again.
func killedThenAdvanced(t *testing.T, fault string) (killed bool) {
	const rows = 4000
	o := bigOffice(t, rows)
	start := o.snapshot()
	o.env = []string{"LASTBOARD_FAULT=" + fault}
	r := o.run("advance", "--yes")
	if !r.killed && r.code != 0 {
		t.Fatalf("wanted a kill or success, got %s", r)
	}
	o.env = nil
	o.must("advance", "--yes")
	afterChange(o, rows)
	end := o.snapshot()
	o.env = []string{"LASTBOARD_FAULT=" + fault}
	o.run("retreat", "--to", "1", "--yes")
	o.env = nil
	o.must("retreat", "--to", "1", "--yes")
	o.unchanged(start)
	o.must("advance", "--yes")
	o.unchanged(end)
	return r.killed
}

func TestKilledInTheMiddleThenRetreat(t *testing.T) {
	beside(t)
	for _, fault := range []string{"batch-committed:3", "batch-before-commit:6", "after-commit:1", "after-commit:2",
		"statement:9"} {
		t.Run(fault, func(t *testing.T) {
			o := bigOffice(t, 4000)
			start := o.snapshot()
			o.env = []string{"LASTBOARD_FAULT=" + fault}
			if r := o.run("advance", "--yes"); !r.killed {
				t.Fatalf("wanted a kill, got %s", r)
			}
			o.env = nil
			// What the dead run left of itself does not count as running.
			o.wants(o.code(0, "status"), "0002", "stopped")
			o.must("retreat", "--to", "1", "--yes")
			o.unchanged(start)
			o.must("advance", "--yes")
			afterChange(o, 4000)
		})
	}
}

// TestKilledAtRandomMoments kills the program while it works and another process
// writes; every row that the other was told is written must be there at the end.
func TestKilledAtRandomMoments(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	const rows = 30_000
	for i := range *kills {
		o := bigOffice(t, rows)
		writer := startWriter(o)
		killed := 0
		for range 3 {
			c := o.command("advance", "--yes")
			var out bytes.Buffer
			c.Stdout, c.Stderr = &out, &out
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			done := make(chan error, 1)
			go func() { done <- c.Wait() }()
			select {
			case err := <-done:
				if err != nil {
					t.Fatalf("run %d: %v\n%s", i, err, out.String())
				}
			case <-time.After(time.Duration(r.IntN(400)) * time.Millisecond):
				c.Process.Kill()
				<-done
				killed++
			}
		}
		o.must("advance", "--yes")
		ids := writer.stop()
		o.same(fmt.Sprintf("select count(*) from vessel where id > %d", rows), fmt.Sprint(len(ids)))
		o.same(fmt.Sprintf("select count(*), sum(code = 'V' || id) from vessel where id <= %d", rows),
			fmt.Sprintf("%d|%d", rows, rows))
		o.same(fmt.Sprintf("select sum(case when id %% 3 = 0 then n = id * 2 else n = id end) from vessel where id <= %d",
			rows), fmt.Sprint(rows))
		o.same("select count(*) from vessel where code is null", "0")
		o.same("pragma integrity_check", "ok")
		if t.Failed() {
			t.Fatalf("run %d, killed %d times, seed %d", i, killed, seed)
		}
	}
}

// writer is another program at work on the same table; it names its columns, and
// knows nothing of new ones. What not null refuses once the change is done is not
// counted.
type writer struct {
	ids  []int64
	quit chan struct{}
	done chan struct{}
}

func startWriter(o *office) *writer {
	w := &writer{quit: make(chan struct{}), done: make(chan struct{})}
	db := o.open()
	go func() {
		defer close(w.done)
		defer db.Close()
		for {
			select {
			case <-w.quit:
				return
			case <-time.After(3 * time.Millisecond):
			}
			if r, err := db.Exec("insert into vessel (name, n) values ('late', 0)"); err == nil {
				if id, err := r.LastInsertId(); err == nil {
					w.ids = append(w.ids, id)
				}
			}
		}
	}()
	return w
}

func (w *writer) stop() []int64 {
	close(w.quit)
	<-w.done
	return w.ids
}

func TestInterruptedByTheKeyboard(t *testing.T) {
	o := bigOffice(t, 200_000)
	c := o.command("advance", "--yes")
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, o, "select count(*) from lastboard_backfill")
	if err := c.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	err := c.Wait()
	if code := c.ProcessState.ExitCode(); code != 4 {
		t.Fatalf("wanted exit 4, got %d (%v)\n%s", code, err, out.String())
	}
	for _, text := range []string{"stopped by the keyboard", "advance goes on from here"} {
		if !strings.Contains(out.String(), text) {
			t.Errorf("wanted %q in %s", text, out.String())
		}
	}
	if s := o.must("status"); !strings.Contains(s, "stopped") {
		t.Errorf("wanted stopped in %s", s)
	}
	o.must("advance", "--yes")
	afterChange(o, 200_000)
}

// waitFor waits until a query gives a number above 0.
func waitFor(t *testing.T, o *office, query string) {
	t.Helper()
	db := o.open()
	defer db.Close()
	for range 2000 {
		var n int
		if err := db.QueryRow(query).Scan(&n); err == nil && n > 0 {
			return
		}
		time.Sleep(2 * time.Millisecond)
	}
	t.Fatalf("%s: nothing came", query)
}

func TestSecondRunnerIsRefused(t *testing.T) {
	o := bigOffice(t, 200_000)
	first := o.command("advance", "--yes")
	if err := first.Start(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, o, "select count(*) from lastboard_backfill")
	// Stopped where it is, the first still is the one runner.
	if err := first.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	o.wants(o.code(3, "advance", "--yes"), "another Lastboard is changing this database", "since")
	if s := o.must("status"); !strings.Contains(s, "running") {
		t.Errorf("wanted running in %s", s)
	}
	if err := first.Process.Signal(syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	if err := first.Wait(); err != nil {
		t.Fatal(err)
	}
	afterChange(o, 200_000)
}
