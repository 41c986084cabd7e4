package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// Trial lets what programs of before write fail for a while, as it will once overlaps are settled. It
// ends by the server's own clock, whatever becomes of this program; what it has made goes with its end,
// or with the next run.
type Trial struct {
	Versions []string // whose settling is tried
	Lasts    time.Duration
	Refused  []*schema.WatchChange // what is refused
	// Tick hears every second for how long it still lasts, and what was refused so far; it may be nil.
	Tick func(left time.Duration, r Refusals)
}

// Refusals is how often a write was refused; Counted is false where not all of that is counted.
type Refusals struct {
	Counted bool
	Times   int64
}

func (r Refusals) String() string {
	text := fmt.Sprintf("refused %d times", r.Times)
	switch {
	case !r.Counted && r.Times == 0:
		return "how often it refused is not counted here"
	case r.Times == 0:
		return "nothing was refused"
	case r.Times == 1:
		text = "refused once"
	}
	if !r.Counted {
		text += " or more"
	}
	return text
}

// tickAfter is how often a trial looks at what was refused.
const tickAfter = time.Second

// Try makes a trial, and ends once it is over.
func (r *Runner) Try(ctx context.Context, t Trial) (Refusals, error) {
	db, ok := r.DB.(engine.Onlooker)
	if !ok {
		return Refusals{}, fault.New(fault.Refused, "no-trial", "", "this engine cannot refuse what programs of before write")
	}
	now, err := db.Now(ctx)
	if err != nil {
		return Refusals{}, err
	}
	until, began := now.Add(t.Lasts), time.Now()
	before, err := refused(ctx, db, t.Refused)
	if err == nil {
		err = r.refuse(ctx, t.Refused, until)
	}
	for last := time.Now(); err == nil && time.Since(began) < t.Lasts; {
		if t.Tick != nil {
			so, e := refused(ctx, db, t.Refused)
			if err = e; err == nil {
				t.Tick(t.Lasts-time.Since(began), Refusals{so.Counted, so.Times - before.Times})
			}
		}
		if err == nil && time.Since(last) > lookAfter {
			err = r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error { return ledger.Beat(ctx, tx, r.me) })
			last = time.Now()
		}
		if err == nil {
			err = pause(ctx, min(tickAfter, max(0, t.Lasts-time.Since(began))))
		}
	}
	ctx = context.WithoutCancel(ctx)
	so, e := refused(ctx, db, t.Refused)
	so.Times -= before.Times
	if e = errors.Join(e, r.refuse(ctx, t.Refused, time.Time{})); e == nil {
		e = r.tried(ctx, t, so, time.Since(began), err)
	}
	if errors.Is(err, context.Canceled) && e == nil {
		f := fault.New(fault.Stopped, "interrupted", "", "stopped by the keyboard: nothing is refused any more (%s)", so)
		f.Changed, f.Err = "nothing was settled", err
		return so, f
	}
	return so, errors.Join(err, e)
}

// refuse lets writes fail until a moment; zero ends it.
func (r *Runner) refuse(ctx context.Context, list []*schema.WatchChange, until time.Time) error {
	for _, w := range list {
		statements, off := r.Engine.Refuse(w.Table, w.Columns, until)
		if until.IsZero() {
			statements = off
		}
		tries := 0
		if err := r.statements(ctx, &engine.Step{Table: w.Table.Name, Strong: []string{w.Table.Name}}, statements,
			&tries); err != nil {
			return err
		}
	}
	return nil
}

// refused counts what has been written as before since the overlaps opened.
func refused(ctx context.Context, db engine.Onlooker, list []*schema.WatchChange) (so Refusals, err error) {
	so.Counted = true
	for _, w := range list {
		for _, c := range w.Columns {
			seen, err := db.Seen(ctx, w.Table, c.Column)
			if err != nil {
				return so, err
			}
			so.Counted, so.Times = so.Counted && seen.Counted, so.Times+seen.Times
		}
	}
	return so, nil
}

// tried notes a trial in the ledger.
func (r *Runner) tried(ctx context.Context, t Trial, so Refusals, took time.Duration, err error) error {
	note := so.String()
	if err != nil {
		note += "; ended early"
	}
	return r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
		if err := ledger.Beat(ctx, tx, r.me); err != nil {
			return err
		}
		for _, v := range t.Versions {
			if err := ledger.Record(ctx, tx, ledger.Entry{At: ledger.Now(), Version: v, What: "trial", By: r.me.By,
				Host: r.me.Host, Seconds: took.Seconds(), Note: note}); err != nil {
				return err
			}
		}
		return nil
	})
}
