package mariadb

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"lastboard/internal/engine"
)

// algorithm is the mark in an alter that stands for the algorithm and the lock until
// they are known.
const algorithm = engine.Algorithm

// ways are the algorithms and locks of an alter, the cheapest first (the manual, ALTER
// TABLE).
var ways = []string{
	"algorithm=instant, lock=none", "algorithm=nocopy, lock=none", "algorithm=inplace, lock=none",
	"algorithm=instant, lock=exclusive",
	"algorithm=nocopy, lock=shared", "algorithm=inplace, lock=shared", "algorithm=copy, lock=shared",
	"algorithm=copy, lock=exclusive",
}

// defines reports whether a statement defines something, and so commits by itself.
func defines(sql string) bool {
	_, sql = modeOf(sql)
	word, rest, _ := strings.Cut(sql, " ")
	switch strings.ToLower(word) {
	case "alter", "create", "drop", "rename", "truncate", "lock", "grant", "revoke", "analyze", "optimize":
		return !strings.HasPrefix(rest, "temporary ")
	}
	return strings.HasPrefix(sql, "set statement ")
}

// instant reports whether a statement works on metadata alone, so that its time can be
// bounded with its wait.
func instant(sql string) bool {
	return strings.HasPrefix(sql, "create or replace trigger ") || strings.HasPrefix(sql, "drop trigger ") ||
		strings.HasPrefix(sql, "rename ") || strings.HasPrefix(sql, "drop table ") ||
		strings.Contains(sql, "algorithm=instant")
}

// bounds are what a statement may cost others.
type bounds struct {
	wait    time.Duration // for which they may queue behind it; 0 is the server's own bound
	mayWait bool          // writers may wait for all of it, if it cannot be done otherwise
}

// define runs a statement that defines something.
func (d *database) define(ctx context.Context, sql string, b bounds) (int64, error) {
	if head, rest := modeOf(sql); head != "" {
		return d.inMode(ctx, head, func() (int64, error) { return d.define(ctx, rest, b) })
	}
	if strings.HasPrefix(sql, `create table "`+engine.Prefix) {
		d.waited = false
	}
	if b.wait > 0 && strings.Contains(sql, "create or replace trigger ") && strings.Contains(sql, engine.Prefix+"kept_") {
		d.letOlderEnd(ctx)
	}
	if strings.Contains(sql, engine.Between) {
		return 0, d.script(ctx, sql, b)
	}
	if strings.HasPrefix(sql, `drop trigger if exists "`) && b.wait > 0 {
		return 0, d.dropTrigger(ctx, sql, b)
	}
	run := func(sql string) error { return d.bounded(ctx, d.session, sql, b.wait) }
	if strings.Contains(sql, algorithm) {
		_, err := d.cheapest(ctx, sql, run)
		return 0, err
	}
	err := run(sql)
	if refusedWay(err) {
		err = costlier(sql, b, err, run)
	}
	return 0, err
}

// olderEnd is for how long triggers wait for transactions to end that began before the tables which
// they write to.
const olderEnd = 5 * time.Second

// trxCache is somewhat longer than the time for which the server shows the same transactions: who asks again
// earlier is shown them once more, each time.
const trxCache = 150 * time.Millisecond

// letOlderEnd waits a little, once for each table of kept values that was made, for transactions in this database to
// end that began before it: one that has read something by then may not use such a table (1412), and so could not
// write to one whose trigger does. Without the right PROCESS the server shows none.
func (d *database) letOlderEnd(ctx context.Context) {
	if d.waited {
		return
	}
	d.waited = true
	r, err := d.query(ctx, "select cast(now(6) as char)")
	if err != nil {
		return
	}
	made := text(r.Values[0][0])
	for began := time.Now(); time.Since(began) < olderEnd && ctx.Err() == nil; time.Sleep(trxCache) {
		r, err := d.query(ctx,
			"select 1 from information_schema.innodb_trx t join information_schema.processlist p on p.id = "+
				"t.trx_mysql_thread_id where t.trx_started < ? and p.id <> connection_id() and (p.db = database() or p.db "+
				"is null) limit 1",
			made)
		if err != nil || len(r.Values) == 0 {
			return
		}
	}
}

// inMode runs something in another mode. Were that to stay, nothing else of Lastboard's would mean what
// it says: a session that does not take its own again is closed.
func (d *database) inMode(ctx context.Context, head string, do func() (int64, error)) (int64, error) {
	if _, err := d.exec(ctx, head); err != nil {
		return 0, err
	}
	n, err := do()
	if _, back := d.exec(context.WithoutCancel(ctx), (Engine{}).Preamble()); back != nil {
		return 0, errors.Join(err, back, d.session.close())
	}
	return n, err
}

// costlier runs an alter whose algorithm the real table refuses, though an empty copy of
// it has accepted it: the table has run out of instant changes. Each of the other ways
// is named, too, and none keeps writers waiting unless they may wait.
func costlier(sql string, b bounds, err error, run func(sql string) error) error {
	last := slices.IndexFunc(ways, func(way string) bool { return strings.HasSuffix(sql, way) })
	if last < 0 {
		return err
	}
	refusal := err
	for _, way := range ways[last+1:] {
		if !b.mayWait && !strings.HasSuffix(way, "lock=none") {
			return &exhausted{refusal}
		}
		if err = run(strings.TrimSuffix(sql, ways[last]) + way); !refusedWay(err) {
			return err
		}
	}
	return &exhausted{refusal}
}

// exhausted is the error of an alter that the real table refuses in every way that may
// be taken.
type exhausted struct{ err error }

func (e *exhausted) Error() string {
	return "the table refuses what an empty copy of it accepted (" + message(e.err) +
		"): it has run out of instant changes, and every other way keeps writers waiting, which --let-writers-wait allows"
}
func (e *exhausted) Unwrap() error { return e.err }

// cheapest gives the cheapest algorithm and lock that the server accepts for an alter, once
// it has run so.
func (d *database) cheapest(ctx context.Context, sql string, run func(sql string) error) (way string, err error) {
	for _, way := range ways {
		if err = run(strings.ReplaceAll(sql, algorithm, way)); !refusedWay(err) {
			return way, err
		}
	}
	return "", err
}

// refusedWay reports whether the server refuses an algorithm or a lock. A table whose columns have
// come and gone in an instant many times is one of which it says that its rows would be too long.
func refusedWay(err error) bool {
	c := code(err)
	return c == errNotSupported || c == errNotSupported2 || c == errRowTooLong
}

// work is what a change of metadata may take beside its wait: the server bounds both
// together.
const work = 50 * time.Millisecond

// bounded runs one statement.
func (d *database) bounded(ctx context.Context, s *session, sql string, wait time.Duration) error {
	var err error
	settings, plain := "", sql
	if rest, ok := strings.CutPrefix(sql, "set statement "); ok {
		settings, plain, _ = strings.Cut(rest, " for ")
		settings += ", "
	}
	switch {
	case wait > 0 && instant(plain):
		err = s.endable(ctx, plain, func() error {
			_, err := s.exec(ctx, "set statement "+settings+"max_statement_time = "+seconds(wait+work)+" for "+
				s.defined(translate(plain)))
			return err
		})
	case wait > 0:
		err = s.endable(ctx, plain, func() error { return d.patient(ctx, s, sql, wait) })
	default:
		_, err = s.exec(ctx, sql)
	}
	return d.named(ctx, err)
}

// patient runs an alter that works for long beside applications. While it waits for its
// lock at the start they queue behind it, so that is bounded; it is not ended any more
// once it has begun to work.
func (d *database) patient(ctx context.Context, s *session, sql string, wait time.Duration) error {
	done := make(chan struct{})
	var watch sync.WaitGroup
	watch.Go(func() { d.watchStart(ctx, s.id, wait, done) })
	_, err := s.exec(ctx, sql)
	close(done)
	watch.Wait()
	return err
}

// watchStart ends a statement that has waited for its first lock for too long.
func (d *database) watchStart(ctx context.Context, id int64, wait time.Duration, done chan struct{}) {
	look, err := d.watcher(ctx)
	if err != nil {
		return
	}
	var since time.Time // it has waited
	pause := max(wait/10, 2*time.Millisecond)
	for {
		select {
		case <-done:
			return
		case <-time.After(pause):
		}
		r, err := look.query(ctx, "select coalesce(state, '') from information_schema.processlist where id = ?", id)
		if err != nil || len(r.Values) == 0 {
			return
		}
		state := text(r.Values[0][0])
		switch {
		case strings.HasPrefix(state, "Waiting for table"):
			if since.IsZero() {
				since = time.Now().Add(-pause)
			}
			if time.Since(since)+pause >= wait { // ending it takes a moment, too
				look.exec(ctx, "kill query "+fmt.Sprint(id))
				return
			}
		case strings.Contains(state, "altering") || strings.Contains(state, "copy") || strings.Contains(state, "committing"):
			return
		}
	}
}

// named adds who may be in the way to the error of what was not given.
func (d *database) named(ctx context.Context, err error) error {
	var busy *engine.Busy
	if errors.As(err, &busy) {
		busy.Who = d.suspects(ctx)
	}
	return err
}
