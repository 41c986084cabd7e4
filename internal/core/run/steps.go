package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"lastboard/internal/core/csvfile"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/mishap"
	"lastboard/internal/schema"
)

// progress is a run of one migration on its way.
type progress struct {
	record  *ledger.Migration
	before  *ledger.Migration // the record as it was; nil before the first run
	steps   []*engine.Step
	facts   json.RawMessage // what they were planned from, of a run that begins
	from    *plan.Facts     // the same, once it is asked for
	done    map[int]bool
	begun   map[int]bool // steps that another run began and did not end
	proven  map[int]bool
	kept    int64 // the greatest number given to a table of kept values
	opened  bool  // its record is committed
	changed bool  // something that it does is committed
	opens   bool  // its overlap stays open at its end
	rows    int64
	started time.Time
	held    time.Duration
}

// start begins a planned run: the record of it is written in the transaction of
// its first steps.
func (r *Runner) start(ctx context.Context, p *plan.Plan, before, record *ledger.Migration, proven map[int]bool) error {
	run, err := r.begun(ctx, p, before, record, proven)
	if err != nil {
		return err
	}
	return r.run(ctx, run, true)
}

// begun gives a planned run that is about to begin, and writes into its record what it leads to.
func (r *Runner) begun(ctx context.Context, p *plan.Plan, before, record *ledger.Migration,
	proven map[int]bool) (*progress, error) {
	wanted, err := json.Marshal(schema.Since(p.Before, p.After).Without(p.Unsure))
	if err != nil {
		return nil, err
	}
	record.Wanted = wanted
	if p.Direction != ledger.Retreat {
		records := p.Records
		if p.Direction == ledger.Settle {
			opening, err := plan.DecodeRecords(record.Changes)
			if err != nil {
				return nil, err
			}
			records = append(opening, records...)
		}
		if record.Changes, err = plan.EncodeRecords(records); err != nil {
			return nil, err
		}
	}
	facts, err := r.facts(ctx, p)
	if err != nil {
		return nil, err
	}
	return &progress{record: record, before: before, steps: p.Steps, facts: facts, done: map[int]bool{}, proven: proven,
		kept: p.KeptNumber, opens: len(p.Later) > 0, started: time.Now()}, nil
}

// goOn continues a run that has stopped, with the steps that it had, which have to be those
// that come of planning it anew. m is the migration's file; nil on the way back.
func (r *Runner) goOn(ctx context.Context, record *ledger.Migration, m *migration.Migration) error {
	steps, err := r.ledger.Steps(ctx, record.Version, record.Direction)
	if err != nil {
		return err
	}
	facts, err := r.plannedFrom(ctx, record, record.Direction)
	if err != nil {
		return err
	}
	if err := r.equal(ctx, record, m, steps, facts); err != nil {
		return err
	}
	if err := r.tables.load(ctx, r.ledger); err != nil {
		return err
	}
	opens := facts != nil && facts.Opens
	if facts == nil && m != nil && record.Direction == ledger.Advance {
		opens = r.Live && !r.Settle && len(plan.Later(m, r.Engine)) > 0
	}
	run := &progress{record: record, from: facts, opens: opens, done: map[int]bool{}, begun: map[int]bool{},
		proven: map[int]bool{}, changed: true, started: time.Now()}
	for _, s := range steps {
		run.steps = append(run.steps, s.Step)
		run.done[s.Step.Number] = s.State == "done"
		run.begun[s.Step.Number] = s.State == "running"
	}
	return r.run(ctx, run, false)
}

// run does what is left to do, unit by unit. A unit is a backfill in batches, or
// all the steps until the next one.
func (r *Runner) run(ctx context.Context, p *progress, fresh bool) error {
	r.observe(Event{What: "migration", Version: p.record.Version, Name: p.record.Name, Direction: p.record.Direction,
		Steps: len(p.steps)})
	units := plan.Units(p.steps)
	if len(units) == 0 {
		units = [][]*engine.Step{nil}
	}
	for i, unit := range units {
		last := i == len(units)-1
		if allDone(p, unit) && !last {
			continue
		}
		if err := ctx.Err(); err != nil {
			return r.stopped(p, nil, err)
		}
		first := fresh && i == 0
		if !first {
			if err := r.hold(ctx, "", false); err != nil {
				return r.stopped(p, nil, err)
			}
			r.tellLong(ctx, unit)
		}
		closing := last && r.closes(unit)
		switch {
		case len(unit) == 1 && unit[0].Batch != nil:
			if err := r.batches(ctx, p, unit[0], first); err != nil {
				return r.stopped(p, unit[0], err)
			}
		case len(unit) == 1 && unit[0].Outside != nil:
			if err := r.outside(ctx, p, unit[0], first); err != nil {
				return r.stopped(p, unit[0], err)
			}
		default:
			if step, err := r.unit(ctx, p, unit, first, closing); err != nil {
				return r.stopped(p, step, err)
			}
		}
		p.changed = p.changed || slices.ContainsFunc(unit, func(s *engine.Step) bool { return s.Proof == nil })
		if last && !closing {
			if step, err := r.unit(ctx, p, nil, false, true); err != nil {
				return r.stopped(p, step, err)
			}
		}
	}
	mishap.Place("run-finished")
	r.observe(Event{What: "migration-done", Version: p.record.Version, Name: p.record.Name, Rows: p.rows,
		Took: time.Since(p.started), Held: p.held})
	return nil
}

// closes reports whether the transaction of the last steps also closes the record,
// which reads all tables: not while applications wait for its locks.
func (r *Runner) closes(unit []*engine.Step) bool {
	for _, s := range unit {
		if s != nil && (s.Batch != nil || s.Outside != nil || r.Live && len(s.Strong) > 0) {
			return false
		}
	}
	return true
}

func allDone(p *progress, unit []*engine.Step) bool {
	for _, s := range unit {
		if !p.done[s.Number] {
			return false
		}
	}
	return true
}

// unit does steps in one transaction with their records. The last unit also
// asserts that the tables are what was planned, and closes the record. The step
// is the one in which an error came.
func (r *Runner) unit(ctx context.Context, p *progress, steps []*engine.Step, first,
	last bool) (at *engine.Step, err error) {
	o := r.options(steps)
	if r.Live && !r.LetWritersWait && slices.ContainsFunc(steps,
		func(s *engine.Step) bool { return s.Kind == engine.Backfill }) {
		o.Limit = max(10*r.Pace.Limit, 50*r.LockWait) // far above what was forecast
	}
	givesWay := r.Live && slices.ContainsFunc(steps, func(s *engine.Step) bool { return s.GivesWay })
	try := 0
	_, err = r.again(ctx, o.Strong, func() error {
		try++
		o.GivesWay = givesWay && try < r.LockTries // the last one waits
		at, err = r.tryUnit(ctx, p, steps, o, try, first, last)
		return err
	})
	var slow *engine.Slow
	if errors.As(err, &slow) {
		f := fault.New(fault.Failed, "step-too-slow", "an index on what its expression looks up; or a longer "+
			"batch_limit in lastboard.toml; or run it at a quiet time with --let-writers-wait",
			"it takes longer than %s, for which others could not write to %s", slow.Limit, at.Table)
		f.Err = err
		return at, f
	}
	return at, err
}

// options gives what a transaction needs that does steps.
func (r *Runner) options(steps []*engine.Step) engine.TxOptions {
	o := engine.TxOptions{LockWait: r.LockWait}
	for _, s := range steps {
		o.ForeignKeysOff = o.ForeignKeysOff || s.ForeignKeysOff
		for _, t := range s.Strong {
			if !slices.Contains(o.Strong, t) {
				o.Strong = append(o.Strong, t)
			}
		}
	}
	return o
}

// tryUnit does so once.
func (r *Runner) tryUnit(ctx context.Context, p *progress, steps []*engine.Step, o engine.TxOptions, tries int, first,
	last bool) (*engine.Step, error) {
	tx, err := r.DB.Begin(ctx, o)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	began := time.Now()
	if err := ledger.Beat(ctx, tx, r.me); err != nil {
		return nil, err
	}
	if first {
		if err := r.open(ctx, tx, p); err != nil {
			return nil, err
		}
	}
	type finished struct {
		step *engine.Step
		rows int64
		took time.Duration
	}
	var list []finished
	for _, s := range steps {
		if p.done[s.Number] {
			continue
		}
		r.observe(Event{What: "step", Version: p.record.Version, Step: s, Steps: len(p.steps)})
		mishap.Place("before-step")
		started := time.Now()
		if err := r.unseen(ctx, tx, p, s); err != nil {
			return s, err
		}
		rows, err := r.step(ctx, tx, p, s)
		if err != nil {
			return s, err
		}
		mishap.Place("after-step")
		if err := ledger.StepDone(ctx, tx, p.record.Version, p.record.Direction, s.Number, started, rows, tries,
			0); err != nil {
			return s, err
		}
		list = append(list, finished{s, rows, time.Since(started)})
	}
	if last {
		rows := p.rows
		for _, f := range list {
			rows += f.rows
		}
		if err := r.close(ctx, tx, p, rows); err != nil {
			return nil, err
		}
	}
	if err := ledger.Beat(ctx, tx, r.me); err != nil {
		return nil, err
	}
	mishap.Place("before-commit")
	if err := tx.Commit(); err != nil {
		return nil, err
	}
	mishap.Place("after-commit")
	r.tables.committed()
	p.opened = p.opened || first
	p.held = max(p.held, time.Since(began))
	for _, f := range list {
		p.done[f.step.Number] = true
		p.rows += f.rows
		r.observe(Event{What: "step-done", Version: p.record.Version, Step: f.step, Steps: len(p.steps), Took: f.took})
	}
	return nil, nil
}

// open writes the record of a run that begins.
func (r *Runner) open(ctx context.Context, tx engine.Tx, p *progress) error {
	if err := ledger.Put(ctx, tx, p.record); err != nil {
		return err
	}
	if err := ledger.PutKeptNumber(ctx, tx, p.kept); err != nil {
		return err
	}
	if err := ledger.PutFacts(ctx, tx, p.record.Version, p.record.Direction, p.facts); err != nil {
		return err
	}
	return ledger.PutSteps(ctx, tx, p.record.Version, p.record.Direction, p.steps)
}

// step does one step in a transaction.
func (r *Runner) step(ctx context.Context, tx engine.Tx, p *progress, s *engine.Step) (int64, error) {
	for _, k := range s.Keeps {
		if err := ledger.Keep(ctx, tx, p.record.Version, p.record.Direction, p.record.Checksum, k); err != nil {
			return 0, err
		}
	}
	for _, kept := range s.PutsBack {
		if err := ledger.LetGo(ctx, tx, kept); err != nil {
			return 0, err
		}
	}
	if s.Proof != nil {
		if p.proven[s.Number] {
			return 0, nil
		}
		f, err := check(ctx, tx.Query, s)
		if f != nil {
			return 0, f
		}
		return 0, err
	}
	var rows int64
	var tally engine.Tally
	for _, sql := range s.SQL {
		if !s.Native && strings.HasPrefix(sql, "select ") {
			found, err := tx.Query(ctx, sql)
			if err != nil {
				return 0, err
			}
			if len(found.Values) > 0 {
				return 0, fmt.Errorf("%v", found.Values[0][0])
			}
			continue
		}
		n, err := tx.Exec(ctx, sql)
		if err != nil && len(s.Mend) > 0 && ctx.Err() == nil {
			n, err = mend(ctx, tx, s, sql)
		}
		if err != nil {
			return 0, err
		}
		if s.Equal {
			if err := tally.Add(sql, n); err != nil {
				return 0, err
			}
		}
		if s.Kind == engine.Backfill || s.Kind == engine.Rebuild {
			rows = max(rows, n)
		}
		mishap.Place("statement")
	}
	if s.Load != nil {
		n, err := load(ctx, tx, s.Load)
		return n, err
	}
	return rows, nil
}

// load reads a file into the table that was made for it.
func load(ctx context.Context, tx engine.Tx, l *engine.Load) (rows int64, err error) {
	f := &csvfile.File{Path: l.Path, Sum: l.Sum}
	err = f.Rows(l.Types, func(_ int, values []any) error {
		rows++
		_, err := tx.Exec(ctx, l.Insert, values...)
		return err
	})
	return rows, err
}

// mend puts rows right that came since the step before, and tries a statement once
// more.
func mend(ctx context.Context, tx engine.Tx, s *engine.Step, sql string) (int64, error) {
	for _, m := range s.Mend {
		if _, err := tx.Exec(ctx, m); err != nil {
			return 0, err
		}
	}
	return tx.Exec(ctx, sql)
}

// close asserts what the run has led to, and writes it down.
func (r *Runner) close(ctx context.Context, tx engine.Tx, p *progress, rows int64) error {
	var wanted schema.Delta
	if err := ledger.Decode(p.record.Wanted, &wanted); err != nil {
		return fmt.Errorf("the ledger's record of migration %s: %w", p.record.Version, err)
	}
	now, err := tx.Schema(ctx)
	if err != nil {
		return err
	}
	var others []string
	for _, d := range wanted.Mismatch(now, r.Engine.Text) {
		if !madeByOthers(d) {
			return fault.New(fault.Failed, "not-as-planned", "look at describe and at status",
				"the tables did not become what the forecast said: %s", d)
		}
		others = append(others, d.Table)
	}
	if err := r.tables.load(ctx, r.ledger); err != nil {
		return err
	}
	untried := slices.ContainsFunc(p.steps, func(s *engine.Step) bool { return s.Untried != "" })
	if untried {
		err = r.tables.save(ctx, tx, now)
	} else {
		err = r.tables.saveChanged(ctx, tx, now, &wanted, others)
	}
	if err != nil {
		return err
	}
	r.after = now
	if untried || len(others) > 0 {
		r.after = nil // the copies on which was planned know nothing of that
	}
	r.ended = p.end()
	if r.ended == ledger.Waiting {
		err = ledger.Forget(ctx, tx, p.record.Version)
	} else {
		err = ledger.ForgetFacts(ctx, tx, p.record.Version)
	}
	if err != nil {
		return err
	}
	p.record.State = r.ended
	if p.record.Direction == ledger.Advance {
		p.record.AdvancedAt = ledger.Now()
	}
	if r.ended == ledger.Settled {
		p.record.SettledAt = ledger.Now()
	}
	if r.ended != ledger.Waiting {
		if err := ledger.Put(ctx, tx, p.record); err != nil {
			return err
		}
	}
	forecast := plan.Seconds(p.steps, r.Engine.About())
	return ledger.Record(ctx, tx, ledger.Entry{
		At: ledger.Now(), Version: p.record.Version, What: done[p.record.Direction], By: r.me.By, Host: r.me.Host,
		Seconds: time.Since(p.started).Seconds(), Forecast: &forecast, Rows: rows,
	})
}

// done says in the ledger what a run has done.
var done = map[string]string{ledger.Advance: "advanced", ledger.Settle: "settled", ledger.Retreat: "retreated"}

// end gives the state that the migration has once its run is over.
func (p *progress) end() string {
	switch {
	case p.record.Direction == ledger.Retreat:
		return ledger.Waiting
	case p.opens:
		return ledger.Open
	}
	return ledger.Settled
}

// madeByOthers reports whether a difference is something that others have added to a table
// while a run went on: it stays, and audit names it.
func madeByOthers(d schema.Difference) bool {
	return d.Attribute == "exists" && d.Expected == "no" && d.Object != "table" && d.Object != "view" &&
		d.Object != "primary key" && !strings.HasPrefix(d.Name, engine.Prefix)
}
