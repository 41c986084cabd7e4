package run

import (
	"context"
	"fmt"
	"sync"
	"time"

	"lastboard/internal/core/backfill"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
)

// How often a run looks at what is wanted of it, at how hard-pressed the database is, and
// says what it does.
const (
	lookAfter  = 200 * time.Millisecond
	pressAfter = 500 * time.Millisecond
	tellAfter  = 250 * time.Millisecond
	rateOver   = 2 * time.Second
)

// work is what a run is doing, kept for those who look on.
type work struct {
	lock   sync.Mutex
	now    ledger.Work
	pace   ledger.Pace // what somebody wants
	began  time.Time   // of the step
	told   time.Time
	looked time.Time
	pressed,
	holds time.Time // since when it holds; zero when it does not
	marks []mark // rows that were done at times, for the rate
}

type mark struct {
	at   time.Time
	rows int64
}

// note takes in an event.
func (w *work) note(e Event) {
	w.lock.Lock()
	defer w.lock.Unlock()
	n := &w.now
	switch e.What {
	case "migration":
		*n = ledger.Work{Version: e.Version, Name: e.Name, Steps: e.Steps, Direction: e.Direction}
	case "step":
		w.began, w.marks = time.Now(), nil
		n.Step, n.Steps, n.Kind, n.What, n.Table = e.Step.Number, e.Steps, string(e.Step.Kind), e.Step.What, e.Step.Table
		n.Forecast, n.Rows, n.Of, n.Rate, n.Left = e.Step.Seconds, e.Rows, e.Step.Rows, 0, e.Step.Seconds
		n.Batch, n.Longest, n.Try, n.InTheWay, n.Batches = 0, 0, 0, nil, 0
		w.mark(e.Rows)
	case "progress":
		n.Rows, n.Batch, n.Longest = e.Rows, e.Batch.Seconds(), max(n.Longest, e.Batch.Seconds())
		n.Batches++
		n.Try, n.InTheWay = 0, nil
		w.mark(e.Rows)
	case "waiting":
		n.Try, n.InTheWay = e.Try, nil
		for _, s := range e.Who {
			n.InTheWay = append(n.InTheWay, s.String())
		}
	case "step-done":
		n.Try, n.InTheWay, n.Left = 0, nil, 0
	}
}

// mark notes how many rows are done, and works out the rate of the last seconds.
func (w *work) mark(rows int64) {
	now := time.Now()
	w.marks = append(w.marks, mark{now, rows})
	for len(w.marks) > 2 && now.Sub(w.marks[1].at) > rateOver {
		w.marks = w.marks[1:]
	}
	first := w.marks[0]
	if took := now.Sub(first.at).Seconds(); took > 0 && rows > first.rows {
		w.now.Rate = float64(rows-first.rows) / took
		w.now.Left = max(0, float64(w.now.Of-rows)/w.now.Rate)
	}
}

// Work gives what the run is doing.
func (r *Runner) Work() ledger.Work {
	w := &r.work
	w.lock.Lock()
	defer w.lock.Unlock()
	out := w.now
	out.At = time.Now().UTC()
	if !w.began.IsZero() {
		out.Took = time.Since(w.began).Seconds()
	}
	if !w.holds.IsZero() {
		out.Held += time.Since(w.holds).Seconds()
	}
	p := r.wanted()
	out.Goal, out.WorkShare = p.BatchTime.Seconds(), ledger.ShareOf(p.Pause)
	if p.Rest == 0 {
		out.WorkShare = 1
	}
	return out
}

// wanted gives the pace of the project, as somebody has changed it since. The caller has
// locked the work.
func (r *Runner) wanted() backfill.Pace {
	p, said := r.Pace, r.work.pace
	if said.By == "" {
		return p
	}
	if said.BatchTime > 0 {
		p.BatchTime = time.Duration(said.BatchTime * float64(time.Second))
	}
	if said.Pause >= 0 {
		p = p.Resting(said.Pause)
		if p.Rest == 0 && said.Pause > 0 {
			p.Rest = time.Millisecond
		}
	}
	return p
}

// tell writes what the run does, in a transaction that writes anyway, unless it has done
// so just now.
func (r *Runner) tell(ctx context.Context, tx engine.Tx) error {
	r.work.lock.Lock()
	soon := time.Since(r.work.told) < tellAfter
	if !soon {
		r.work.told = time.Now()
	}
	r.work.lock.Unlock()
	if soon {
		return nil
	}
	return ledger.PutWork(ctx, tx, r.me, r.Work())
}

// tellNow does so in a transaction of its own. That nobody can look on stops no run.
func (r *Runner) tellNow(ctx context.Context) {
	tx, err := r.DB.Begin(ctx, engine.TxOptions{})
	if err != nil {
		return
	}
	defer tx.Rollback()
	if ledger.Beat(ctx, tx, r.me) == nil && ledger.PutWork(ctx, tx, r.me, r.Work()) == nil {
		_ = tx.Commit()
	}
}

// tellLong says what a run does before it is out of sight for long.
func (r *Runner) tellLong(ctx context.Context, steps []*engine.Step) {
	seconds := 0.0
	for _, s := range steps {
		seconds += s.Seconds
	}
	if seconds > 0.5 && len(steps) > 0 {
		r.work.note(Event{What: "step", Step: steps[0], Steps: r.work.now.Steps})
		r.tellNow(ctx)
	}
}

// pace gives the pace of the next batches, and holds while none may be done. One worker
// leads, and looks for both.
func (f *filling) pace(ctx context.Context, leads bool) (backfill.Pace, error) {
	if leads {
		if err := f.hold(ctx, f.step.Table, true); err != nil {
			return backfill.Pace{}, err
		}
	}
	for {
		f.work.lock.Lock()
		p, holds := f.wanted(), !f.work.holds.IsZero()
		f.work.lock.Unlock()
		if leads || !holds {
			return p, nil
		}
		if err := pause(ctx, lookAfter/4); err != nil {
			return p, err
		}
	}
}

// hold waits while somebody wants the run to hold, or, where it is about to write many
// rows of a table, while the database is hard-pressed.
func (r *Runner) hold(ctx context.Context, table string, pressed bool) error {
	w := &r.work
	if time.Since(w.looked) < lookAfter {
		return nil
	}
	for {
		why, err := r.why(ctx, table, pressed)
		if err != nil {
			return err
		}
		w.looked = time.Now()
		w.lock.Lock()
		changed := (why == "") != w.holds.IsZero()
		switch {
		case why != "" && w.holds.IsZero():
			w.holds = time.Now()
		case why == "" && !w.holds.IsZero():
			w.now.Held += time.Since(w.holds).Seconds()
			w.holds, w.marks = time.Time{}, nil
		}
		w.now.Holding = why
		stale := time.Since(w.told) > time.Second
		if why != "" && (changed || stale) {
			w.told = time.Now()
		}
		w.lock.Unlock()
		if why == "" {
			if changed {
				r.observe(Event{What: "released", Version: w.now.Version})
			}
			return nil
		}
		if changed {
			r.observe(Event{What: "holding", Version: w.now.Version, Why: why})
		}
		if changed || stale {
			r.tellNow(ctx)
		}
		if err := pause(ctx, lookAfter); err != nil {
			return err
		}
	}
}

// why says for what reason nothing may be done just now; "" when there is none.
func (r *Runner) why(ctx context.Context, table string, pressed bool) (string, error) {
	p, err := r.ledger.Pace(ctx)
	if err != nil {
		return "", err
	}
	r.work.lock.Lock()
	r.work.pace = p
	last, again := r.work.now.Holding, time.Since(r.work.pressed) >= pressAfter
	r.work.lock.Unlock()
	if p.Held {
		return "held by " + p.By + " on " + p.Host, nil
	}
	if !pressed {
		return "", nil
	}
	if !again {
		return last, nil
	}
	r.work.pressed = time.Now()
	return r.pressure(ctx, table)
}

// pressure says what of the database a backfill gives way to.
func (r *Runner) pressure(ctx context.Context, table string) (string, error) {
	var now engine.Pressure
	if db, ok := r.DB.(engine.Pressed); ok {
		var err error
		if now, err = db.Pressure(ctx, table); err != nil {
			return "", err
		}
	}
	for _, f := range r.Followers {
		replica, err := f.DB.Behind(ctx)
		replica.Name = f.Name
		if err != nil {
			replica.Stopped = true // it cannot be asked
		}
		now.Replicas = append(now.Replicas, replica)
	}
	var list []ledger.ReplicaWork
	why := ""
	for _, x := range now.Replicas {
		list = append(list, ledger.ReplicaWork{Name: x.Name, Behind: x.Behind.Seconds(), Stopped: x.Stopped})
		switch {
		case r.ReplicaBehind == 0 || why != "":
		case x.Stopped:
			why = "replica " + x.Name + " does not follow"
		case x.Behind > r.ReplicaBehind:
			why = fmt.Sprintf("replica %s is %.0f s behind", x.Name, x.Behind.Seconds())
		}
	}
	r.work.lock.Lock()
	r.work.now.Replicas = list
	r.work.lock.Unlock()
	switch {
	case why != "":
	case len(now.Waiting) > 0:
		why = "others wait for the table: " + now.Waiting[0].String()
	case r.OldTransaction > 0 && len(now.Old) > 0 && now.Old[0].Since > r.OldTransaction:
		why = "an old transaction keeps dead rows from being used again: " + now.Old[0].String()
	}
	return why, nil
}
