package plan

import (
	"context"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// A table that is renamed on a live database keeps its old name beside the new one until its
// migration is settled: a view stands for it, through which programs of before read and write.

// tableRenamed gives the name that a statement gives a table, where it does nothing else; "" for
// another statement.
func tableRenamed(st sqltext.Statement) string {
	if st, ok := st.(*sqltext.AlterTable); ok && len(st.Actions) == 1 {
		if r, ok := st.Actions[0].(*sqltext.RenameTable); ok {
			return r.To
		}
	}
	return ""
}

// renamedTable gives a table by the name that an alter gives it; nil where there is none.
func (p *Planner) renamedTable(st *sqltext.AlterTable) *schema.Table {
	to := &sqltext.AlterTable{Table: st.Table}
	to.Table.Name = tableRenamed(st)
	return p.current.Table(p.tableOf(to))
}

// opensStandIn plans that a table gets its new name, and a view the old one.
func (p *Planner) opensStandIn(ctx context.Context, out *Plan, m *migration.Migration, st *sqltext.AlterTable) error {
	t := p.current.Table(p.tableOf(st))
	if why := p.in.Engine.CannotStandIn(t); why != "" {
		return &schema.Problem{Pos: st.At, Rule: "needs-overlap", Message: "table " + t.Name +
			" cannot keep its old name while programs of before run: " + why,
			Cure: "if no application uses the old name any more, add --settle"}
	}
	_, change, err := schema.Apply(p.current, st, p.in.Engine.About().Env(nil))
	if err != nil {
		return fault.List{Located(m, err)}
	}
	change.Table.StandIn = t.Name
	change.Table.After = p.in.Engine.Holds(change.Table)
	if err := p.change(ctx, out, change); err != nil {
		return err
	}
	f := at(m, st.Start(), fault.New(0, "view-stands-in", "let programs that do such things use the new name first",
		"until it is settled, %s is a view: what no view takes fails under that name, as truncate and what names its "+
			"constraints do", t.Name))
	f.Level = fault.Note
	out.Warnings = append(out.Warnings, f)
	return nil
}

// endsStandIn plans that the view goes.
func (p *Planner) endsStandIn(ctx context.Context, out *Plan, st *sqltext.AlterTable) error {
	view := p.current.View(p.tableOf(st))
	if view == nil {
		return nil // somebody has taken it away
	}
	out.StandIns = append(out.StandIns, view.Name)
	return p.change(ctx, out, &schema.Change{At: st.Start(), What: "end the old name of " + tableRenamed(st),
		View: &schema.ViewChange{Before: view}})
}
