package run

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
	"lastboard/internal/mishap"
)

// outside does a step whose statements are each a transaction of their own. Whether it
// happened is asked of the database; what a try has left is taken away before the next.
func (r *Runner) outside(ctx context.Context, p *progress, s *engine.Step, first bool) error {
	if first {
		if err := r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error { return r.open(ctx, tx, p) }); err != nil {
			return err
		}
		p.opened = true
	}
	r.observe(Event{What: "step", Version: p.record.Version, Step: s, Steps: len(p.steps)})
	started, tries := time.Now(), 0
	if s.Outside.Quiet {
		if err := r.quiet(ctx, s); err != nil {
			return err
		}
	}
	done, err := r.happened(ctx, s)
	if err != nil {
		return err
	}
	if !done {
		err := r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
			if err := errors.Join(ledger.Beat(ctx, tx, r.me),
				ledger.StepBegun(ctx, tx, p.record.Version, p.record.Direction, s.Number),
				ledger.PutWork(ctx, tx, r.me, r.Work())); err != nil {
				return err
			}
			for _, k := range s.Keeps {
				if err := ledger.Keep(ctx, tx, p.record.Version, p.record.Direction, p.record.Checksum, k); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		mishap.Place("outside-begun")
		if !s.Outside.GoesOn {
			if err := r.takeAway(ctx, p, s, &tries); err != nil {
				return err
			}
		}
		err = r.statements(ctx, s, s.Outside.Statements, &tries)
		for n := 0; n < mendTries && mendable(ctx, s, err); n++ {
			if e := r.statements(ctx, s, mendStatements(s), &tries); e == nil {
				err = r.statements(ctx, s, s.Outside.Statements, &tries)
			} else if strings.HasPrefix(s.Mend[0], "select ") {
				break // it has found that the step has failed for good
			} else {
				err = e
			}
		}
		if err == nil && s.Outside.GoesOn {
			if done, err = r.happened(ctx, s); err == nil && !done {
				err = fmt.Errorf("%s: it has not come about, though nothing of it failed", s.What)
			}
		}
		if err != nil {
			// What is half done may stand in the way of the applications.
			clean := context.WithoutCancel(ctx)
			if e := r.statements(clean, s, s.Outside.Clean, &tries); e != nil {
				p.changed = true
				return errors.Join(err, e)
			}
			var lost *engine.CannotOpen
			if errors.As(err, &lost) || len(s.Outside.Statements) > 1 && len(s.Outside.Clean) == 0 {
				p.changed = true // perhaps: the next run finds out
				return err
			}
			return errors.Join(err, r.unbegun(clean, p))
		}
	}
	p.changed = true
	mishap.Place("outside-done")
	err = r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
		if err := ledger.Beat(ctx, tx, r.me); err != nil {
			return err
		}
		for _, kept := range s.PutsBack {
			if err := ledger.LetGo(ctx, tx, kept); err != nil {
				return err
			}
		}
		return ledger.StepDone(ctx, tx, p.record.Version, p.record.Direction, s.Number, started, 0, tries, 0)
	})
	if err != nil {
		return err
	}
	p.done[s.Number] = true
	r.observe(Event{What: "step-done", Version: p.record.Version, Step: s, Steps: len(p.steps), Took: time.Since(started)})
	return nil
}

// takeAway takes away what a try of a step has left.
func (r *Runner) takeAway(ctx context.Context, p *progress, s *engine.Step, tries *int) error {
	err := r.statements(ctx, s, s.Outside.Clean, tries)
	if err == nil && p.begun[s.Number] && len(s.Outside.Clean) > 0 {
		r.observe(Event{What: "cleared", Version: p.record.Version,
			Why: "what a crashed run left behind in step " + fmt.Sprint(s.Number) + ": " + s.What})
	}
	return err
}

// mendTries is how often rows that others write meanwhile are put right before a step fails.
const mendTries = 5

// mendable reports whether a step that failed can put rows right and be tried once more.
func mendable(ctx context.Context, s *engine.Step, err error) bool {
	var busy *engine.Busy
	var lost *engine.CannotOpen
	return err != nil && len(s.Mend) > 0 && ctx.Err() == nil && !errors.As(err, &busy) && !errors.As(err, &lost)
}

func mendStatements(s *engine.Step) (list []engine.Statement) {
	for _, sql := range s.Mend {
		list = append(list, engine.Statement{SQL: sql})
	}
	return list
}

// unbegun takes the record of a run away whose first change did not come about: nothing
// has happened.
func (r *Runner) unbegun(ctx context.Context, p *progress) error {
	if p.changed || p.before != nil && (p.before.State == ledger.Running || p.before.State == ledger.Stopped) {
		return nil
	}
	return r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
		if err := ledger.Beat(ctx, tx, r.me); err != nil {
			return err
		}
		for _, s := range p.steps {
			for _, k := range s.Keeps {
				if err := ledger.LetGo(ctx, tx, k.Kept); err != nil {
					return err
				}
			}
		}
		if p.before == nil {
			return ledger.Forget(ctx, tx, p.record.Version)
		}
		return errors.Join(ledger.PutSteps(ctx, tx, p.record.Version, p.record.Direction, nil), ledger.Put(ctx, tx, p.before))
	})
}

func (r *Runner) happened(ctx context.Context, s *engine.Step) (bool, error) {
	if s.Outside.Done == "" {
		return false, nil
	}
	rows, err := r.DB.Query(ctx, s.Outside.Done)
	if err != nil {
		return false, fmt.Errorf("%s: %w", s.What, err)
	}
	return len(rows.Values) > 0, nil
}

// quiet waits until no old transaction is about that a step would wait for in its
// middle.
func (r *Runner) quiet(ctx context.Context, s *engine.Step) error {
	for try := 1; ; try++ {
		who, err := r.DB.Old(ctx, s.Table)
		if err != nil || len(who) == 0 {
			return err
		}
		if try >= max(r.LockTries, 1) {
			return notGiven(try, &engine.Busy{Err: errors.New("an old transaction is open"), Who: who})
		}
		r.observe(Event{What: "waiting", Try: try, Who: who})
		if err := pause(ctx, r.between(try, true)); err != nil {
			return err
		}
	}
}

// statements runs statements one after the other, each as often as its locks take.
func (r *Runner) statements(ctx context.Context, s *engine.Step, list []engine.Statement, tries *int) error {
	for _, st := range list {
		if st.Unless != "" {
			rows, err := r.DB.Query(ctx, st.Unless)
			if err != nil {
				return err
			}
			if len(rows.Values) > 0 {
				continue
			}
		}
		if st.Each {
			if err := r.each(ctx, s, st, tries); err != nil {
				return err
			}
			continue
		}
		if st.Direct {
			mishap.Place("statement")
			n, err := r.again(ctx, s.Strong, func() error { return r.DB.Exec(ctx, st.SQL) })
			*tries = max(*tries, n)
			if err != nil {
				return err
			}
			continue
		}
		o := engine.TxOptions{LockWait: r.LockWait, Strong: s.Strong, MayWait: !r.Live || r.LetWritersWait}
		if st.Patient {
			o = engine.TxOptions{}
		}
		n, err := r.again(ctx, o.Strong, func() error {
			tx, err := r.DB.Begin(ctx, o)
			if err != nil {
				return err
			}
			defer tx.Rollback()
			if err := ledger.Beat(ctx, tx, r.me); err != nil {
				return err
			}
			if st.First != "" {
				if _, err := tx.Exec(ctx, st.First); err != nil {
					return err
				}
			}
			if err := oneOf(ctx, tx, st.SQL, s.Native); err != nil {
				return err
			}
			mishap.Place("statement")
			return tx.Commit()
		})
		*tries = max(*tries, n)
		if err != nil {
			return err
		}
	}
	return nil
}

// eachLimit is how often the statements are asked for that a statement gives: parts that come meanwhile ask
// for more, and one that never ends is a fault.
const eachLimit = 1000

// each runs the statements that a statement gives, until it gives none.
func (r *Runner) each(ctx context.Context, s *engine.Step, st engine.Statement, tries *int) error {
	last := ""
	for range eachLimit {
		rows, err := r.DB.Query(ctx, st.SQL)
		if err != nil || len(rows.Values) == 0 {
			return err
		}
		all := fmt.Sprint(rows.Values)
		if all == last {
			return fmt.Errorf("%s: it does not come to an end: %v", s.What, rows.Values[0][0])
		}
		last = all
		for _, v := range rows.Values {
			one, step := engine.Statement{SQL: fmt.Sprint(v[0]), Direct: v[1] == nil, Patient: v[1] == "-"}, *s
			if v[1] != nil && v[1] != "-" {
				step.Strong = []string{fmt.Sprint(v[1])}
			}
			if v[2] != nil {
				one.First = fmt.Sprint(v[2])
			}
			var gone *engine.NoTable // of which the next list says nothing
			if err := r.statements(ctx, &step, []engine.Statement{one}, tries); err != nil && !errors.As(err, &gone) {
				return err
			}
		}
	}
	return fmt.Errorf("%s: it does not come to an end", s.What)
}

// oneOf runs one statement; a select of Lastboard's own gives a row only when something is
// wrong.
func oneOf(ctx context.Context, tx engine.Tx, sql string, native bool) error {
	if native || !strings.HasPrefix(sql, "select ") {
		_, err := tx.Exec(ctx, sql)
		return err
	}
	found, err := tx.Query(ctx, sql)
	if err == nil && len(found.Values) > 0 {
		err = fmt.Errorf("%v", found.Values[0][0])
	}
	return err
}
