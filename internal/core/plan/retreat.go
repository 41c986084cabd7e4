package plan

import (
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

// Progress is how far a migration is that is to be taken back.
type Progress struct {
	Record *ledger.Migration
	// Steps are those of its advance; nil for one that came to its end.
	Steps []ledger.Step
}

// ProgressOf reads how far a migration is: all of it, or what a stopped run has done.
func ProgressOf(ctx context.Context, l *ledger.Ledger, known *ledger.Migration) (Progress, error) {
	p := Progress{Record: known}
	if known.State != ledger.Running && known.State != ledger.Stopped {
		return p, nil
	}
	var err error
	if p.Steps, err = l.Steps(ctx, known.Version, ledger.Advance); err != nil {
		return p, err
	}
	for i, s := range p.Steps {
		if s.Step.Batch == nil {
			continue
		}
		_, _, rows, begun, err := l.Checkpoint(ctx, known.Version, ledger.Advance, s.Step.Number)
		if err != nil {
			return p, err
		}
		if begun { // whatever it has come to
			p.Steps[i].Rows = max(rows, 1)
		}
	}
	return p, nil
}

// Rest gives what is left of a run that has stopped, as it was recorded.
func Rest(ctx context.Context, l *ledger.Ledger, known *ledger.Migration, about *engine.About) (*Plan, error) {
	out := &Plan{Version: known.Version, Name: known.Name, Direction: known.Direction, about: about}
	steps, err := l.Steps(ctx, known.Version, known.Direction)
	for _, s := range steps {
		if s.State != "done" {
			out.Steps = append(out.Steps, s.Step)
		}
	}
	return out, err
}

// Retreat plans the way back of a migration, derived from the tables before and
// after each of its statements, the last first.
func (p *Planner) Retreat(ctx context.Context, m Progress) (*Plan, error) {
	out := &Plan{Version: m.Record.Version, Name: m.Record.Name, Direction: ledger.Retreat, Before: p.current,
		Facts: p.newFacts()}
	out.Facts.Steps = m.Steps
	records, err := DecodeRecords(m.Record.Changes)
	if err != nil {
		return nil, err
	}
	for i := len(records) - 1; i >= 0; i-- {
		r := records[i]
		if m.Steps == nil {
			r = p.rebased(r)
		}
		r.Keeps = p.present(r.Keeps)
		if out.statement = i; r.Stage != "" {
			out.statement = r.Statement
		}
		if r.Native != nil && r.Native.NoWayBack && begun(m.Steps, i) {
			return nil, NoWayBack(m.Record.Version)
		}
		change, err := p.wayBack(ctx, out, r, m.Steps, i)
		if err != nil {
			return nil, err
		}
		if change == nil {
			continue
		}
		if change.Table != nil && r.Linked {
			if change.Table.Unlinked, err = unlinked(records[i:]); err != nil {
				return nil, err
			}
		}
		open := r.Linked && m.Record.State != ledger.Settled // what goes is in the others
		if why := overlap(change); why != "" && !open && (m.Steps == nil || !takesOnly(change)) {
			out.Overlap = append(out.Overlap, why)
		}
		if change.Table != nil && change.Table.NoStandIn != "" {
			out.StandIns = append(out.StandIns, change.Table.NoStandIn)
		}
		before := p.current
		if err := p.change(ctx, out, change); err != nil {
			return nil, p.noWayBack(m.Record.Version, err)
		}
		if change.Native != nil {
			if err := p.keepsRows(ctx, m.Record.Version, change.Native.SQL, before); err != nil {
				return nil, err
			}
		}
	}
	if _, err := p.mended(ctx); err != nil {
		return nil, p.noWayBack(m.Record.Version, err)
	}
	for _, s := range m.Steps {
		out.Steps = append(out.Steps, Undo(s)...)
	}
	if err := p.forgetMissing(ctx, out, m.Steps); err != nil {
		return nil, err
	}
	p.finish(out)
	return out, nil
}

// takesOnly reports whether a change does nothing but take away what was added. Of a migration that has not come
// to its end nobody uses that yet.
func takesOnly(c *schema.Change) bool {
	t := c.Table
	return t != nil && (t.After == nil || len(t.Renamed()) == 0 && len(t.Converted()) == 0 &&
		t.After.Name == t.Before.Name)
}

// keepsRows refuses a native way back that would take rows or values along of which nothing
// is kept. before is the tables that it finds.
func (p *Planner) keepsRows(ctx context.Context, version, sql string, before *schema.Schema) error {
	if p.told != nil {
		return nil
	}
	lost := func(format string, args ...any) error {
		return fault.New(fault.Refused, "rows-would-go", "bring them elsewhere and delete them here, then retreat again",
			"the statement that takes migration %s back would drop %s, and nothing of that is kept", version,
			fmt.Sprintf(format, args...))
	}
	for _, t := range before.Tables {
		after := p.current.Table(t.Name)
		if after == t || after != nil && !dropsTable(sql, t.Name) && slices.Equal(t.ColumnNames(), after.ColumnNames()) {
			continue
		}
		if there, err := p.in.DB.HasTable(ctx, t.Name); err != nil || !there {
			return err // it has another name until a later migration is taken back
		}
		rows, err := p.in.DB.Sample(ctx, t, nil, 1)
		if err != nil {
			return err
		}
		switch {
		case len(rows.Values) == 0:
			continue
		case after == nil || dropsTable(sql, t.Name):
			return lost("table %s with its rows", t.Name)
		}
		nulls, err := p.in.DB.Nulls(ctx, t)
		if err != nil {
			return err
		}
		count, _, err := p.in.DB.Count(ctx, t.Name, false)
		if err != nil {
			return err
		}
		for i, c := range t.Columns {
			if after.Column(c.Name) == nil && c.Generated == nil && nulls[i] < count {
				return lost("column %s of %s with its values", c.Name, t.Name)
			}
		}
	}
	return nil
}

// dropsTable reports whether a statement as it is written drops a table: one that was not
// tried shows nothing of what it does.
func dropsTable(sql, table string) bool {
	tokens, _ := sqltext.Scan(sql, sqltext.Engine)
	dropping := false
	for i, t := range tokens {
		switch {
		case t.Is("table") && i > 0 && tokens[i-1].Is("drop"):
			dropping = true
		case t.Is(";"):
			dropping = false
		case dropping && (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && schema.SameName(t.Value, tableName(table)):
			return true
		}
	}
	return false
}

// tableName gives the name of a table without that of its schema.
func tableName(table string) string { return table[strings.LastIndex(table, ".")+1:] }

// Undo gives the steps that take away what a step has made for later ones that never came.
func Undo(s ledger.Step) (list []*engine.Step) {
	if o := s.Step.Outside; o != nil && o.GoesOn && s.State != "waiting" && s.State != "done" {
		step := &engine.Step{Kind: engine.Catalog, Table: s.Step.Table, What: "take away what is half built",
			Lock: s.Step.Lock, WritersWait: engine.WaitBriefly, Strong: s.Step.Strong,
			Outside: &engine.Outside{Statements: o.Clean}}
		for _, st := range o.Clean {
			step.SQL = append(step.SQL, st.SQL)
		}
		list = append(list, step)
	}
	if s.State != "waiting" && len(s.Step.Undo) > 0 {
		step := &engine.Step{
			Kind: engine.Catalog, Table: s.Step.Table, What: "let go of what was made in between", SQL: s.Step.Undo,
			Lock: s.Step.Lock, WritersWait: engine.WaitBriefly,
		}
		for _, k := range s.Step.Keeps {
			step.PutsBack = append(step.PutsBack, k.Kept)
		}
		list = append(list, step)
	}
	return list
}

// forgetMissing lets go of what steps were stopped at: of what was to be kept before there
// was a place for it, and of what was put back when that place had gone already, or was about
// to, without what follows the rows.
func (p *Planner) forgetMissing(ctx context.Context, out *Plan, steps []ledger.Step) error {
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
			if back {
				continue
			}
			there, err := p.there(ctx, out, t)
			if err != nil {
				return err
			}
			switch {
			case !there:
				list = append(list, t)
			case slices.Equal(s.Step.SQL, p.in.Engine.Forget(&engine.Keeping{Kept: t})):
				out.Steps = append(out.Steps, &engine.Step{Kind: engine.Catalog, Table: s.Step.Table, What: s.Step.What,
					SQL: s.Step.SQL, Lock: s.Step.Lock, WritersWait: s.Step.WritersWait, PutsBack: []string{t}})
			}
		}
	}
	if len(list) > 0 {
		out.Steps = append(out.Steps, &engine.Step{Kind: engine.Catalog, What: "forget what is not kept", Lock: "none",
			WritersWait: engine.WaitNo, PutsBack: list})
	}
	return nil
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

// NoWayBack is the refusal to take a migration back whose native statement has no way back.
func NoWayBack(version string) *fault.Fault {
	return fault.New(fault.Refused, "no-way-back", "", "migration %s says that its native statement has no way back",
		version)
}

// wayBack gives the change that takes one record back, as far as it came.
func (p *Planner) wayBack(ctx context.Context, out *Plan, r *Record, steps []ledger.Step,
	i int) (*schema.Change, error) {
	switch {
	case steps == nil || finished(steps, i), (r.Mirror != nil || r.Watch != nil || r.Swap != nil) && begun(steps, i):
		return r.inverse(p.current, p.in.Engine)
	case !begun(steps, i), r.Insert != nil && !wrote(steps, i):
		return nil, nil
	}
	var failed error
	there := func(table string) bool {
		found, err := p.there(ctx, out, table)
		failed = errors.Join(failed, err)
		return found
	}
	gone := slices.ContainsFunc(steps, func(s ledger.Step) bool {
		return s.Step.Change == i && slices.ContainsFunc(s.Step.PutsBack, func(t string) bool { return !there(t) })
	})
	change, err := r.partial(p.current, p.in.Engine, gone, there)
	return change, errors.Join(failed, err)
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
	return k.Version == m.Version && k.Direction == ledger.Retreat && k.Checksum == m.Checksum() &&
		k.Keeping.Statement == statement &&
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
	if c.Before.Key() == nil {
		return // the retreat took the key away by which a row would be known
	}
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
