package plan

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// A column whose values are all written anew for another type would keep programs waiting as long as
// that takes, and those of before might not read what it holds then. On a live database a second
// column is made beside it, and the two exchange their names in a moment.

// retypes reports whether statement i of a migration gives columns other types and does nothing
// else, and no other statement is about these.
func retypes(m *migration.Migration, i int) bool {
	st, ok := m.File.Statements[i].(*sqltext.AlterTable)
	if !ok {
		return false
	}
	columns := retyped(st)
	if len(columns) == 0 || len(columns) < len(st.Actions) {
		return false
	}
	for j, other := range m.File.Statements {
		if made, ok := other.(*sqltext.CreateTable); ok && schema.SameName(made.Table.Name, st.Table.Name) ||
			j != i && reshapes(other, st, false, columns) {
			return false
		}
	}
	return true
}

// retyped lists the columns that a statement gives other types.
func retyped(st *sqltext.AlterTable) (columns []string) {
	for _, a := range st.Actions {
		if t, ok := a.(*sqltext.SetType); ok {
			columns = append(columns, t.Column)
		}
	}
	return columns
}

// swap gives the change that a statement would make at once of a table as it is now, or, behind a
// swap, as it was before; nil where it makes none.
func (p *Planner) swap(st *sqltext.AlterTable) *schema.TableChange {
	t := p.current.Table(p.tableOf(st))
	if t == nil || len(retyped(st)) == 0 {
		return nil
	}
	base := p.current
	if swapped(t, st) {
		base = (&schema.Delta{Tables: []*schema.Table{schema.Unswapped(t, retyped(st))}}).On(p.current)
	}
	_, change, err := schema.Apply(base, st, p.in.Engine.About().Env(nil))
	if err != nil {
		return nil
	}
	change.Table.After = p.in.Engine.Holds(change.Table)
	return change.Table
}

// swapped reports whether what a statement gives another type has a column out of sight beside it.
func swapped(t *schema.Table, st *sqltext.AlterTable) bool {
	return t != nil && slices.ContainsFunc(retyped(st), func(c string) bool { return t.Column(schema.Aside(c)) != nil })
}

// swaps reports whether a statement that gives columns other types has to do so beside programs, and
// can; why says why it cannot where it would have to.
func (p *Planner) swaps(ctx context.Context, out *Plan, st *sqltext.AlterTable) (does bool, why string, err error) {
	as := p.swap(st)
	if as == nil || len(as.Converted()) == 0 {
		return false, "", nil
	}
	c := &schema.Change{At: st.At, Table: as}
	if err := p.count(ctx, c, len(out.Facts.Changes)); err != nil {
		return false, "", err
	}
	needs := overlap(c) != ""
	if !needs {
		number := p.number
		steps, err := p.in.Engine.Steps(c, p.facts())
		p.number = number
		if err != nil {
			return false, "", nil // which the statement itself will say
		}
		needs = slices.ContainsFunc(Units(steps), func(unit []*engine.Step) bool { return held(unit) > p.in.Short })
	}
	if !needs {
		return false, "", nil
	}
	if why = schema.CannotSwap(as); why == "" {
		why = p.in.Engine.CannotSwap(as, p.current)
	}
	return why == "", why, nil
}

// last reports whether a column out of sight comes last.
func (p *Planner) last() bool { return !p.in.Engine.About().MirrorsHide }

// opensSwap plans that columns get other types, and keep the old ones out of sight.
func (p *Planner) opensSwap(ctx context.Context, out *Plan, m *migration.Migration, st *sqltext.AlterTable) error {
	as := p.swap(st)
	for _, stage := range []struct {
		stage schema.SwapStage
		what  string
	}{{schema.SwapBeside, "compute columns of another type beside those of "},
		{schema.SwapTurn, "give columns another type in "}} {
		c := schema.Swapping(stage.stage, p.current.Table(as.Before.Name), as, p.in.Engine.Aside, p.last())
		if err := p.change(ctx, out, &schema.Change{At: st.At, What: stage.what + as.Before.Name, Swap: c}); err != nil {
			return err
		}
	}
	p.warnSwap(out, m, st, as)
	return p.warn(ctx, out, m, st, &schema.Change{At: st.At, Table: as})
}

// warnSwap says what programs may notice of it.
func (p *Planner) warnSwap(out *Plan, m *migration.Migration, st *sqltext.AlterTable, as *schema.TableChange) {
	if !p.last() {
		return
	}
	columns := strings.Join(as.Converted(), ", ") + " stands"
	if len(as.Converted()) > 1 {
		columns = strings.Join(as.Converted(), ", ") + " stand"
	}
	f := at(m, st.Start(), fault.New(0, "type-moves-column", "let programs name the columns that they write and copy, or "+
		"make the change at once, at a quiet time, with --settle",
		"%s last in %s from then on: inserts without a list of columns are served until it is settled, copy without "+
			"one is not; and statements that sessions have prepared and that return it have to be prepared again", columns,
		as.Before.Name))
	f.Level = fault.Note
	out.Warnings = append(out.Warnings, f)
}

// endsSwap plans that the old ones go.
func (p *Planner) endsSwap(ctx context.Context, out *Plan, st *sqltext.AlterTable) error {
	t := p.current.Table(p.tableOf(st))
	if !swapped(t, st) {
		return nil // it was made at once
	}
	as := p.swap(st)
	end := schema.Swapping(schema.SwapEnd, t, as, p.in.Engine.Aside, p.last())
	end.Keep = !slices.ContainsFunc(st.Actions, func(a sqltext.Action) bool { return a.(*sqltext.SetType).Discard })
	return p.change(ctx, out, &schema.Change{At: st.At, What: "end the old types of columns of " + t.Name, Swap: end})
}

// unswapped gives the change that takes a stage back; nil where nothing of it is there.
func (r *Record) unswapped(current *schema.Schema, e engine.Planner, last bool) (*schema.SwapChange, error) {
	t := current.Table(r.Swap.As.After.Name)
	if t == nil {
		return nil, nil
	}
	columns := slices.Sorted(maps.Keys(r.Swap.As.Converted))
	aside := !slices.ContainsFunc(columns, func(c string) bool { return t.Column(schema.Aside(c)) == nil })
	shown := schema.Shown(t, columns)
	table := &Record{Table: r.Swap.As, Keeps: r.Keeps}
	as, err := table.inverseTable((&schema.Delta{Tables: []*schema.Table{shown}}).On(current))
	if err != nil {
		return nil, err
	}
	turned := !slices.ContainsFunc(columns, func(c string) bool {
		now := t.Column(c)
		return now == nil || !now.Type.Equal(r.Swap.As.After.Column(c).Type)
	})
	switch {
	case r.Swap.Stage == schema.SwapEnd && !aside:
		return schema.Swapping(schema.SwapBeside, t, as, e.Aside, last), nil
	case r.Swap.Stage == schema.SwapTurn && aside && turned:
		return schema.Swapping(schema.SwapTurn, t, as, e.Aside, last), nil
	case r.Swap.Stage == schema.SwapBeside && !turned:
		as.After = as.Before // nothing is left of it but what is out of sight
		return schema.Swapping(schema.SwapEnd, t, as, e.Aside, last), nil
	}
	return nil, nil
}

// Turned gives the stage as it has been done, of its table as it stands.
func (r *SwapRecord) Turned(now *schema.Table) (*schema.SwapChange, error) {
	as, err := (&Record{Table: r.As}).forward()
	for column, text := range r.Using {
		e, parsed := sqltext.ParseExpr(text)
		err = errors.Join(err, parsed)
		as.Fill[column] = schema.Fill{Expr: e, Cast: r.As.Converted[column]}
	}
	return &schema.SwapChange{Stage: r.Stage, Before: now, After: now, As: as}, err
}

// settles leaves out of what a migration does when it is settled what its run has done at once.
func settles(later []sqltext.Statement, records []*Record) []sqltext.Statement {
	return slices.DeleteFunc(later, func(st sqltext.Statement) bool {
		alter, ok := st.(*sqltext.AlterTable)
		if ok && Linked(alter) {
			return !slices.ContainsFunc(records, func(r *Record) bool {
				return r.Link != nil && r.Stage == ledger.Open && schema.SameName(r.Link.Table, alter.Table.String())
			})
		}
		return ok && len(retyped(alter)) > 0 && !slices.ContainsFunc(records, func(r *Record) bool {
			return r.Swap != nil && r.Stage == ledger.Open && r.Swap.Stage == schema.SwapTurn &&
				slices.ContainsFunc(retyped(alter), func(c string) bool { _, ok := r.Swap.As.Converted[c]; return ok }) &&
				schema.SameName(r.Swap.As.Before.Name, alter.Table.String())
		})
	})
}
