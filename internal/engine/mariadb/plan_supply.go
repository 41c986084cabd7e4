package mariadb

import (
	"slices"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// A column is supplied, where an insert leaves it out, by a default that reads the others of its
// row, while an overlap is open. A trigger would come too late: the server refuses an insert from a
// select that leaves out a column without a default before it fires.

// supply gives a column such a default, or takes it away.
func supply(c *schema.Column, change *schema.TableChange) {
	if schema.HasName(change.Supplied, c.Name) {
		c.Default = &schema.Expr{Tree: change.Fill[c.Name].Expr}
	}
	from, ends := change.Unsupplied[c.Name]
	if !ends || c.Default == nil {
		return
	}
	reads := slices.ContainsFunc(change.Before.Columns, func(o *schema.Column) bool { return c.Default.Mentions(o.Name) })
	if reads || newPlanner(engine.Facts{}, change.Before).SameExpr(c.Default, &schema.Expr{Tree: from}) {
		c.Default = nil // no migration gives a column a default that reads others
	}
}

// Supplying implements engine.Planner.
func (Engine) Supplying(*schema.Table, map[string]sqltext.Expr) (triggers, sql []string) {
	return nil, nil
}

// CannotSupply implements engine.Planner.
func (Engine) CannotSupply(t *schema.Table, e sqltext.Expr) string {
	if newPlanner(engine.Facts{}, t).numbers(e) {
		return "it reads the number that the row gets, which no default knows"
	}
	return ""
}
