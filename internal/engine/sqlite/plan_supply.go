package sqlite

import (
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// A column is supplied, where an insert leaves it out, once the row stands, while an overlap is open: the
// engine would refuse the row before any trigger fires. Until it is settled the column may be null, and a
// second trigger refuses the null that the engine would have refused.

const (
	supplySuffix = "_supply"

	supplyInsert = "insert" // what the triggers are called by
	supplyNull   = "null"
)

func supplyTrigger(t *schema.Table, column, kind string) string {
	return planning.TriggerName(t, strings.TrimPrefix(supplySuffix, "_"), column, kind)
}

// Supplying implements engine.Planner.
func (Engine) Supplying(t *schema.Table, columns map[string]sqltext.Expr) (triggers, sql []string) {
	p := newPlanner(engine.Facts{}, t)
	for _, c := range slices.Sorted(maps.Keys(columns)) {
		triggers = append(triggers, supplyTrigger(t, c, supplyInsert), supplyTrigger(t, c, supplyNull))
		sql = append(sql, p.supplySQL(c, columns[c])...)
	}
	return triggers, sql
}

// CannotSupply implements engine.Planner.
func (Engine) CannotSupply(*schema.Table, sqltext.Expr) string { return "" }

// supplySQL gives the statements that make the triggers of a column.
func (p *planner) supplySQL(column string, e sqltext.Expr) []string {
	t, c, row := quote(p.Table.Name), quote(column), p.thisRow()
	null := "select raise(abort, " + literal("NOT NULL constraint failed: "+p.Table.Name+"."+column) + ") from " + t +
		" where " + row + " and " + c + " is null; "
	return []string{
		"create trigger " + quote(supplyTrigger(p.Table, column, supplyInsert)) + " after insert on " + t + " when new." + c +
			" is null begin update " + t + " set " + c + " = " + p.Render(e, planning.Computed) + " where " + row + " and " + c +
			" is null; " + null + "end",
		"create trigger " + quote(supplyTrigger(p.Table, column, supplyNull)) + " after update of " + c + " on " + t +
			" when new." + c + " is null begin " + null + "end",
	}
}

func (p *planner) noSupply(column string) []string {
	return dropTriggers([]string{supplyTrigger(p.Table, column, supplyInsert), supplyTrigger(p.Table, column, supplyNull)})
}

// supply lets a column be supplied from now on. Rows that have come since it was filled get their values in
// the same transaction: nobody else writes then.
func (p *planner) supply(c *schema.Column) {
	f, _ := p.FillOf(c)
	table, null := quote(p.Table.Name), " where "+quote(c.Name)+" is null"
	late := "update " + table + " set " + quote(c.Name) + " = " + p.Render(f.Expr, planning.Computed) + null
	sql := slices.Concat(quietly(p.Table, []string{late}), p.supplySQL(c.Name, f.Expr),
		[]string{"select " + literal("a row has no "+c.Name) + " from " + table + null + " limit 1"})
	s := p.Add(engine.Scan, scanRate, "supply "+c.Name+" where a program leaves it out", sql...)
	s.Why = "programs of before do not know it, and add rows until the overlap is settled"
	s.Undo = p.noSupply(c.Name)
}

// unsupply takes the triggers away of columns that are supplied no more: they are not null from then on.
func (p *planner) unsupply(name string) {
	for _, c := range slices.Sorted(maps.Keys(p.Change.Unsupplied)) {
		p.Add(engine.Scan, scanRate, "supply "+c+" no more", append(p.noSupply(c),
			"alter table "+name+" alter column "+quote(c)+" set not null")...)
	}
}
