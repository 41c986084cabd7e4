package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

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
	Back              bool   // it is what a retreat takes away
}

// Refusal is the error of a run that does not go on because of it.
func (d Difference) Refusal() error {
	cure := "look at both without --yes, and answer there"
	if !d.Back {
		cure += "; or take it back: lastboard retreat"
	}
	return fault.New(fault.Refused, "plan-differs", cure,
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
func (r *Runner) plannedFrom(ctx context.Context, record *ledger.Migration, direction string) (*plan.Facts, error) {
	data, err := r.ledger.Facts(ctx, record.Version, direction)
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
	case ledger.Retreat:
		if err := r.ownUndo(ctx, record, m, f.Steps); err != nil {
			return err
		}
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

// ownUndo puts what planning a stopped advance anew gives in place of what the ledger says of how its steps are
// taken away again, or asks where that is something else. filed is the migration's file; nil where it has none.
func (r *Runner) ownUndo(ctx context.Context, known *ledger.Migration, filed *migration.Migration,
	steps []ledger.Step) error {
	var recorded, planned []*engine.Step
	for _, s := range steps {
		recorded = append(recorded, plan.Undo(s)...)
	}
	if len(recorded) == 0 {
		return nil
	}
	d := Difference{Version: known.Version, Step: "what its steps have made in between", By: "an earlier run",
		Now: "Lastboard " + r.Program + " for " + r.server(), Back: true}
	again, err := r.advanceAgain(ctx, known, filed, &d)
	if err != nil {
		var sql []string
		for _, s := range recorded {
			sql = append(sql, s.SQL...)
		}
		d.Recorded, d.Planned = strings.Join(sql, "; "), "not known: "+err.Error()
		return r.differs(d)
	}
	own := slices.Clone(steps)
	for i, s := range own {
		own[i].Step = &engine.Step{} // of what is not planned nothing is taken away
		if n := s.Step.Number; n > 0 && n <= len(again.Steps) {
			own[i].Step = again.Steps[n-1]
		}
		planned = append(planned, plan.Undo(own[i])...)
	}
	if step, now, was := plan.Unequal(planned, recorded); step != "" {
		d.Step, d.Planned, d.Recorded = step, now, was
		return r.differs(d)
	}
	for i, s := range own {
		steps[i].Step.Undo, steps[i].Step.Outside = s.Step.Undo, s.Step.Outside
	}
	return nil
}

// advanceAgain plans a stopped advance anew, and says who planned it first.
func (r *Runner) advanceAgain(ctx context.Context, known *ledger.Migration, filed *migration.Migration,
	d *Difference) (*plan.Plan, error) {
	f, err := r.plannedFrom(ctx, known, ledger.Advance)
	if err != nil {
		return nil, err
	}
	if f == nil {
		return nil, errors.New("what it was planned from is not recorded")
	}
	d.By = "Lastboard " + f.Program + " for " + f.Server
	base, err := r.ledger.Tables(ctx)
	if err != nil {
		return nil, err
	}
	if filed == nil || filed.Checksum() != known.Checksum {
		if filed, err = migration.Parse("", known.Version, known.Name, known.Source); err != nil {
			return nil, err
		}
	}
	return plan.AgainAdvance(r.Engine, f, base, filed)
}

func (r *Runner) differs(d Difference) error {
	if r.Differs == nil {
		return d.Refusal()
	}
	return r.Differs(d)
}
