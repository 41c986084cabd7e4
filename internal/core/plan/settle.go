package plan

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

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
			if alter, ok := whole.(*sqltext.AlterTable); ok && Linked(alter) {
				old, fresh, _ := linkedColumns(alter)
				if t := now.Table(p.tableOf(alter)); t == nil || slices.ContainsFunc(append(old, fresh...),
					func(c string) bool { return t.Column(c) == nil }) {
					return &unsettled{o, errors.New("it would not be there any more")}
				}
				continue
			}
			if alter, ok := st.(*sqltext.AlterTable); ok && len(retyped(alter)) > 0 {
				if t := now.Table(p.tableOf(alter)); t == nil || slices.ContainsFunc(retyped(alter),
					func(c string) bool { return t.Column(c) == nil }) {
					return &unsettled{o, errors.New("it would not be there any more")}
				}
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
		if alter, ok := st.(*sqltext.AlterTable); ok && Linked(alter) {
			if err := p.endsLink(ctx, out, alter); err != nil {
				return nil, fault.List{p.located(m, st.Start(), err)}
			}
			continue
		}
		if alter, ok := st.(*sqltext.AlterTable); ok && len(retyped(alter)) > 0 {
			if err := p.endsSwap(ctx, out, alter); err != nil {
				return nil, fault.List{p.located(m, st.Start(), err)}
			}
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
			if p.in.Engine.About().MirrorsTurn {
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
