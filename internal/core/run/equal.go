package run

import (
	"context"
	"encoding/json"
	"fmt"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// Difference is a step of a stopped run that is not what comes of planning the run anew from
// what its first plan was made from: another program, or another server, plans another way,
// or somebody has changed the ledger.
type Difference struct {
	Version           string
	Step              string // the first that differs
	Recorded, Planned string // its first statement that differs, or what is wrong
	By, Now           string // who has planned it, on what; and who plans now
}

// Refusal is the error of a run that does not go on because of it.
func (d Difference) Refusal() error {
	return fault.New(fault.Refused, "plan-differs", "look at both without --yes, and answer there; or take it back: "+
		"lastboard retreat",
		"migration %s has stopped in the middle, and planned again it comes to other steps: %s\n  recorded by %s: %s\n  "+
			"planned by %s: %s", d.Version, d.Step, d.By, d.Recorded, d.Now, d.Planned)
}

// server names what a plan was made for.
func (r *Runner) server() string {
	i := r.DB.Info()
	return i.Title + " " + i.Version
}

// facts gives what a plan was made from, for the ledger.
func (r *Runner) facts(ctx context.Context, p *plan.Plan) (json.RawMessage, error) {
	if err := r.tables.load(ctx, r.ledger); err != nil {
		return nil, err
	}
	before, err := r.tables.since(p.Before)
	if err != nil {
		return nil, err
	}
	return p.Encode(before, r.Program, r.server())
}

// since gives what a schema has otherwise than the ledger says.
func (t *tables) since(now *schema.Schema) (*schema.Delta, error) {
	d, found := &schema.Delta{}, map[ledger.Model]string{}
	for _, x := range now.Tables {
		m := model("table", x.Name)
		if err := t.add(found, m, x); err != nil {
			return nil, err
		}
		if t.stored[m] != found[m] {
			d.Tables = append(d.Tables, x)
		}
	}
	for _, x := range now.Views {
		m := model("view", x.Name)
		if err := t.add(found, m, x); err != nil {
			return nil, err
		}
		if t.stored[m] != found[m] {
			d.Views = append(d.Views, x)
		}
	}
	for m := range t.stored {
		switch _, there := found[m]; {
		case there:
		case m.Kind == "view":
			d.ViewsGone = append(d.ViewsGone, m.Name)
		default:
			d.Gone = append(d.Gone, m.Name)
		}
	}
	return d, nil
}

// plannedFrom gives what a stopped run was planned from; nil where the ledger does not say.
func (r *Runner) plannedFrom(ctx context.Context, record *ledger.Migration) (*plan.Facts, error) {
	data, err := r.ledger.Facts(ctx, record.Version, record.Direction)
	if err != nil || data == nil {
		return nil, err
	}
	f := &plan.Facts{}
	if err := ledger.Decode(data, f); err != nil {
		return nil, fmt.Errorf("what migration %s was planned from, in the ledger: %w", record.Version, err)
	}
	return f, nil
}

// equal asserts that the steps which a stopped run has recorded are those that come of
// planning it anew, or asks.
func (r *Runner) equal(ctx context.Context, record *ledger.Migration, m *migration.Migration, steps []ledger.Step,
	f *plan.Facts) error {
	recorded := make([]*engine.Step, len(steps))
	for i, s := range steps {
		recorded[i] = s.Step
	}
	d := Difference{Version: record.Version, Step: fmt.Sprintf("its %d steps", len(steps)), Recorded: "as in the ledger",
		By: "an earlier run", Now: "Lastboard " + r.Program + " for " + r.server()}
	if f == nil {
		d.Planned = "not known, since what they were planned from is not recorded"
		return r.differs(d)
	}
	d.By = "Lastboard " + f.Program + " for " + f.Server
	base, err := r.ledger.Tables(ctx)
	if err != nil {
		return err
	}
	again := func() (*plan.Plan, error) { return plan.AgainRetreat(r.Engine, f, base, record) }
	switch record.Direction {
	case ledger.Advance:
		again = func() (*plan.Plan, error) { return plan.AgainAdvance(r.Engine, f, base, m) }
	case ledger.Settle:
		again = func() (*plan.Plan, error) { return plan.AgainSettle(r.Engine, f, base, m) }
	}
	p, err := again()
	if err != nil {
		d.Planned = "refused: " + err.Error()
		return r.differs(d)
	}
	if step, now, was := plan.Unequal(p.Steps, recorded); step != "" {
		d.Step, d.Planned, d.Recorded = step, now, was
		return r.differs(d)
	}
	for i, s := range p.Steps { // its file may be elsewhere now
		if s.Load != nil {
			recorded[i].Load.Path = s.Load.Path
		}
	}
	return nil
}

func (r *Runner) differs(d Difference) error {
	if r.Differs == nil {
		return d.Refusal()
	}
	return r.Differs(d)
}
