package plan

import (
	"context"
	"fmt"
	"slices"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
)

// Progress is how far a migration is that is to be taken back.
type Progress struct {
	Record *ledger.Migration
	// Steps are those of its advance; nil for one that came to its end.
	Steps []ledger.Step
}

// Retreat plans the way back of a migration, derived from the tables before and
// after each of its statements, the last first.
func (p *Planner) Retreat(ctx context.Context, m Progress) (*Plan, error) {
	out := &Plan{Version: m.Record.Version, Name: m.Record.Name, Direction: ledger.Retreat, Before: p.current}
	records, err := DecodeRecords(m.Record.Changes)
	if err != nil {
		return nil, err
	}
	for i := len(records) - 1; i >= 0; i-- {
		r := records[i]
		r.Keeps = p.present(r.Keeps)
		out.statement = i
		if r.Native != nil && r.Native.NoWayBack && begun(m.Steps, i) {
			return nil, fault.New(fault.Refused, "no-way-back", "", "migration %s says that its native statement has no way back", m.Record.Version)
		}
		change, err := p.wayBack(ctx, r, m.Steps, i)
		if err != nil {
			return nil, err
		}
		if change == nil {
			continue
		}
		if why := overlap(change); why != "" {
			out.Overlap = append(out.Overlap, why)
		}
		if err := p.change(ctx, out, change); err != nil {
			return nil, p.noWayBack(m.Record.Version, err)
		}
	}
	if _, err := p.mended(ctx); err != nil {
		return nil, p.noWayBack(m.Record.Version, err)
	}
	undo(out, m.Steps)
	p.forgetMissing(ctx, out, m.Steps)
	p.finish(out)
	return out, nil
}

// undo takes away what steps have made for later ones that never came.
func undo(out *Plan, steps []ledger.Step) {
	for _, s := range steps {
		if s.State != "waiting" && len(s.Step.Undo) > 0 {
			step := &engine.Step{
				Kind: engine.Catalog, Table: s.Step.Table, What: "let go of what was made in between", SQL: s.Step.Undo, Lock: s.Step.Lock, WritersWait: engine.WaitBriefly,
			}
			for _, k := range s.Step.Keeps {
				step.PutsBack = append(step.PutsBack, k.Kept)
			}
			out.Steps = append(out.Steps, step)
		}
	}
}

// forgetMissing lets go of what steps were stopped at: of what was to be kept before there
// was a place for it, and of what was put back when that place had gone already.
func (p *Planner) forgetMissing(ctx context.Context, out *Plan, steps []ledger.Step) {
	var list []string
	for _, s := range steps {
		if s.State == "waiting" || s.State == "done" {
			continue
		}
		tables := slices.Clone(s.Step.PutsBack)
		for _, k := range s.Step.Keeps {
			tables = append(tables, k.Kept)
		}
		for _, t := range tables {
			back := slices.ContainsFunc(out.Steps, func(o *engine.Step) bool { return slices.Contains(o.PutsBack, t) })
			if !back && !p.exists(ctx, t) {
				list = append(list, t)
			}
		}
	}
	if len(list) > 0 {
		out.Steps = append(out.Steps, &engine.Step{Kind: engine.Catalog, What: "forget what is not kept", Lock: "none", WritersWait: engine.WaitNo, PutsBack: list})
	}
}

// exists reports whether there is a table of kept values.
func (p *Planner) exists(ctx context.Context, table string) bool {
	_, err := p.in.DB.Query(ctx, "select 1 from "+table+" limit 1")
	return err == nil
}

// present leaves out what was discarded since.
func (p *Planner) present(keeps []*engine.Keeping) []*engine.Keeping {
	return slices.DeleteFunc(keeps, func(k *engine.Keeping) bool {
		return !slices.ContainsFunc(p.in.Kept, func(o ledger.Kept) bool { return o.Keeping.Kept == k.Kept })
	})
}

// noWayBack says of an error that it keeps a migration from being taken back.
func (p *Planner) noWayBack(version string, err error) *fault.Fault {
	f := p.located(&migration.Migration{File: &sqltext.File{}}, sqltext.Pos{}, err)
	f.Where = fault.Where{}
	f.Message = fmt.Sprintf("migration %s cannot be taken back: %s", version, f.Message)
	return f
}

// wayBack gives the change that takes one record back, as far as it came.
func (p *Planner) wayBack(ctx context.Context, r *Record, steps []ledger.Step, i int) (*schema.Change, error) {
	switch {
	case steps == nil || finished(steps, i):
		return r.inverse(p.current)
	case !begun(steps, i), r.Insert != nil && !wrote(steps, i):
		return nil, nil
	}
	there := func(table string) bool { return p.exists(ctx, table) }
	gone := slices.ContainsFunc(steps, func(s ledger.Step) bool {
		return s.Step.Change == i && slices.ContainsFunc(s.Step.PutsBack, func(t string) bool { return !there(t) })
	})
	return r.partial(p.current, gone, there)
}

func finished(steps []ledger.Step, change int) bool {
	return !slices.ContainsFunc(steps, func(s ledger.Step) bool { return s.Step.Change == change && s.State != "done" })
}

// begun reports whether any step of a change has changed something.
func begun(steps []ledger.Step, change int) bool {
	return steps == nil || slices.ContainsFunc(steps, func(s ledger.Step) bool {
		return s.Step.Change == change && s.Step.Proof == nil && (s.State != "waiting" || s.Rows > 0)
	})
}

// wrote reports whether a step of a change that writes rows has come to its end: that is
// one transaction.
func wrote(steps []ledger.Step, change int) bool {
	return slices.ContainsFunc(steps, func(s ledger.Step) bool {
		return s.Step.Change == change && s.Step.Kind == engine.Backfill && s.Step.Outside == nil && s.State == "done"
	})
}

// useKept lets a migration that comes again unchanged put back what its retreat
// kept: values that applications had written since.
func (p *Planner) useKept(m *migration.Migration, statement int, c *schema.TableChange) {
	for _, k := range p.in.Kept {
		if !keptOf(k, m, statement, c.After.Name) {
			continue
		}
		switch {
		case c.Before == nil && k.Keeping.What == engine.KeptTable:
			c.Rows = &schema.Kept{Table: k.Keeping.Kept}
		case c.Before != nil && k.Keeping.What == engine.KeptColumn:
			p.useKeptColumns(c, k.Keeping, "")
		case c.Before != nil && k.Keeping.What == engine.KeptConverted:
			p.useKeptColumns(c, k.Keeping, "w1")
		}
	}
}

// keptOf reports whether the retreat of a migration kept something of a statement's
// table, and the migration is unchanged.
func keptOf(k ledger.Kept, m *migration.Migration, statement int, table string) bool {
	return k.Version == m.Version && k.Direction == ledger.Retreat && k.Checksum == m.Checksum() && k.Keeping.Statement == statement &&
		schema.SameName(k.Keeping.Table, table)
}

// useKeptRows lets a migration that comes again unchanged insert the rows as they
// were when its retreat took them away.
func (p *Planner) useKeptRows(m *migration.Migration, statement int, c *schema.InsertChange) {
	for _, k := range p.in.Kept {
		if keptOf(k, m, statement, c.Table.Name) && k.Keeping.What == engine.KeptRows {
			c.PutBack = &schema.Kept{Table: k.Keeping.Kept, Keys: k.Keeping.Keys}
		}
	}
}

func (p *Planner) useKeptColumns(c *schema.TableChange, k engine.Keeping, wrote string) {
	keys := make([]string, len(k.Keys))
	for i, key := range k.Keys {
		from, ok := c.From[key]
		if !ok {
			return // the key itself is new
		}
		keys[i] = from
	}
	for i, column := range k.Columns {
		col := c.After.Column(column)
		from, old := c.From[column]
		if col == nil || col.Generated != nil || old && wrote == "" && c.Before.Column(from).Generated == nil {
			continue
		}
		fill := c.Fill[column]
		if wrote != "" && (!old || fill.Expr == nil) {
			continue
		}
		fill.Kept = &schema.Kept{Table: k.Kept, Keys: keys, Column: fmt.Sprintf("o%d", i+1), Wrote: wrote}
		c.Fill[column] = fill
	}
}
