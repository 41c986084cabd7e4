package plan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// On a live database a migration has two stages: as its overlap opens, all is done that
// programs of before can live with, and the rest once it is settled. What is dropped stays
// until then, and is no longer required of those who do not know it any more.

// Opened is a migration whose overlap is open, with what is left to do when it is settled.
type Opened struct {
	Version string
	Later   []sqltext.Statement
}

// Open gives the migrations whose overlap is open, the oldest first.
func Open(known []*ledger.Migration, e engine.Engine) (list []Opened, err error) {
	for _, k := range known {
		if k.State != ledger.Open {
			continue
		}
		m, err := migration.Parse("", k.Version, k.Name, k.Source)
		if err != nil {
			return nil, fmt.Errorf("the text of migration %s, in the ledger: %w", k.Version, err)
		}
		list = append(list, Opened{k.Version, Later(m, e)})
	}
	return list, nil
}

// Later lists what a migration leaves for the time when its overlap is settled.
func Later(m *migration.Migration, e engine.Engine) (list []sqltext.Statement) {
	for i := range m.File.Statements {
		if s := later(m, i, e.About().Traits); s != nil {
			list = append(list, s)
		}
	}
	return list
}

// Tables lists those that are changed when it is settled.
func (o Opened) Tables() (list []string) {
	for _, st := range o.Later {
		switch st := st.(type) {
		case *sqltext.DropTable:
			list = append(list, st.Table.String())
		case *sqltext.AlterTable:
			list = append(list, st.Table.String())
		}
	}
	return list
}

// Words say what happens when it is settled: "drop column port of vessel".
func (o Opened) Words() string {
	var parts []string
	if drops := o.Drops(); drops != "" {
		parts = append(parts, "drop "+drops)
	}
	if supplies := o.Supplies(); supplies != "" {
		parts = append(parts, "let programs write "+supplies+" themselves")
	}
	return strings.Join(parts, " and ")
}

// Drops names what goes when it is settled; "" for nothing.
func (o Opened) Drops() string { return o.columns(goes, "table ") }

// Supplies names the columns that are supplied until then; "" for none.
func (o Opened) Supplies() string {
	return o.columns(func(a sqltext.Action) string {
		if add, ok := a.(*sqltext.AddColumn); ok {
			return "column " + add.Column.Name
		}
		return ""
	}, "")
}

// columns lists what of returns of its actions, and, behind a word, its tables that go.
func (o Opened) columns(of func(sqltext.Action) string, table string) string {
	var list []string
	for _, st := range o.Later {
		switch st := st.(type) {
		case *sqltext.DropTable:
			if table != "" {
				list = append(list, table+st.Table.String())
			}
		case *sqltext.AlterTable:
			for _, a := range st.Actions {
				what := of(a)
				if to := tableRenamed(st); to != "" && what != "" {
					list = append(list, "the name "+st.Table.String()+" of table "+to)
				} else if what != "" {
					list = append(list, what+" of "+st.Table.String())
				}
			}
		}
	}
	return strings.Join(list, ", ")
}

// Of says what goes of a table when it is settled; nothing where it is about others.
func (o Opened) Of(table string) (list []string) {
	for _, st := range o.Later {
		switch st := st.(type) {
		case *sqltext.DropTable:
			if schema.SameName(st.Table.String(), table) {
				list = append(list, "the table goes when "+o.Version+" is settled")
			}
		case *sqltext.AlterTable:
			for _, a := range st.Actions {
				add, supplied := a.(*sqltext.AddColumn)
				switch to := tableRenamed(st); {
				case to != "" && schema.SameName(to, table):
					list = append(list, "its name "+st.Table.String()+", a view, goes when "+o.Version+" is settled")
				case !schema.SameName(st.Table.String(), table):
				case supplied:
					list = append(list, "column "+add.Column.Name+" is supplied where a program leaves it out until "+o.Version+
						" is settled")
				default:
					list = append(list, goes(a)+" goes when "+o.Version+" is settled")
				}
			}
		}
	}
	return list
}

// goes names what an action takes away.
func goes(a sqltext.Action) string {
	switch a := a.(type) {
	case *sqltext.DropColumn:
		return "column " + a.Column
	case *sqltext.RenameColumn:
		return "column " + a.Column + " (" + a.To + " now)"
	case *sqltext.RenameTable:
		return "the old name of " + a.To
	}
	return ""
}

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
func (p *Planner) leaves(m *migration.Migration, i int) sqltext.Statement {
	if !p.in.Overlaps {
		return nil
	}
	return p.possible(later(m, i, p.in.Engine.About().Traits))
}

// leaving parts the actions of an alter into those that take a column or its name away, and
// the others.
func leaving(st *sqltext.AlterTable) (leaving, rest []sqltext.Action) {
	for _, a := range st.Actions {
		if goes(a) != "" {
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

// speaks tells of names whether a statement has them, whatever it says of them.
func speaks(st sqltext.Statement) func(name string) bool {
	tokens, _ := sqltext.Scan(sqltext.PrintStatement(st), sqltext.Migration)
	return func(name string) bool {
		return slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
			return (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && schema.SameName(t.Value, name)
		})
	}
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
	change := &schema.MirrorChange{Before: t, After: schema.Mirrored(t, pairs, p.in.Engine.About().MirrorsHide),
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
			return ok && schema.SameName(p.tableOf(alter), table) && len(schema.RenamesOf(st)) > 0
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

// left asserts that what open overlaps have left to do can still be done.
func (p *Planner) left(opened []Opened) error {
	now := p.current
	for _, o := range opened {
		for _, whole := range o.Later {
			supplied, st := supplies(whole)
			for _, add := range supplied {
				t := now.Table(p.tableOf(whole.(*sqltext.AlterTable)))
				if t == nil || t.Column(add.Column.Name) == nil {
					return &unsettled{o, errors.New("it would not be there any more")}
				}
			}
			if st == nil {
				continue
			}
			if tableRenamed(st) != "" {
				if p.renamedTable(st.(*sqltext.AlterTable)) == nil {
					return &unsettled{o, errors.New("it would not be there any more")}
				}
				continue
			}
			if pairs := schema.RenamesOf(st); len(pairs) > 0 {
				t := now.Table(p.tableOf(st.(*sqltext.AlterTable)))
				if t == nil || slices.ContainsFunc(pairs, func(x schema.Mirror) bool {
					return t.Column(x.Column) == nil || t.Column(x.Name) == nil
				}) {
					return &unsettled{o, errors.New("it would not be there any more")}
				}
				continue
			}
			after, _, err := schema.Apply(now, st, p.in.Engine.About().Env(nil))
			if err != nil {
				return &unsettled{o, err}
			}
			now = after
		}
	}
	return nil
}

// inTheWay gives the first open migration whose columns or tables another one speaks of, and
// what that is; nil for none.
func inTheWay(m *migration.Migration, opened []Opened) (*Opened, string) {
	for _, st := range m.File.Statements {
		for _, o := range opened {
			if what := o.spokenOf(st); what != "" {
				return &o, what
			}
		}
	}
	return nil, ""
}

// spokenOf says which column or table of an overlap a statement speaks of; "" for none.
func (o Opened) spokenOf(st sqltext.Statement) string {
	speaks := speaks(st)
	for _, later := range o.Later {
		switch later := later.(type) {
		case *sqltext.DropTable:
			if speaks(later.Table.Name) {
				return "table " + later.Table.Name
			}
		case *sqltext.AlterTable:
			if to := tableRenamed(later); to != "" && (speaks(later.Table.Name) || standsOn(st, to)) {
				return "table " + later.Table.Name + ", which is " + to + " now"
			}
			for _, a := range later.Actions {
				if add, ok := a.(*sqltext.AddColumn); ok && reshapes(st, later, false, suppliedFrom(add)) {
					return "column " + add.Column.Name + " of " + later.Table.Name
				}
				for _, c := range columnsIn(a) {
					if speaks(later.Table.Name) && speaks(c) {
						return "column " + c + " of " + later.Table.Name
					}
				}
			}
		}
	}
	return ""
}

// standsOn reports whether a statement takes away what a view needs that stands for a table.
func standsOn(st sqltext.Statement, table string) bool {
	switch st := st.(type) {
	case *sqltext.DropTable:
		return schema.SameName(st.Table.Name, table)
	case *sqltext.AlterTable:
		return schema.SameName(st.Table.Name, table) && slices.ContainsFunc(st.Actions, func(a sqltext.Action) bool {
			switch a.(type) {
			case *sqltext.DropColumn, *sqltext.RenameColumn, *sqltext.SetType, *sqltext.RenameTable:
				return true
			}
			return false
		})
	}
	return false
}

// columnsIn lists the columns that an overlap is about.
func columnsIn(a sqltext.Action) []string {
	switch a := a.(type) {
	case *sqltext.DropColumn:
		return []string{a.Column}
	case *sqltext.RenameColumn:
		return []string{a.Column, a.To}
	}
	return nil
}

// rebased gives a record of a table as it is to be taken back from what the table is now, where
// an older migration has been settled since, or a later one was taken back that came between.
func (p *Planner) rebased(r *Record) *Record {
	if r.Table == nil || r.Table.Before == nil || r.Table.After == nil {
		return r
	}
	now := p.current.Table(r.Table.After.Name)
	if now == nil || len(schema.CompareTables(now, r.Table.After, p.in.Engine.Text)) == 0 {
		return r
	}
	table, out := *r.Table, *r
	table.After = now
	table.Before, table.From = schema.Merged(now, r.Table.After, r.Table.Before, r.Table.From)
	out.Table = &table
	return &out
}

// unsettled is an open overlap that could not be settled any more.
type unsettled struct {
	Opened
	err error
}

// stays names what it is about until it is settled.
func (e *unsettled) stays() string { return cmp.Or(e.Drops(), e.Supplies()) }

func (e *unsettled) Error() string { return e.err.Error() }

func (e *unsettled) fault() *fault.Fault {
	return settleFirst(e.Version, e.stays()+": "+e.Error())
}

func settleFirst(version, what string) *fault.Fault {
	return fault.New(fault.Refused, "settle-first", "lastboard settle "+version+", then advance",
		"migration %s is open, and what it still has to change is in the way: %s", version, what)
}

// keepsNoneOpen refuses a migration of which one statement is about what another one drops.
func (p *Planner) keepsNoneOpen(m *migration.Migration, e *unsettled) *fault.Fault {
	f := fault.New(fault.Refused, "needs-overlap", "part it into two migrations; or, if no application uses the old "+
		"shape any more, add --settle",
		"%s stays until the overlap is settled, and another statement of this migration is about it: %s", e.stays(), e)
	var where *schema.Problem
	if errors.As(e.err, &where) {
		return at(m, where.Pos, f)
	}
	return f
}

// Settle plans the second stage of a migration whose overlap is open.
func (p *Planner) Settle(ctx context.Context, m *migration.Migration) (*Plan, error) {
	out := &Plan{Version: m.Version, Name: m.Name, Direction: ledger.Settle, Migration: m, Before: p.current,
		Facts: p.newFacts()}
	for i := range m.File.Statements {
		out.statement = i
		st := later(m, i, p.in.Engine.About().Traits)
		if st == nil {
			continue
		}
		supplied, rest := supplies(st)
		if alter, ok := st.(*sqltext.AlterTable); ok {
			if err := p.supplyEnds(ctx, out, alter, supplied); err != nil {
				return nil, fault.List{p.located(m, st.Start(), err)}
			}
		}
		if st = rest; st == nil {
			continue
		}
		if tableRenamed(st) != "" {
			if err := p.endsStandIn(ctx, out, st.(*sqltext.AlterTable)); err != nil {
				return nil, fault.List{p.located(m, st.Start(), err)}
			}
			continue
		}
		if pairs := schema.RenamesOf(st); len(pairs) > 0 {
			t := p.current.Table(p.tableOf(st.(*sqltext.AlterTable)))
			if t == nil {
				return nil, fault.List{at(m, st.Start(), fault.New(fault.Refused, "name-unknown", "",
					"there is no table %s any more", st.(*sqltext.AlterTable).Table))}
			}
			off := &schema.MirrorChange{Before: t, After: schema.Unmirrored(t, pairs), Pairs: pairs, Off: true, Proven: true}
			if p.in.Engine.About().MirrorsHide {
				_, change, err := schema.Apply((&schema.Delta{Tables: []*schema.Table{off.After}}).On(p.current), st,
					p.in.Engine.About().Env(nil))
				if err != nil {
					return nil, fault.List{Located(m, err)}
				}
				off.After, off.Renames = change.Table.After, true
			}
			if err := p.change(ctx, out, &schema.Change{At: st.Start(), What: "end the two names of columns of " + t.Name,
				Mirror: off}); err != nil {
				return nil, fault.List{p.located(m, st.Start(), err)}
			}
			if off.Renames {
				continue
			}
		}
		if err := p.statement(ctx, out, m, i, st, nil); err != nil {
			return nil, err
		}
	}
	if pos, err := p.mended(ctx); err != nil {
		return nil, fault.List{p.located(m, pos, err)}
	}
	p.in.Opened = slices.DeleteFunc(slices.Clone(p.in.Opened), func(o Opened) bool { return o.Version == m.Version })
	var e *unsettled
	if err := p.left(p.in.Opened); errors.As(err, &e) {
		return nil, fault.List{fault.New(fault.Refused, "settle-first", "settle both, the older one first: lastboard settle",
			"migration %s is open on the same columns: %s", e.Version, e)}
	}
	for _, s := range out.Steps {
		s.Stage = ledger.Settle
	}
	p.finish(out)
	return out, nil
}

// AgainSettle plans a settling anew from the facts of its first plan.
func AgainSettle(e engine.Engine, f *Facts, base *schema.Schema, m *migration.Migration) (*Plan, error) {
	return sound(func() (*Plan, error) { return replay(e, f, base).Settle(context.Background(), m) })
}
