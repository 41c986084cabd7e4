package plan

import (
	"context"
	"errors"
	"slices"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Advance plans a migration. The error is a [fault.List] for what is wrong with
// the migration.
func (p *Planner) Advance(ctx context.Context, m *migration.Migration) (*Plan, error) {
	out := &Plan{Version: m.Version, Name: m.Name, Direction: ledger.Advance, Migration: m, Before: p.current,
		Facts: p.newFacts()}
	if f := Undecided(m); f != nil {
		return nil, fault.List{f}
	}
	if o, what := inTheWay(m, p.in.Opened); o != nil {
		return nil, fault.List{settleFirst(o.Version, what)}
	}
	for i, st := range m.File.Statements {
		out.statement = i
		if own := (Opened{m.Version, out.Later}); own.spokenOf(st) != "" {
			return nil, fault.List{p.keepsNoneOpen(m, &unsettled{own,
				&schema.Problem{Pos: st.Start(), Message: own.spokenOf(st)}})}
		}
		later, err := p.leaves(ctx, out, m, i)
		if err != nil {
			return nil, fault.List{p.located(m, st.Start(), err)}
		}
		if later != nil {
			if _, _, err := schema.Apply(p.current, st, p.in.Engine.About().Env(m.CSV)); err != nil && len(out.Later) == 0 {
				return nil, fault.List{Located(m, err)}
			}
			out.Later = append(out.Later, later)
			if st, err := p.opens(ctx, out, m, st); err != nil {
				return nil, fault.List{p.located(m, st.Start(), err)}
			}
		} else if err := p.statement(ctx, out, m, i, st, nil); err != nil {
			return nil, err
		}
		if f := p.otherMeaning(m, st); f != nil {
			return nil, fault.List{f}
		}
	}
	if pos, err := p.mended(ctx); err != nil {
		return nil, fault.List{p.located(m, pos, err)}
	}
	var e *unsettled
	if err := p.left(p.in.Opened); errors.As(err, &e) {
		return nil, fault.List{e.fault()}
	}
	if len(out.Later) > 0 {
		own := Opened{m.Version, out.Later}
		if err := p.left([]Opened{own}); errors.As(err, &e) {
			return nil, fault.List{p.keepsNoneOpen(m, e)}
		}
		p.in.Opened = append(slices.Clone(p.in.Opened), own)
		out.Facts.Opens = true
	}
	p.finish(out)
	return out, nil
}

// statement plans one statement of a migration. The columns that are supplied until its overlap is
// settled are among those that it adds.
func (p *Planner) statement(ctx context.Context, out *Plan, m *migration.Migration, i int, st sqltext.Statement,
	supplied []string) error {
	_, change, err := schema.Apply(p.current, st, p.in.Engine.About().Env(m.CSV))
	if err != nil {
		if len(out.Later) > 0 { // it may be about what is dropped only later
			return fault.List{p.keepsNoneOpen(m, &unsettled{Opened{m.Version, out.Later}, err})}
		}
		return fault.List{Located(m, err)}
	}
	if change.Table != nil && change.Table.After != nil {
		change.Table.Supplied = supplied
		change.Table.After = p.in.Engine.Holds(change.Table)
		p.useKept(m, i, change.Table)
	}
	if change.Insert != nil {
		p.useKeptRows(m, i, change.Insert)
	}
	if err := p.change(ctx, out, change); err != nil {
		return fault.List{p.located(m, st.Start(), err)}
	}
	if err := p.warn(ctx, out, m, st, change); err != nil {
		return err
	}
	if why := overlap(change); why != "" && out.Direction == ledger.Advance {
		out.Overlap = append(out.Overlap, why)
	}
	return nil
}
