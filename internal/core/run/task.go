package run

import (
	"context"
	"errors"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/schema"
)

// Task is a migration to run, to go on with, to settle, or to take back.
type Task struct {
	File   *migration.Migration // nil on the way back
	Filed  *migration.Migration // the file of what is taken back, where there is one
	Known  *ledger.Migration    // nil for one that has not run
	Settle bool                 // its overlap is to end
	// Ended is the state of the migration once the task has come to its end; "" until then.
	Ended string
}

// Version gives that of the migration.
func (t Task) Version() string {
	if t.File != nil {
		return t.File.Version
	}
	return t.Known.Version
}

// Do does one task. The plan is nil where a stopped run is gone on with.
func (r *Runner) Do(ctx context.Context, t *Task) (p *plan.Plan, err error) {
	switch {
	case t.Settle:
		p, err = r.settle(ctx, t.File, t.Known)
	case t.File != nil:
		p, err = r.Advance(ctx, t.File, t.Known)
	default:
		p, err = r.Retreat(ctx, t.Known, t.Filed)
	}
	if err == nil {
		t.Ended = r.ended
	}
	return p, err
}

// Foresee refuses, before anything is changed, what would be refused further on when tasks
// are done one after the other: all that is known of them beforehand. What depends on rows
// that an earlier one changes is found when its turn comes.
func (r *Runner) Foresee(ctx context.Context, list []Task) error {
	for _, t := range list {
		if err := noWayBack(t); err != nil {
			return err
		}
	}
	if len(list) < 2 || list[0].Unfinished() {
		return nil // the first tells for itself, and the others stand on its end
	}
	planner, err := r.planner(ctx)
	if err != nil {
		return err
	}
	now, touched := planner.Tables(), []string(nil)
	for _, t := range list {
		p, err := t.plan(ctx, planner)
		if err == nil {
			touched, err = r.foresee(ctx, p, t, now, touched)
		}
		if err != nil {
			return errors.Join(err, r.forget())
		}
	}
	return r.forget()
}

// foresee looks at the plan of one task among others. touched are the tables of those before
// it.
func (r *Runner) foresee(ctx context.Context, p *plan.Plan, t Task, now *schema.Schema,
	touched []string) ([]string, error) {
	if f := r.overlaps(p); f != nil {
		return nil, f
	}
	records := p.Records
	if t.File == nil {
		var err error
		if records, err = plan.DecodeRecords(t.Known.Changes); err != nil {
			return nil, err
		}
	}
	its := (&plan.Plan{Records: records}).Touched()
	if err := r.asLeft(ctx, without(its, touched), now); err != nil {
		return nil, err
	}
	if err := r.follows(ctx, p); err != nil {
		return nil, err
	}
	_, err := Prove(ctx, r.DB, p)
	return append(touched, its...), err
}

// without gives the names that are not among others.
func without(names, others []string) (list []string) {
	for _, n := range names {
		if !schema.HasName(others, n) {
			list = append(list, n)
		}
	}
	return list
}

// Unfinished reports whether a run of it has stopped in the middle.
func (t Task) Unfinished() bool {
	return t.Known != nil && (t.Known.State == ledger.Running || t.Known.State == ledger.Stopped)
}

// record is that of a migration whose run begins.
func (t Task) record() *ledger.Migration {
	if t.Known == nil {
		m := t.File
		return &ledger.Migration{Version: m.Version, Name: m.Name, Title: m.File.Title, Reason: m.File.Reason,
			State: ledger.Running, Direction: ledger.Advance, Checksum: m.Checksum(), Source: m.File.Source}
	}
	record := *t.Known
	record.State, record.Direction = ledger.Running, ledger.Retreat
	if t.Settle {
		record.Direction = ledger.Settle
	}
	return &record
}

func (t Task) plan(ctx context.Context, planner *plan.Planner) (*plan.Plan, error) {
	if t.Settle {
		return planner.Settle(ctx, t.File)
	}
	if t.File != nil {
		return planner.Advance(ctx, t.File)
	}
	return planner.Retreat(ctx, plan.Progress{Record: t.Known})
}

// noWayBack refuses to take back what says that it has no way back.
func noWayBack(t Task) error {
	if t.File != nil || t.Unfinished() {
		return nil
	}
	records, err := plan.DecodeRecords(t.Known.Changes)
	if err != nil {
		return err
	}
	for _, r := range records {
		if r.Native != nil && r.Native.NoWayBack {
			return plan.NoWayBack(t.Known.Version)
		}
	}
	return nil
}

// After says of a refusal which tasks were done before it: then it is none before anything
// was changed.
func After(done []Task, err error) error {
	if len(done) == 0 || fault.Of(err) != fault.Refused {
		return err
	}
	var list fault.List
	if !errors.As(err, &list) {
		var f *fault.Fault
		errors.As(err, &f)
		list = fault.List{f}
	}
	var states []string
	for _, t := range done {
		states = append(states, t.Version()+" is "+t.Ended)
	}
	first := *list[0]
	first.Class = fault.Stopped
	first.Changed = strings.Join(states, ", ") + ", which stays; of this migration nothing was changed"
	return append(fault.List{&first}, list[1:]...)
}
