package run_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
	"lastboard/internal/engine/sqlite"
)

const filling = "alter table vessel add column code text not null using (name || '!')"

func TestARunIsRecorded(t *testing.T) {
	q := newQuay(t, 3)
	if err := q.advance(t.Context(), "0001", filling); err != nil {
		t.Fatal(err)
	}
	q.same("select code, (select count(*) from vessel) from vessel where id = 2", "vessel 2! 3")
	m := q.known("0001")
	if m == nil || m.State != ledger.Settled || m.Direction != ledger.Advance || m.Title != "A change" ||
		m.AdvancedAt == "" || m.SettledAt == "" {
		t.Fatalf("the record is %+v", m)
	}
	entries, err := ledger.Of(q.db).Entries(t.Context())
	if err != nil || len(entries) != 1 || entries[0].What != "advanced" || entries[0].Rows != 3 ||
		entries[0].Forecast == nil || entries[0].By == "" {
		t.Errorf("the entries are %+v, %v", entries, err)
	}
	steps, err := ledger.Of(q.db).Steps(t.Context(), "0001", ledger.Advance)
	if err != nil || len(steps) == 0 || slices.ContainsFunc(steps, func(s ledger.Step) bool {
		return s.State != "done" || s.Tries != 1
	}) {
		t.Errorf("the steps are %+v, %v", steps, err)
	}
	if got := q.whats(); got != "migration step step-done migration-done" && !strings.HasPrefix(got, "migration step ") ||
		!strings.HasSuffix(got, "migration-done") {
		t.Errorf("what was heard: %s", got)
	}
	if err := q.retreat(t.Context(), "0001"); err != nil {
		t.Fatal(err)
	}
	if q.known("0001") != nil {
		t.Error("it is recorded still")
	}
	q.same("select count(*) from pragma_table_info('vessel')", "3")
}

func TestWhatIsRefusedChangesNothing(t *testing.T) {
	for _, c := range []struct {
		name, text, rule string
		live             bool
	}{
		{"rows would break", "alter table vessel alter flag set not null", "rows-would-break", false},
		{"rows need a value", "alter table vessel add column code text not null", "rows-need-value", false},
		{"an assertion", "assert not exists (select 1 from vessel) else 'there are vessels'", "assertion-fails", false},
		{"an overlap is needed", "alter table vessel rename to ship", "needs-overlap", true},
		{"writers would wait", "alter table vessel alter flag set default 'NO'", "writers-would-wait", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			q := newQuay(t, 3000)
			q.options.Live, q.options.LockWait = c.live, time.Nanosecond
			before := q.one("select group_concat(sql, '; ') from sqlite_schema where name not like 'lastboard%'") +
				q.one("select count(*), count(flag) from vessel")
			q.refused(q.advance(t.Context(), "0001", c.text), fault.Refused, c.rule)
			if q.known("0001") != nil {
				t.Error("it is recorded")
			}
			q.same("select group_concat(sql, '; ') from sqlite_schema where name not like 'lastboard%'",
				strings.TrimSuffix(before, q.one("select count(*), count(flag) from vessel")))
		})
	}
}

// A run that is stopped between batches goes on where it was, and does every row once.
func TestAStoppedRunGoesOn(t *testing.T) {
	const text = "backfill vessel set flag = coalesce(flag, '') || '+'"
	for _, way := range []string{"on", "back"} {
		t.Run(way, func(t *testing.T) {
			q := newQuay(t, 20_000)
			q.options.LockWait = time.Nanosecond // so that it goes in batches
			ctx, stop := context.WithCancel(t.Context())
			q.on = func(e run.Event) {
				if e.What == "progress" && e.Rows > 2000 {
					stop()
				}
			}
			err := q.advance(ctx, "0001", text)
			q.refused(err, fault.Stopped, "interrupted")
			if m := q.known("0001"); m == nil || m.State != ledger.Stopped {
				t.Fatalf("the record is %+v", m)
			}
			some := q.one("select count(*) from vessel where flag like '%+'")
			if some == "0" || some == "20000" {
				t.Errorf("%s rows were done when it stopped", some)
			}
			q.on = nil
			if way == "on" {
				if err := q.advance(t.Context(), "0001", text); err != nil {
					t.Fatal(err)
				}
				q.same("select count(*), min(length(flag)), max(length(flag)) from vessel where flag like '%+' and flag not "+
					"like '%++%'", "20000 1 3")
			}
			if err := q.retreat(t.Context(), "0001"); err != nil {
				t.Fatal(err)
			}
			q.same("select count(*), count(flag), count(case when flag like '%+%' then 1 end) from vessel",
				fmt.Sprintf("20000 %d 0", 20_000-20_000/7))
		})
	}
}

func TestOneRunnerAtATime(t *testing.T) {
	q := newQuay(t, 3)
	_, done := q.runner()
	second := &run.Runner{Engine: sqlite.Engine{}, DB: q.open(), Options: q.options}
	err := second.Begin(t.Context())
	q.refused(err, fault.Refused, "runner-busy")
	if err != nil && !strings.Contains(err.Error(), "process") {
		t.Errorf("it does not say who the first is: %v", err)
	}
	done()
	if err := second.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := second.End(); err != nil {
		t.Error(err)
	}
}

func TestTablesThatSomebodyChanged(t *testing.T) {
	for _, c := range []struct{ by, says string }{
		{"alter table vessel add column mast text", "mast"}, {"drop table vessel", "is gone"},
		{"alter table vessel drop column flag", "flag"},
	} {
		t.Run(c.by, func(t *testing.T) {
			q := newQuay(t, 3)
			if err := q.advance(t.Context(), "0001", filling); err != nil {
				t.Fatal(err)
			}
			q.exec(c.by)
			err := q.retreat(t.Context(), "0001")
			if q.refused(err, fault.Refused, "changed-by-hand"); err != nil && !strings.Contains(err.Error(), c.says) {
				t.Errorf("it does not say %s: %v", c.says, err)
			}
			if m := q.known("0001"); m == nil || m.State != ledger.Settled {
				t.Errorf("the record is %+v", m)
			}
		})
	}
}

// A run holds when it is told to, says why, and goes on when it is let go.
func TestARunHolds(t *testing.T) {
	q := newQuay(t, 30_000)
	q.options.LockWait, q.options.Pace.Rest = time.Nanosecond, time.Millisecond
	other := q.open()
	pace := func(held bool) {
		tx, err := other.Begin(t.Context(), engine.TxOptions{LockWait: 10 * time.Second})
		if err == nil {
			err = errors.Join(ledger.Steer(t.Context(), tx, func(p ledger.Pace) ledger.Pace {
				p.Held, p.By, p.Host = held, "the pilot", "tower"
				return p
			}), tx.Commit())
		}
		if err != nil {
			t.Error(err)
		}
	}
	told, said := make(chan bool, 1), make(chan bool, 1)
	var asked, heeded time.Time
	q.on = func(e run.Event) {
		switch {
		case e.What == "progress" && asked.IsZero():
			asked = time.Now()
			told <- true
		case e.What == "holding":
			heeded = time.Now()
			if !strings.Contains(e.Why, "the pilot") {
				t.Errorf("it holds because %s", e.Why)
			}
			said <- true
		}
	}
	done := make(chan bool)
	go func() {
		defer close(done)
		<-told
		pace(true)
		<-said
		time.Sleep(100 * time.Millisecond)
		pace(false)
	}()
	if err := q.advance(t.Context(), "0001", "backfill vessel set flag = 'DK' discard"); err != nil {
		t.Fatal(err)
	}
	<-done
	t.Logf("a hold was heeded %s after it was asked for", heeded.Sub(asked).Round(time.Millisecond))
	if got := q.whats(); !strings.Contains(got, "progress holding released progress") {
		t.Errorf("what was heard: %s", got)
	}
	q.same("select count(*) from vessel where flag = 'DK'", "30000")
}

func TestWhatIsKeptIsDiscarded(t *testing.T) {
	q := newQuay(t, 5)
	if err := q.advance(t.Context(), "0001", "alter table vessel drop column flag"); err != nil {
		t.Fatal(err)
	}
	kept, _, err := ledger.Of(q.db).Kept(t.Context())
	if err != nil || len(kept) != 1 || kept[0].Keeping.What != engine.KeptColumn {
		t.Fatalf("%+v is kept, %v", kept, err)
	}
	r, done := q.runner()
	if err := r.Discard(t.Context(), kept); err != nil {
		t.Fatal(err)
	}
	done()
	q.same("select count(*) from sqlite_schema where name like 'lastboard_kept_%'", "0")
	if err := q.retreat(t.Context(), "0001"); err != nil {
		t.Fatal(err)
	}
	q.same("select count(*), count(flag) from vessel", "5 0")
}

// A migration that has stopped keeps what it needs.
func TestWhatAStoppedRunNeedsIsNotDiscarded(t *testing.T) {
	q := newQuay(t, 20_000)
	q.options.LockWait = time.Nanosecond
	ctx, stop := context.WithCancel(t.Context())
	q.on = func(e run.Event) {
		if e.What == "progress" {
			stop()
		}
	}
	q.refused(q.advance(ctx, "0001", "backfill vessel set flag = 'DK'"), fault.Stopped, "interrupted")
	q.on = nil
	kept, _, err := ledger.Of(q.db).Kept(t.Context())
	if err != nil || len(kept) == 0 {
		t.Fatalf("nothing is kept, %v", err)
	}
	r, done := q.runner()
	q.refused(r.Discard(t.Context(), kept), fault.Refused, "migration-unfinished")
	done()
}

func TestAdoptedTablesAreNotTouched(t *testing.T) {
	q := newQuay(t, 3)
	r, done := q.runner()
	if err := r.Adopt(t.Context(), q.migration("0001",
		"create table vessel (id integer primary key, name text not null, flag text)")); err != nil {
		t.Fatal(err)
	}
	done()
	q.same("select count(*) from vessel", "3")
	if m := q.known("0001"); m == nil || m.State != ledger.Settled {
		t.Errorf("the record is %+v", m)
	}
	tables, err := ledger.Of(q.db).Tables(t.Context())
	if err != nil || len(tables.Tables) != 1 || tables.Tables[0].Name != "vessel" {
		t.Errorf("the ledger knows %+v, %v", tables, err)
	}
	if err := q.retreat(t.Context(), "0001"); err == nil {
		t.Error("what was adopted was taken back")
	}
	q.same("select count(*) from vessel", "3")
}

// What a run has left that died is taken away by the next, and named.
func TestLeftoversGo(t *testing.T) {
	q := newQuay(t, 3)
	if err := q.advance(t.Context(), "0001", filling); err != nil {
		t.Fatal(err)
	}
	q.exec("create table lastboard_kept_9 (k1)", "create table lastboard_csv_9 (k1)",
		"create table lastboard_entry_copy as select * from lastboard_entry",
		"create trigger lastboard_kept_9_gone after delete on vessel begin delete from lastboard_kept_9; end",
		"insert into lastboard_runner (id, token, by_whom, host, process, since, beat) select 1, 'x', 'mate', host, 1, "+
			"'2001-01-01T00:00:00.000Z', '2001-01-01T00:00:00.000Z' from (select 'elsewhere' as host)")
	q.events = nil
	_, done := q.runner()
	done()
	var cleared []string
	for _, e := range q.events {
		if e.What == "cleared" {
			cleared = append(cleared, e.Why)
		}
	}
	if text := strings.Join(cleared, "\n"); !strings.Contains(text, "table lastboard_csv_9,") ||
		!strings.Contains(text, "trigger lastboard_kept_9_gone,") ||
		!strings.Contains(text, "the claim of mate on elsewhere") || len(cleared) != 3 {
		t.Errorf("cleared away:\n%s", text)
	}
	q.same("select group_concat(name, ' ') from sqlite_schema where name in ('lastboard_kept_9', 'lastboard_csv_9', "+
		"'lastboard_kept_9_gone', 'lastboard_entry_copy') order by name", "lastboard_kept_9 lastboard_entry_copy")
	q.options.ClearKept = true
	_, done = q.runner()
	done()
	q.same("select group_concat(name, ' ') from sqlite_schema where name in ('lastboard_kept_9', 'lastboard_entry_copy')",
		"lastboard_entry_copy")
}

// A run that may not write yet waits, says so, and goes on; it gives up after its tries.
func TestARunWaitsForTheRightToWrite(t *testing.T) {
	for _, c := range []struct {
		tries, waits int
		goes         bool
	}{{100, 2, true}, {3, 2, false}} {
		q := newQuay(t, 3)
		q.options.LockTries, q.options.LockWait = c.tries, 20*time.Millisecond
		r, done := q.runner()
		tx, err := q.open().Begin(t.Context(), engine.TxOptions{LockWait: time.Second})
		if err != nil {
			t.Fatal(err)
		}
		waits := 0
		q.on = func(e run.Event) {
			if e.What == "waiting" {
				if waits++; waits == 2 && c.goes {
					if err := tx.Rollback(); err != nil {
						t.Error(err)
					}
				}
			}
		}
		_, err = r.Advance(t.Context(), q.migration("0001", filling), nil)
		if c.goes && err != nil || waits != c.waits {
			t.Errorf("after %d waits: %v", waits, err)
		}
		if !c.goes {
			q.refused(err, fault.Failed, "lock-not-given")
			if err := tx.Rollback(); err != nil {
				t.Error(err)
			}
			if q.known("0001") != nil {
				t.Error("it is recorded")
			}
		}
		done()
	}
}

// A proof can be asked for by itself.
func TestProofsByThemselves(t *testing.T) {
	q := newQuay(t, 30)
	proof := func(sql, count string, early bool) *engine.Step {
		return &engine.Step{Number: 1, What: "prove", Early: early,
			Proof: &engine.Proof{SQL: sql, Count: count, Table: "vessel", Keys: 1, Rule: "rows-would-break",
				Message: "%d rows break it", Cure: "mend them"}}
	}
	const bad, none = "select id, flag from vessel where flag is null limit 5", "select id, flag from vessel where id < 0"
	f, err := run.Check(t.Context(), q.db, proof(bad, "select count(*) from vessel where flag is null", true))
	if err != nil || f == nil || f.Message != "4 rows break it" || len(f.Samples) != 4 || f.Samples[0][0] != "7" ||
		f.Samples[0][1] != "null" || f.Class != fault.Refused {
		t.Errorf("got %+v, %v", f, err)
	}
	if f, err := run.Check(t.Context(), q.db, proof(none, "select 0", true)); f != nil || err != nil {
		t.Errorf("what holds is %v, %v", f, err)
	}
	if f, err := run.Check(t.Context(), q.db, proof(bad, "select 1", false)); f != nil || err != nil {
		t.Errorf("one for later was looked at now: %v, %v", f, err)
	}
	if _, err := run.Check(t.Context(), q.db, proof("select nonsense", "select 0", true)); err == nil ||
		!strings.Contains(err.Error(), "prove") {
		t.Errorf("one that cannot run gives %v", err)
	}
}
