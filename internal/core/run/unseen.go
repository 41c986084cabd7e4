package run

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// unseen asserts, before a table is copied and once nobody else can change it, that it has
// nothing which the plan did not know: the copy would not have it.
func (r *Runner) unseen(ctx context.Context, tx engine.Tx, p *progress, s *engine.Step) error {
	if s.Kind != engine.Rebuild {
		return nil
	}
	known, err := r.knownTables(p, s.Table)
	if err != nil || known == nil {
		return err
	}
	now, err := tx.Schema(ctx)
	if err != nil {
		return err
	}
	table := now.Table(s.Table)
	if table == nil {
		return nil // and the step says so
	}
	for _, part := range parts(table) {
		if !strings.Contains(part, " "+engine.Prefix) && !slices.ContainsFunc(known, func(t *schema.Table) bool {
			return slices.Contains(parts(t), part)
		}) {
			return fault.New(fault.Refused, "changed-by-hand", "take it away, and make it again afterwards",
				"somebody has given table %s a %s meanwhile, and a copy of the table would not have it", s.Table, part)
		}
	}
	return nil
}

// knownTables gives a table as it was in turn while the run was planned; none where that was not
// recorded.
func (r *Runner) knownTables(p *progress, name string) (list []*schema.Table, err error) {
	if p.from == nil && p.facts != nil {
		f := &plan.Facts{}
		if err := ledger.Decode(p.facts, f); err != nil {
			return nil, err
		}
		p.from = f
	}
	if p.from == nil {
		return nil, nil
	}
	if text, ok := r.tables.stored[model("table", name)]; ok {
		t := &schema.Table{}
		if err := ledger.Decode([]byte(text), t); err != nil {
			return nil, fmt.Errorf("table %s in the ledger: %w", name, err)
		}
		list = append(list, t)
	}
	deltas := []*schema.Delta{p.from.Before}
	for _, c := range p.from.Changes {
		deltas = append(deltas, c.After)
	}
	for _, d := range deltas {
		if d == nil {
			continue
		}
		for _, t := range d.Tables {
			if schema.SameName(t.Name, name) {
				list = append(list, t)
			}
		}
	}
	return list, nil
}

// parts names what a table is made of.
func parts(t *schema.Table) (list []string) {
	add := func(kind, name string) { list = append(list, kind+" "+strings.ToLower(name)) }
	for _, c := range t.Columns {
		add("column", c.Name)
	}
	for _, k := range t.Uniques {
		add("constraint", k.Name)
	}
	for _, k := range t.Checks {
		add("constraint", k.Name)
	}
	for _, k := range t.ForeignKeys {
		add("constraint", k.Name)
	}
	for _, x := range t.Indexes {
		add("index", x.Name)
	}
	for _, tr := range t.Triggers {
		add("trigger", tr.Name)
	}
	return list
}
