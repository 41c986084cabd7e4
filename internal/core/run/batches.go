package run

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"lastboard/internal/core/backfill"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
)

// filling is a backfill at work, by one worker or by two that share the keys.
type filling struct {
	*Runner
	p       *progress
	step    *engine.Step
	started time.Time
	alone   atomic.Bool // the first of two workers has done its part

	lock  sync.Mutex // of what follows
	rows  [2]int64
	held  time.Duration
	tries int
}

// batches does a backfill in batches from where it is.
func (r *Runner) batches(ctx context.Context, p *progress, s *engine.Step, first bool) error {
	if first {
		if err := r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error { return r.open(ctx, tx, p) }); err != nil {
			return err
		}
		p.opened = true
	}
	f := &filling{Runner: r, p: p, step: s, started: time.Now()}
	parts, err := f.parts(ctx)
	if err != nil {
		return err
	}
	for i, c := range parts {
		f.rows[i] = c.Rows
	}
	r.observe(Event{What: "step", Version: p.record.Version, Step: s, Steps: len(p.steps), Rows: f.rows[0] + f.rows[1]})
	if err := f.walk(ctx, parts); err != nil {
		return err
	}
	rows := f.rows[0] + f.rows[1]
	err = r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
		if err := ledger.Beat(ctx, tx, r.me); err != nil {
			return err
		}
		return ledger.StepDone(ctx, tx, p.record.Version, p.record.Direction, s.Number, f.started, rows, f.tries, f.held)
	})
	if err != nil {
		return err
	}
	p.done[s.Number] = true
	p.rows += rows
	p.held = max(p.held, f.held)
	r.observe(Event{What: "step-done", Version: p.record.Version, Step: s, Steps: len(p.steps), Rows: rows,
		Took: time.Since(f.started)})
	return nil
}

// number gives the number under which a part's checkpoint stands: the step's own for
// the first part, the same below zero for the second.
func (f *filling) number(part int) int {
	if part == 1 {
		return -f.step.Number
	}
	return f.step.Number
}

// parts gives the checkpoints to go on from: two when the keys are shared, or were when
// the run stopped.
func (f *filling) parts(ctx context.Context) ([]backfill.Checkpoint, error) {
	var list []backfill.Checkpoint
	for part := range 2 {
		last, upper, rows, begun, err := f.ledger.Checkpoint(ctx, f.p.record.Version, f.p.record.Direction, f.number(part))
		if err != nil {
			return nil, err
		}
		if begun {
			list = append(list, backfill.Checkpoint{Last: last, Upper: upper, Rows: rows})
		}
	}
	if len(list) > 0 || f.Workers < 2 || f.Another == nil || f.step.Batch.Middle == "" {
		if len(list) == 0 {
			list = append(list, backfill.Checkpoint{})
		}
		return list, nil
	}
	return f.share(ctx)
}

// share parts the keys in two, in a transaction that records it.
func (f *filling) share(ctx context.Context) (list []backfill.Checkpoint, err error) {
	key := func(sql string) (string, error) {
		r, err := f.DB.Query(ctx, sql)
		if err != nil || len(r.Values) == 0 {
			return "", err
		}
		return backfill.EncodeKey(r.Values[0])
	}
	middle, err := key(f.step.Batch.Middle)
	if err != nil {
		return nil, err
	}
	upper, err := key(f.step.Batch.Upper)
	if err != nil {
		return nil, err
	}
	if middle == "" || middle == upper {
		return []backfill.Checkpoint{{}}, nil
	}
	list = []backfill.Checkpoint{{Upper: middle}, {Last: middle, Upper: upper}}
	err = f.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
		if err := errors.Join(ledger.Beat(ctx, tx, f.me), f.keep(ctx, tx)); err != nil {
			return err
		}
		for part, c := range list {
			if err := ledger.PutCheckpoint(ctx, tx, f.p.record.Version, f.p.record.Direction, f.number(part), c.Last, c.Upper,
				0); err != nil {
				return err
			}
		}
		return nil
	})
	return list, err
}

func (f *filling) keep(ctx context.Context, tx engine.Tx) error {
	for _, k := range f.step.Keeps {
		if err := ledger.Keep(ctx, tx, f.p.record.Version, f.p.record.Direction, f.p.record.Checksum, k); err != nil {
			return err
		}
	}
	return nil
}

// walk does the parts: one after the other, or at once where there is a second worker.
func (f *filling) walk(ctx context.Context, parts []backfill.Checkpoint) error {
	if len(parts) == 1 || f.Workers < 2 || f.Another == nil {
		for part, c := range parts {
			if err := f.worker(ctx, f.DB, part, len(parts) > 1, c); err != nil {
				return err
			}
		}
		return nil
	}
	second, err := f.Another(ctx)
	if err != nil {
		return err
	}
	defer second.Close()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var both sync.WaitGroup
	errs := make([]error, 2)
	for part, db := range []engine.Database{f.DB, second} {
		both.Go(func() {
			if errs[part] = f.worker(ctx, db, part, true, parts[part]); errs[part] != nil {
				stop(errs[part])
			}
			if part == 0 {
				f.alone.Store(true)
			}
		})
	}
	both.Wait()
	if errs[0] != nil && errors.Is(errs[0], context.Canceled) && errs[1] != nil {
		return errs[1]
	}
	if errs[0] != nil {
		return errs[0]
	}
	return errs[1]
}

// aloneWait is for how long a batch of one row waits for it before it looks whether it is
// to hold.
const aloneWait = time.Second

// worthSaying is how often a batch gives way before that is told: rows that others are just
// writing are an everyday thing.
const worthSaying = 3

// worker does one part of the keys. Workers that share them only look that this is
// still the one runner: they would wait for each other to say so.
func (f *filling) worker(ctx context.Context, db engine.Database, part int, shared bool,
	from backfill.Checkpoint) error {
	beat := ledger.Beat
	if shared {
		beat = ledger.Holds
	}
	// One worker says what the run does, and heeds who wants it to hold: the first, and the
	// second once that has done its part.
	leads := func() bool { return part == 0 || f.Workers < 2 || f.Another == nil || f.alone.Load() }
	end, err := backfill.Run(ctx, f.step.Batch, from, backfill.Hooks{
		Pace: func(ctx context.Context) (backfill.Pace, error) { return f.pace(ctx, leads()) },
		Begin: func(ctx context.Context, alone bool) (engine.Tx, error) {
			o := engine.TxOptions{Lazy: f.Pace.Rest == 0, Limit: f.Pace.Limit}
			switch {
			case f.Live && alone:
				o.LockWait, o.GivesWay = aloneWait, f.step.Batch.Hold != ""
			case f.Live:
				o.LockWait, o.GivesWay = f.LockWait, true
			}
			tx, n, err := f.beginOn(ctx, db, o)
			f.lock.Lock()
			f.tries = max(f.tries, n)
			f.lock.Unlock()
			if err != nil {
				return nil, err
			}
			if err := beat(ctx, tx, f.me); err != nil {
				return nil, errors.Join(err, tx.Rollback())
			}
			return tx, nil
		},
		Save: func(ctx context.Context, tx engine.Tx, c backfill.Checkpoint) error {
			if !shared {
				if err := f.keep(ctx, tx); err != nil {
					return err
				}
			}
			if leads() {
				if err := f.tell(ctx, tx); err != nil {
					return err
				}
			}
			return ledger.PutCheckpoint(ctx, tx, f.p.record.Version, f.p.record.Direction, f.number(part), c.Last, c.Upper,
				c.Rows)
		},
		GaveWay: func(times int, busy *engine.Busy) {
			e := waiting(times, busy)
			if times < worthSaying && e.Why == "" {
				return
			}
			f.lock.Lock()
			if times == worthSaying || times&(times-1) == 0 { // ever less often
				f.observe(e)
			} else {
				f.work.note(e)
			}
			f.lock.Unlock()
			if leads() {
				f.tellNow(ctx)
			}
		},
		TooSlow: func(rows int, slow *engine.Slow) {
			f.lock.Lock()
			defer f.lock.Unlock()
			f.observe(Event{What: "too-slow", Version: f.p.record.Version, Step: f.step, Steps: len(f.p.steps),
				Rows: int64(rows), Why: slow.Error()})
		},
		Done: func(rows int64, batch, commit time.Duration) { f.done(part, rows, batch, commit) },
	})
	var slow *engine.Slow
	if errors.As(err, &slow) {
		return fault.New(fault.Failed, "row-too-slow", "an index on what its expression looks up; or a longer "+
			"batch_limit in lastboard.toml",
			"one row of %s takes longer than %s, for which nobody else could write it", f.step.Table, slow.Limit)
	}
	if err != nil {
		return err
	}
	f.lock.Lock()
	defer f.lock.Unlock()
	f.rows[part] = end.Rows
	return nil
}

// done notes a batch that is committed.
func (f *filling) done(part int, rows int64, batch, commit time.Duration) {
	f.lock.Lock()
	defer f.lock.Unlock()
	f.rows[part] = rows
	f.held = max(f.held, batch)
	f.p.changed = true
	f.observe(Event{
		What: "progress", Version: f.p.record.Version, Step: f.step, Steps: len(f.p.steps), Rows: f.rows[0] + f.rows[1],
		Took: time.Since(f.started), Batch: batch, Commit: commit, Held: f.held,
	})
}
