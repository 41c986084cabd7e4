package postgres

import (
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// While an overlap is open, a view stands for a renamed table under its old name. It has the rights of
// the table, and acts with those of the table's owner, as columns with rights of their own want.

// standIn makes the view in the transaction that renames the table, or takes it away first.
func (p *planner) standIn(s *engine.Step) {
	if n := p.Change.NoStandIn; n != "" {
		s.SQL = append([]string{"drop view if exists " + name(n)}, s.SQL...)
		s.What += ", for which a view stood"
	}
	if n := p.Change.StandIn; n != "" {
		view, final := &schema.Table{Name: n}, p.Change.After
		s.SQL = append(s.SQL, captureRights(final, view),
			"create view "+name(n)+" as select "+quoteAll(final.ColumnNames())+" from "+name(final.Name), giveRights(view))
		s.What += ", and let a view stand for it"
		s.Why = "programs of before use the old name until the overlap is settled"
	}
}

// CannotStandIn implements engine.Planner.
func (Engine) CannotStandIn(t *schema.Table) string {
	if t.Options["row security"] != "" {
		return "it has row security, which would be asked of the view's owner"
	}
	return ""
}
