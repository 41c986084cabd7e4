package plan

import (
	"context"
	"slices"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// A statement that drops columns and adds others which are made from them, each from the other, splits
// or merges them; one that gives a column another type by an expression, and another name, gives it
// another meaning. While the overlap is open the table has both, and each row the same in both.

// links reports whether statement i of a migration does that and nothing else, and no other statement
// is about these columns.
func links(m *migration.Migration, i int) bool {
	st, ok := m.File.Statements[i].(*sqltext.AlterTable)
	if !ok || !Linked(st) {
		return false
	}
	old, fresh, ok := linkedColumns(st)
	if !ok {
		return false
	}
	columns := append(old, fresh...)
	for j, other := range m.File.Statements {
		if made, ok := other.(*sqltext.CreateTable); ok && schema.SameName(made.Table.Name, st.Table.Name) ||
			j != i && reshapes(other, st, false, columns) {
			return false
		}
	}
	return true
}

// Linked reports whether a statement that is left for later is such a one.
func Linked(st *sqltext.AlterTable) bool {
	retypes := len(retyped(st)) > 0
	return slices.ContainsFunc(st.Actions, func(a sqltext.Action) bool {
		switch a := a.(type) {
		case *sqltext.DropColumn:
			return a.Restore != nil
		case *sqltext.RenameColumn:
			return retypes
		}
		return false
	})
}

// linkedColumns lists the columns that such a statement takes away and those that it makes of them;
// ok is false where it does more.
func linkedColumns(st *sqltext.AlterTable) (old, fresh []string, ok bool) {
	types := map[string]*sqltext.SetType{}
	names := map[string]string{}
	values := map[string]sqltext.Expr{} // of each column
	for _, a := range st.Actions {
		switch a := a.(type) {
		case *sqltext.AddColumn:
			c := a.Column
			if a.Using == nil || c.PrimaryKey || c.Unique || c.Generated != nil || c.Identity != nil ||
				len(c.Checks) > 0 || c.References != nil || c.Position != nil {
				return nil, nil, false
			}
			fresh, values[c.Name] = append(fresh, c.Name), a.Using
		case *sqltext.DropColumn:
			if a.Restore == nil || a.Discard {
				return nil, nil, false
			}
			old, values[a.Column] = append(old, a.Column), a.Restore
		case *sqltext.SetType:
			if a.Using == nil || a.Restore == nil || a.Discard {
				return nil, nil, false
			}
			types[a.Column] = a
		case *sqltext.RenameColumn:
			names[a.Column] = a.To
		default:
			return nil, nil, false
		}
	}
	if len(names) != len(types) {
		return nil, nil, false
	}
	for column, to := range names {
		t := types[column]
		if t == nil {
			return nil, nil, false
		}
		old, fresh = append(old, column), append(fresh, to)
		values[column], values[to] = t.Restore, t.Using
	}
	for _, list := range [][2][]string{{old, fresh}, {fresh, old}} {
		for _, n := range list[0] {
			e := values[n]
			if sqltext.HasSubquery(e) || !sqltext.OnlyKnown(e) || schema.Unsteady(e) != "" ||
				!slices.ContainsFunc(sqltext.Refs(e), func(r *sqltext.Ref) bool { return schema.HasName(list[1], r.Column) }) {
				return nil, nil, false
			}
		}
	}
	return old, fresh, len(old) > 0 && len(fresh) > 0
}

// linking gives the change that a statement would make at once, of the table as it is or, while its
// overlap is open, as it was; nil where it makes none.
func (p *Planner) linking(st *sqltext.AlterTable) (*schema.TableChange, schema.Link) {
	t := p.current.Table(p.tableOf(st))
	if t == nil {
		return nil, schema.Link{}
	}
	_, fresh, _ := linkedColumns(st)
	made := schema.Link{New: map[string]sqltext.Expr{}}
	for _, n := range fresh {
		if t.Column(n) != nil {
			made.New[n] = nil
		}
	}
	base := p.current
	if len(made.New) == len(fresh) {
		base = (&schema.Delta{Tables: []*schema.Table{schema.Unlinked(t, made)}}).On(p.current)
	}
	_, change, err := schema.Apply(base, st, p.in.Engine.About().Env(nil))
	if err != nil {
		return nil, schema.Link{}
	}
	change.Table.After = p.in.Engine.Holds(change.Table)
	return change.Table, schema.LinkOf(change.Table)
}

// cannotLink says why the columns of a statement cannot be kept equal; "" where they can.
func (p *Planner) cannotLink(st *sqltext.AlterTable) string {
	as, l := p.linking(st)
	if as == nil {
		return "" // which the statement itself will say
	}
	why := schema.CannotLink(as, l, p.current)
	if why == "" {
		why = p.in.Engine.CannotLink(as, l, p.current)
	}
	return why
}

// opensLink plans that the columns which are made come beside those that go.
func (p *Planner) opensLink(ctx context.Context, out *Plan, m *migration.Migration, st *sqltext.AlterTable) error {
	as, l := p.linking(st)
	name := as.Before.Name
	beside := schema.Beside(as, l, p.in.Engine.Linked)
	kept := map[string]*schema.Kept{} // of an earlier way back
	again := schema.Beside(as, l, p.in.Engine.Linked)
	p.useKept(m, out.statement, again)
	for n, f := range again.Fill {
		kept[n] = f.Kept
	}
	what := "add columns to " + name + " beside those that they are made from"
	if err := p.change(ctx, out, &schema.Change{At: st.At, What: what, Table: beside}); err != nil {
		return err
	}
	out.Records[len(out.Records)-1].Linked = true
	now := p.current.Table(name)
	c := &schema.LinkChange{Before: now, After: schema.Filled(now, as.After, l, p.in.Engine.Linked), Link: l, Kept: kept}
	what = "keep columns of " + name + " equal to what they are made from"
	if err := p.change(ctx, out, &schema.Change{At: st.At, What: what, Link: c}); err != nil {
		return err
	}
	p.warnLink(out, m, st, as, l)
	return nil
}

// warnLink says which writes fail.
func (p *Planner) warnLink(out *Plan, m *migration.Migration, st *sqltext.AlterTable, as *schema.TableChange,
	l schema.Link) {
	note := func(level fault.Level, rule, cure, format string, args ...any) {
		f := at(m, st.Start(), fault.New(0, rule, cure, format, args...))
		f.Level = level
		out.Warnings = append(out.Warnings, f)
	}
	old, fresh := l.Columns()
	note(fault.Note, "two-shapes-hold", "let the expressions give a value for everything that programs write",
		"while the overlap is open, a write of %s fails of which %s cannot be made, and the other way round",
		strings.Join(old, ", "), strings.Join(fresh, ", "))
	p.warnTriggers(note, as.Before, "update", old)
}

// endsLink plans that the old ones go.
func (p *Planner) endsLink(ctx context.Context, out *Plan, st *sqltext.AlterTable) error {
	t := p.current.Table(p.tableOf(st))
	as, l := p.linking(st)
	if as == nil || t == nil {
		return nil
	}
	return p.change(ctx, out, &schema.Change{At: st.At, What: "end the old columns of " + t.Name,
		Table: schema.Ended(t, as, l)})
}

// unlinked gives the link that ends as the columns go which the first of some records added; nil where
// there is none.
func unlinked(records []*Record) (*schema.Link, error) {
	for _, r := range records[1:] {
		if r.Link != nil && schema.SameName(r.Link.Table, records[0].Table.After.Name) {
			l, err := r.Link.Of()
			return &l, err
		}
	}
	return nil, nil
}
