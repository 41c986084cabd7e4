package postgres

import (
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// A trigger for each column supplies it where an insert leaves it out, while an overlap is open. It
// is the last of its row, so that it reads what triggers of the application's make of the others.

const supplyKind = "supply"

func supplyTrigger(t *schema.Table, column string) string {
	return mirrorName(t, lastTrigger, supplyKind, column)
}

func supplyFunction(t *schema.Table, column string) string {
	return mirrorName(t, "", supplyKind, column)
}

// suppliedBy gives the column that a trigger supplies; "" for another trigger.
func suppliedBy(t *schema.Table, tr *schema.Trigger) string {
	for _, c := range t.Columns {
		if supplyTrigger(t, c.Name) == tr.Name {
			return c.Name
		}
	}
	return ""
}

// Supplying implements engine.Planner.
func (Engine) Supplying(t *schema.Table, columns map[string]sqltext.Expr) (triggers, sql []string) {
	p := newPlanner(engine.Facts{}, t)
	for _, c := range slices.Sorted(maps.Keys(columns)) {
		triggers, sql = append(triggers, supplyTrigger(t, c)), append(sql, p.supplySQL(c, columns[c])...)
	}
	return triggers, sql
}

// CannotSupply implements engine.Planner.
func (Engine) CannotSupply(*schema.Table, sqltext.Expr) string { return "" }

// supplySQL gives the statements that make the trigger of a column.
func (p *planner) supplySQL(column string, e sqltext.Expr) []string {
	value, err := p.Expr(e, planning.Scope{Table: p.Table, Value: p.newValue})
	if err != nil {
		p.Fail(&engine.Refused{Message: err.Error()})
	}
	trigger, function := supplyTrigger(p.Table, column), name(supplyFunction(p.Table, column))
	return []string{
		"create or replace function " + function + "() returns trigger language plpgsql set search_path " + p.pathFor(e) +
			" as " + dollar("begin new."+quote(column)+" := "+value+"; return new; end"),
		"create or replace trigger " + quote(trigger) + " before insert on " + p.table() + " for each row when (new." +
			quote(column) + " is null) execute function " + function + "()",
		always(p.Table, trigger),
	}
}

// pathFor gives the search path of a function that computes an expression: that of the server alone
// where that has all that the expression needs, so that nobody can put a function of theirs in its place.
func (p *planner) pathFor(e sqltext.Expr) string {
	for _, c := range p.Sources(e) {
		if c.Type.Native || c.Declared != "" {
			return "from current"
		}
	}
	return "= pg_catalog, pg_temp"
}

// supply lets the columns that are added be supplied from now on: before they become not null.
func (p *planner) supply() {
	if len(p.Change.Supplied) == 0 {
		return
	}
	var sql, undo []string
	for _, c := range p.Change.Supplied {
		f, _ := p.FillOf(p.After.Column(c))
		sql, undo = append(sql, p.supplySQL(c, f.Expr)...), append(undo, p.noSupply(c)...)
	}
	s := p.Add(engine.Sync, 0, "supply "+strings.Join(p.Change.Supplied, ", ")+" where a program leaves it out", sql...)
	s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
	s.Why = "programs of before do not know it, and add rows until the overlap is settled"
	s.Undo = undo
}

func (p *planner) noSupply(column string) []string {
	return []string{"drop trigger if exists " + quote(supplyTrigger(p.Table, column)) + " on " + p.table(),
		"drop function if exists " + name(supplyFunction(p.Table, column)) + "()"}
}

// unsupply takes the triggers away of columns that are supplied no more, or that go.
func (p *planner) unsupply() {
	columns := slices.Sorted(maps.Keys(p.Change.Unsupplied))
	for _, c := range p.Dropped() {
		if slices.ContainsFunc(p.Table.Own, func(tr *schema.Trigger) bool { return suppliedBy(p.Table, tr) == c.Name }) {
			columns = append(columns, c.Name)
		}
	}
	var sql []string
	for _, c := range columns {
		sql = append(append(sql, p.noSupply(c)...), p.unwatch(c)...)
	}
	if len(sql) > 0 {
		s := p.Add(engine.Sync, 0, "supply "+strings.Join(columns, ", ")+" no more", sql...)
		s.Strong = []string{p.Table.Name}
	}
}
