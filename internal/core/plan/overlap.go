package plan

import (
	"context"
	"maps"
	"slices"

	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// On a live database a migration has two stages: as its overlap opens, all is done that
// programs of before can live with, and the rest once it is settled. What is dropped stays
// until then, and is no longer required of those who do not know it any more.

// later gives what is done of statement i of a migration when the overlap is settled; nil for
// nothing.
func later(m *migration.Migration, i int, traits engine.Traits) sqltext.Statement {
	switch st := m.File.Statements[i].(type) {
	case *sqltext.DropTable:
		return st
	case *sqltext.AlterTable:
		if to := tableRenamed(st); to != "" && traits.StandsIn {
			if slices.ContainsFunc(m.File.Statements[i+1:], func(o sqltext.Statement) bool { return standsOn(o, to) }) {
				return nil // of the columns that a view names
			}
			return st
		}
		if traits.Swaps && retypes(m, i) || traits.Links && links(m, i) {
			return st
		}
		leaving, rest := leaving(st)
		for _, a := range leaving {
			switch a := a.(type) {
			case *sqltext.DropColumn:
				if a.Restore != nil || named(rest, a.Column) || len(schema.RenamesOf(st)) > 0 {
					return nil // programs of before want a value in it
				}
			case *sqltext.RenameColumn:
				if !traits.Mirrors || named(rest, a.Column) || named(rest, a.To) {
					return nil
				}
			case *sqltext.RenameTable:
				return nil // with something else
			}
		}
		if traits.Supplies {
			leaving = append(leaving, suppliable(m, i)...)
		}
		if len(leaving) > 0 {
			return altering(st, leaving)
		}
	}
	return nil
}

// leaves gives what is left of statement i while an overlap is open; nil for nothing.
func (p *Planner) leaves(ctx context.Context, out *Plan, m *migration.Migration, i int) (sqltext.Statement, error) {
	if !p.in.Overlaps {
		return nil, nil
	}
	st := later(m, i, p.in.Engine.About().Traits)
	alter, ok := st.(*sqltext.AlterTable)
	switch {
	case ok && Linked(alter):
		if out.Unswapped = p.cannotLink(alter); out.Unswapped != "" {
			return nil, nil
		}
		return st, nil
	case ok && len(retyped(alter)) > 0:
		does, why, err := p.swaps(ctx, out, alter)
		if err != nil || does {
			return st, err
		}
		if why != "" {
			out.Unswapped = why
		}
		return nil, nil
	}
	return p.possible(st), nil
}

// leaving parts the actions of an alter into those that take a column or its name away, and
// the others.
func leaving(st *sqltext.AlterTable) (leaving, rest []sqltext.Action) {
	for _, a := range st.Actions {
		if _, retypes := a.(*sqltext.SetType); goes(a) != "" && !retypes {
			leaving = append(leaving, a)
		} else {
			rest = append(rest, a)
		}
	}
	return leaving, rest
}

func altering(st *sqltext.AlterTable, actions []sqltext.Action) *sqltext.AlterTable {
	part := &sqltext.AlterTable{Table: st.Table, Actions: actions}
	part.At = st.At
	return part
}

// named reports whether actions speak of a column, by whatever they are.
func named(actions []sqltext.Action, column string) bool {
	if len(actions) == 0 {
		return false
	}
	return speaks(&sqltext.AlterTable{Actions: actions})(column)
}

// opens plans what is done of a statement as the overlap opens. The error is about the
// statement that it gives.
func (p *Planner) opens(ctx context.Context, out *Plan, m *migration.Migration,
	st sqltext.Statement) (sqltext.Statement, error) {
	whole, ok := st.(*sqltext.AlterTable)
	if !ok {
		return st, nil
	}
	if tableRenamed(whole) != "" {
		return st, p.opensStandIn(ctx, out, m, whole)
	}
	if Linked(whole) {
		if err := p.opensLink(ctx, out, m, whole); err != nil {
			return st, err
		}
		return st, p.watch(ctx, out, whole)
	}
	if len(retyped(whole)) == len(whole.Actions) {
		return st, p.opensSwap(ctx, out, m, whole)
	}
	opening, err := p.opening(whole)
	if err != nil {
		return st, err
	}
	if opening != nil {
		supplied, _ := supplies(out.Later[len(out.Later)-1])
		if err := p.statement(ctx, out, m, out.statement, opening, addedNames(supplied)); err != nil {
			return opening, err
		}
	}
	if pairs := schema.RenamesOf(whole); len(pairs) > 0 {
		if err := p.opensMirrors(ctx, out, m, whole, pairs); err != nil {
			return st, err
		}
	}
	return st, p.watch(ctx, out, whole)
}

// opensMirrors plans that columns are kept under two names.
func (p *Planner) opensMirrors(ctx context.Context, out *Plan, m *migration.Migration, whole *sqltext.AlterTable,
	pairs []schema.Mirror) error {
	t := p.current.Table(p.tableOf(whole))
	opened := append(slices.Clone(p.in.Opened), Opened{m.Version, out.Later[:len(out.Later)-1]})
	for _, x := range pairs {
		why := schema.CannotMirror(t, x.Column)
		if why == "" {
			why = p.in.Engine.CannotMirror(t, x.Column)
		}
		if t.Column(x.Name) != nil {
			why = "there is a column " + x.Name + " already"
		}
		if why == "" && p.mirrored(t.Name, opened) {
			why = "others of the table are already, by another statement: one statement can rename several"
		}
		if why != "" {
			return &schema.Problem{
				Pos: whole.At, Rule: "needs-overlap", Message: "column " + x.Column + " of " + t.Name +
					" cannot be kept under two names while programs of before run: " + why,
				Cure: "if no application uses the old shape any more, add --settle",
			}
		}
	}
	change := &schema.MirrorChange{Before: t, After: schema.Mirrored(t, pairs, p.in.Engine.Twin),
		Pairs: pairs}
	p.warnMirrors(out, m, whole, change)
	return p.change(ctx, out, &schema.Change{At: whole.At, What: "keep columns of " + t.Name + " under two names",
		Mirror: change})
}

// mirrored reports whether columns of a table are kept under two names.
func (p *Planner) mirrored(table string, opened []Opened) bool {
	return slices.ContainsFunc(opened, func(o Opened) bool {
		return slices.ContainsFunc(o.Later, func(st sqltext.Statement) bool {
			alter, ok := st.(*sqltext.AlterTable)
			return ok && schema.SameName(p.tableOf(alter), table) && len(schema.RenamesOf(st)) > 0 && !Linked(alter)
		})
	})
}

// tableOf gives the name of an alter's table as the model has it.
func (p *Planner) tableOf(st *sqltext.AlterTable) string {
	if s := st.Table.Schema; s != "" && !schema.SameName(s, p.current.Home) {
		return s + "." + st.Table.Name
	}
	return st.Table.Name
}

// opening gives the statement that begins an overlap, on the tables as they are then; nil for
// nothing. It is an error where what goes cannot be left out by programs that do not know it
// any more.
func (p *Planner) opening(whole *sqltext.AlterTable) (sqltext.Statement, error) {
	t := p.current.Table(p.tableOf(whole))
	if t == nil {
		return whole, nil // which says so
	}
	leaving, actions := leaving(whole)
	for _, a := range leaving {
		d, ok := a.(*sqltext.DropColumn)
		if !ok {
			continue
		}
		c := t.Column(d.Column)
		switch {
		case c == nil:
			return whole, nil
		case !c.NotNull || c.Default != nil || c.Generated != nil || c.Identity != nil:
		case schema.HasName(t.Key(), c.Name):
			return nil, &schema.Problem{
				Pos: d.At, Rule: "needs-overlap", Message: "column " + c.Name + " is part of the key of " + t.Name +
					" and has no default: programs that do not know it any more could add no row while the overlap is open",
				Cure: "give it a default first; or, if no application uses the old shape any more, add --settle",
			}
		default:
			n := &sqltext.DropNotNull{Column: d.Column}
			n.At = d.At
			actions = append(actions, n)
		}
	}
	if len(actions) == 0 {
		return nil, nil
	}
	return altering(whole, actions), nil
}

// rebased gives a record of a table as it is to be taken back from what the table is now, where
// an older migration has been settled since, or a later one was taken back that came between.
func (p *Planner) rebased(r *Record) *Record {
	out := *r
	switch {
	case r.Table != nil && r.Table.After != nil:
		out.Table = p.onNow(r.Table, p.current.Table(r.Table.After.Name))
	case r.Swap != nil && r.Swap.Stage != schema.SwapBeside:
		if now := p.current.Table(r.Swap.As.After.Name); now != nil {
			swap := *r.Swap
			swap.As = p.onNow(r.Swap.As, schema.Shown(now, slices.Collect(maps.Keys(r.Swap.As.Converted))))
			out.Swap = &swap
		}
	}
	return &out
}

// onNow does so for a table as it is now.
func (p *Planner) onNow(r *TableRecord, now *schema.Table) *TableRecord {
	if r.Before == nil || now == nil || len(schema.CompareTables(now, r.After, p.in.Engine.Text)) == 0 {
		return r
	}
	out := *r
	out.After = now
	out.Before, out.From = schema.Merged(now, r.After, r.Before, r.From)
	return &out
}
