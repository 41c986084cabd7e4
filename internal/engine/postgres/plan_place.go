package postgres

import (
	"fmt"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
)

// instantDefault reports whether the server can give a default to every row without
// writing one: it is the same for all.
func instantDefault(c *schema.Column) bool {
	e := c.Default
	if e == nil {
		return true
	}
	if e.Tree == nil {
		return false
	}
	steady := true
	sqltext.Walk(e.Tree, func(x sqltext.Expr) bool {
		if _, call := x.(*sqltext.Call); call {
			steady = false
		}
		return steady
	})
	return steady
}

// addColumns adds columns without reading a row, where the server can.
func (p *planner) addColumns() {
	for _, c := range p.After.Columns {
		if p.From(c) != nil || p.Table.Column(c.Name) != nil {
			continue
		}
		p.addColumn(c)
	}
}

// addColumn adds one column as far as that is metadata; the rest follows once its rows
// have their values.
func (p *planner) addColumn(c *schema.Column) {
	def := *c
	_, filled := p.FillOf(c)
	def.Limit = ""
	switch {
	case c.Generated != nil:
		s := p.alterTable(engine.Rewrite, rewriteRate, "add column "+c.Name, "add column "+columnSQL(p.After, &def))
		s.Why = "the server writes every row anew to store a computed column"
		s.Preview = p.PreviewAdded()
		return
	case c.Identity != nil:
		s := p.alterTable(engine.Rewrite, rewriteRate, "add column "+c.Name, "add column "+columnSQL(p.After, &def))
		s.Why = "the server writes every row anew to number it"
		return
	case filled || !instantDefault(c):
		def.NotNull = false
	}
	var after []string
	if filled || !instantDefault(c) {
		if c.Default != nil {
			after = append(after, "alter table "+p.table()+" alter column "+quote(c.Name)+" set default "+defaultSQL(p.After, *c.Default))
		}
		def.Default = nil
	}
	s := p.alterTable(engine.Catalog, 0, "add column "+c.Name, "add column "+columnSQL(p.After, &def))
	s.SQL = append(s.SQL, after...)
}

// fill gives existing rows their values.
func (p *planner) fill() {
	var sets, names, values []string
	follow := true
	for _, c := range p.After.Columns {
		if p.From(c) != nil {
			continue
		}
		value, ok := p.filling(c)
		if !ok {
			continue
		}
		if p.followed() { // what an application has written meanwhile stays
			value = "coalesce(" + quote(c.Name) + ", " + value + ")"
		}
		f, _ := p.FillOf(c)
		follow = follow && f.Kept == nil && (f.Expr == nil || !sqltext.HasSubquery(f.Expr))
		sets, names, values = append(sets, quote(c.Name)+" = "+value), append(names, c.Name), append(values, value)
	}
	if len(sets) > 0 {
		if p.followed() && follow {
			p.fillNew()
		}
		s := p.Update("fill "+strings.Join(names, ", "), "update "+p.table()+" set "+strings.Join(sets, ", ")+" where "+engine.Range)
		s.Preview = p.PreviewAdded()
		if p.Cursor(p.Table) == nil && !p.Short(updateRate) {
			p.walkPlaces(s, names, values)
		}
	}
	for _, c := range p.After.Columns {
		if f, ok := p.FillOf(c); ok && f.OnlyNull {
			p.fillNulls(c, f)
		}
	}
}

// walkPlaces lets a fill of added columns walk a table without a key in the order in
// which its rows lie. A row that is written gets another place, perhaps ahead: it is known
// by its values. One that somebody else moves back meanwhile is looked for at the end.
func (p *planner) walkPlaces(s *engine.Step, names, values []string) {
	var empty, missed []string
	for i, n := range names {
		empty = append(empty, quote(n)+" is null")
		missed = append(missed, "("+quote(n)+" is null and "+values[i]+" is not null)")
	}
	update, _, _ := strings.Cut(s.SQL[0], " where ")
	p.InBatches(s, &engine.Batch{
		Keys:  []string{"ctid"},
		Upper: "select '(' || pg_relation_size(to_regclass(" + literal(p.table()) + ")) / current_setting('block_size')::bigint || ',0)'",
		Next:  "select cast(max(ctid) as text) from (select ctid from " + p.table() + " where " + engine.Range + " limit ? + 1) b having max(ctid) is not null",
		Do:    []string{update + " where " + engine.Range + " and (" + strings.Join(empty, " or ") + ")"},
	})
	p.Add(engine.Backfill, scanRate, "fill rows that were moved meanwhile", update+" where "+strings.Join(missed, " or ")).Alone = true
}

// filling gives what existing rows get in an added column, as SQL; ok is false when the
// column itself has come with it.
func (p *planner) filling(c *schema.Column) (string, bool) {
	f, filled := p.FillOf(c)
	switch {
	case c.Generated != nil || c.Identity != nil:
		return "", false
	case filled && (f.Kept != nil || f.Expr != nil):
		value, _ := p.Value(c, planning.Computed)
		return value, true
	case !instantDefault(c):
		return p.DefaultValue(c), true
	}
	return "", false
}

// fillNulls fills the rows that have null, and remembers which they were.
func (p *planner) fillNulls(c *schema.Column, f schema.Fill) {
	value := p.Render(f.Expr, planning.Computed)
	where := " where " + engine.Range + " and " + quote(c.Name) + " is null"
	remember := p.RememberNulls(c, value, where)
	p.Update("fill "+c.Name+" where it is null", append(remember, "update "+p.table()+" set "+quote(c.Name)+" = "+value+where)...)
}

// followed reports whether rows can come while the fill goes on.
func (p *planner) followed() bool { return p.Facts.Live && !p.Short(updateRate) }

// fillFunction names the trigger that fills rows which come while a fill goes on.
func (p *planner) fillFunction() string {
	return schema.ConstraintName(&schema.Table{Name: engine.Prefix + tableOf(p.Table).Name}, nil, "fill")
}

// fillNew lets rows that come meanwhile get their values as they come.
func (p *planner) fillNew() {
	trigger := p.fillFunction()
	function := name(trigger)
	var body []string
	for _, c := range p.After.Columns {
		if _, ok := p.filling(c); !ok || p.From(c) != nil {
			continue
		}
		f, filled := p.FillOf(c)
		e := f.Expr
		if !filled {
			e = c.Default.Tree
		}
		if e == nil {
			continue
		}
		value, err := p.Expr(e, planning.Scope{Table: p.Table, Value: p.newValue})
		if err != nil {
			p.Fail(&engine.Refused{Message: err.Error()})
		}
		body = append(body, "if new."+quote(c.Name)+" is null then new."+quote(c.Name)+" := "+value+"; end if;")
	}
	when := "insert"
	if p.Cursor(p.Table) == nil {
		when += " or update" // such a row gets another place, which the walk may have passed
	}
	s := p.Add(engine.Sync, 0, "fill rows that come meanwhile",
		"create or replace function "+function+"() returns trigger language plpgsql set search_path from current as $lastboard$ begin "+strings.Join(body, " ")+" return new; end $lastboard$",
		"create trigger "+quote(trigger)+" before "+when+" on "+p.table()+" for each row execute function "+function+"()")
	s.Lock, s.Strong = lockWriters, []string{p.Table.Name}
	s.Why = "an application that does not know the column yet leaves it out"
	s.Undo = p.fillEnd()
	p.filler = true
}

// newValue gives what a column of a row that comes has; computed ones are computed
// after the trigger, so it computes them itself.
func (p *planner) newValue(column string) string {
	c := p.Table.Column(column)
	if c.Generated != nil && c.Generated.Expr.Tree != nil {
		text, err := p.Expr(c.Generated.Expr.Tree, planning.Scope{Table: p.Table, Value: p.newValue})
		if err != nil {
			p.Fail(&engine.Refused{Message: err.Error()})
		}
		return text
	}
	return "new." + quote(column)
}

func (p *planner) fillEnd() []string {
	trigger := p.fillFunction()
	return []string{"drop trigger if exists " + quote(trigger) + " on " + p.table(), "drop function if exists " + name(trigger) + "()"}
}

// addAgain lists columns of after that have the name of one that is dropped.
func (p *planner) addAgain() []*schema.Column {
	var list []*schema.Column
	for _, c := range p.After.Columns {
		if p.From(c) == nil && p.Table.Column(c.Name) != nil {
			list = append(list, c)
		}
	}
	return list
}

func (p *planner) fillAgain(list []*schema.Column) {
	for _, c := range list {
		if _, ok := p.filling(c); ok {
			p.Fail(&engine.Refused{Message: fmt.Sprintf("column %s is dropped and added with values for its rows in one statement", c.Name), Cure: "do it in two statements, or set the type or the expression of the column"})
		}
	}
}
