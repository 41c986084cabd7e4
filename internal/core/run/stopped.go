package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
)

// stopped says where a run that cannot go on stands, and records it.
func (r *Runner) stopped(p *progress, s *engine.Step, err error) error {
	var unsure *engine.Unsure
	if errors.As(err, &unsure) {
		err = r.resolve(p, unsure)
		var known *fault.Fault
		if errors.As(err, &known) {
			return err
		}
	}
	var f *fault.Fault
	if !errors.As(err, &f) {
		f = fault.New(fault.Failed, "step-failed", "", "%v", err)
		f.Err = err
		var cannot *engine.CannotOpen
		if errors.As(err, &cannot) {
			f.Message, f.Cure = cannot.Message, cannot.Cure
		}
	}
	out := *f
	if errors.Is(err, context.Canceled) {
		out.Rule, out.Message = "interrupted", "stopped by the keyboard, at a safe point"
	}
	if s != nil {
		out.Step = s.Number
		if f.Err != nil && !errors.Is(err, context.Canceled) {
			out.Message = fmt.Sprintf("step %d of migration %s (%s): %s", s.Number, p.record.Version, s.What, f.Message)
		}
	}
	if p.opened && !p.changed && r.unbegun(context.Background(), p) != nil {
		p.changed = true // the record stays
	}
	if !p.changed {
		var broken *engine.Violation
		switch {
		case errors.As(err, &broken):
			out.Class, out.Rule = fault.Refused, "rows-would-break"
		case out.Class != fault.Refused:
			out.Class = fault.Failed
		}
		if errors.Is(err, context.Canceled) {
			out.Class = fault.Stopped
		}
		out.Changed = "nothing was changed: migration " + p.record.Version + " is where it was"
		return &out
	}
	out.Class = fault.Stopped
	out.Changed = fmt.Sprintf("%d of %d steps of migration %s are done and stay; no row is lost", countDone(p),
		len(p.steps), p.record.Version)
	if out.Cure != "" {
		out.Cure += "; then "
	}
	flags := "" // that both need again
	if r.Settle {
		flags = " --settle"
	}
	back := "retreat" + flags + " takes it back"
	if p.record.Direction != ledger.Advance {
		back = "until then the tables are between two shapes"
	}
	out.Cure += p.record.Direction + flags + " goes on from here, " + back
	ctx := context.Background()
	e := r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
		if err := ledger.Beat(ctx, tx, r.me); err != nil {
			return err
		}
		record := *p.record
		record.State = ledger.Stopped
		if err := ledger.Put(ctx, tx, &record); err != nil {
			return err
		}
		return ledger.Record(ctx, tx, ledger.Entry{
			At: ledger.Now(), Version: record.Version, What: "stopped", By: r.me.By, Host: r.me.Host,
			Seconds: time.Since(p.started).Seconds(), Rows: p.rows, Note: out.Message,
		})
	})
	if e != nil {
		out.Changed += " (the ledger could not be told: " + e.Error() + ")"
	}
	return &out
}

func countDone(p *progress) int {
	n := 0
	for _, done := range p.done {
		if done {
			n++
		}
	}
	return n
}
