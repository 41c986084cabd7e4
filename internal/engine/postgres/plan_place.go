package postgres

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
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
			after = append(after, "alter table "+p.table()+" alter column "+quote(c.Name)+" set default "+
				defaultSQL(p.After, *c.Default))
		}
		def.Default = nil
	}
	s := p.alterTable(engine.Catalog, 0, "add column "+c.Name, "add column "+columnSQL(p.After, &def))
	s.SQL = append(s.SQL, after...)
	if seq := c.Options["sequence"]; seq != "" {
		s.SQL = slices.Concat([]string{"create sequence " + name(seq) + " as " + sequenceType(c)}, s.SQL, p.ownSequence(c))
	}
}

// ownSequence ties a new sequence to its column, and lets its numbers go on above those that
// were kept of the column.
func (p *planner) ownSequence(c *schema.Column) []string {
	seq := name(c.Options["sequence"])
	list := []string{
		"do " + dollar(fmt.Sprintf("begin execute format('alter sequence %%s owner to %%I', %s, (select "+
			"pg_get_userbyid(relowner) from pg_class where oid = to_regclass(%s))); end", literal(seq), literal(p.table()))),
		"alter sequence " + seq + " owned by " + p.table() + "." + quote(c.Name),
	}
	if f, ok := p.FillOf(c); ok && f.Kept != nil {
		list = append(list, "do "+dollar(fmt.Sprintf("begin perform setval(to_regclass(%s), n) from (select max(%s) as "+
			"n from %s) as lastboard_rows where n > 0; end", literal(seq), quote(f.Kept.Column), name(f.Kept.Table))))
	}
	return list
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
		p.Follows(c, f, false)
		follow = follow && f.Kept == nil && (f.Expr == nil || !sqltext.HasSubquery(f.Expr))
		sets, names, values = append(sets, quote(c.Name)+" = "+value), append(names, c.Name), append(values, value)
	}
	var nulls []*schema.Column
	for _, c := range p.After.Columns {
		if f, ok := p.FillOf(c); ok && f.OnlyNull && !sqltext.HasSubquery(f.Expr) {
			nulls = append(nulls, c)
		}
	}
	follow = follow && len(sets) > 0
	if p.followed() && (follow || len(nulls) > 0) {
		p.fillNew(follow, nulls)
	}
	if len(sets) > 0 {
		rest := p.NoteKept(p.Added(), func(c *schema.Column) string { return c.Name })
		s := p.Update("fill "+strings.Join(names, ", "),
			"update "+p.table()+" set "+strings.Join(sets, ", ")+" where "+engine.Range)
		s.Preview = p.PreviewAdded()
		if p.Cursor(p.Table) == nil && !p.Short(updateRate) {
			p.walkPlaces(s, names, values)
		}
		rest()
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
		Keys: []string{"ctid"},
		Upper: "select '(' || pg_relation_size(to_regclass(" + literal(p.table()) +
			")) / current_setting('block_size')::bigint || ',0)'",
		Next: "select cast(max(ctid) as text) from (select ctid from " + p.table() + " where " + engine.Range +
			" limit ? + 1) b having max(ctid) is not null",
		Do: []string{update + " where " + engine.Range + " and (" + strings.Join(empty, " or ") + ")"},
	})
	p.Add(engine.Backfill, scanRate, "fill rows that were moved meanwhile",
		update+" where "+strings.Join(missed, " or ")).Alone = true
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
	p.FillNulls(c, value)
}

// followed reports whether rows can come while the fill goes on.
func (p *planner) followed() bool { return p.Facts.Live && !p.Short(updateRate) }

// fillFunction names the function that fills rows which are written while a fill goes on,
// and fillTrigger its trigger. Of the triggers of one moment the server takes the last by
// name last: this one sees what others have made of the row.
func (p *planner) fillFunction() string { return p.fillName("") }
func (p *planner) fillTrigger() string  { return p.fillName(lastTrigger) }

func (p *planner) fillName(first string) string {
	return schema.ConstraintName(&schema.Table{Name: first + engine.Prefix + tableOf(p.Table).Name}, nil, "fill")
}

// fillNew lets rows that are written meanwhile get their values then: those that come, those
// whose sources change, and those that have none yet, whose key may have moved behind the
// fill. What an application itself writes into the column stays.
// added is set where columns that are added are followed. nulls are columns whose nulls are filled: they
// get their value again when an application takes it away.
func (p *planner) fillNew(added bool, nulls []*schema.Column) {
	trigger, function := p.fillTrigger(), name(p.fillFunction())
	var insert, update []string
	for _, c := range p.After.Columns {
		if _, ok := p.filling(c); !added || !ok || p.From(c) != nil {
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
		column := "new." + quote(c.Name)
		changed := []string{column + " is null"}
		if filled { // a default of its own is given once
			for _, s := range p.Sources(e) {
				changed = append(changed, "pg_catalog.record_image_ne(row(new."+quote(s.Name)+"), row(old."+quote(s.Name)+"))")
			}
		}
		insert = append(insert, "if "+column+" is null then "+column+" := "+value+"; end if;")
		update = append(update, "if pg_catalog.record_image_eq(row("+column+"), row(old."+quote(c.Name)+")) and ("+
			strings.Join(changed, " or ")+") then "+column+" := "+value+"; end if;")
	}
	for _, c := range nulls { // those that are null still are remembered when they are filled
		f, _ := p.FillOf(c)
		value, err := p.Expr(f.Expr, planning.Scope{Table: p.Table, Value: p.newValue})
		if err != nil {
			p.Fail(&engine.Refused{Message: err.Error()})
		}
		column := "new." + quote(c.Name)
		if !partitioned(
			p.Table) { // where a row also comes that moves from another part, whose null is still to be remembered
			insert = append(insert, "if "+column+" is null then "+column+" := "+value+"; end if;")
		}
		update = append(update, "if "+column+" is null and old."+quote(c.Name)+" is not null then "+column+" := "+value+
			"; end if;")
	}
	s := p.Add(engine.Sync, 0, "fill rows that are written meanwhile",
		"create or replace function "+function+"() returns trigger language plpgsql set search_path from current as "+
			dollar("begin if tg_op = 'INSERT' then "+
				strings.Join(insert, " ")+" else "+strings.Join(update, " ")+" end if; return new; end"),
		"create or replace trigger "+quote(trigger)+" before insert or update on "+p.table()+
			" for each row when (coalesce(current_setting('lastboard.writes', true), '') <> 'on') execute function "+function+
			"()",
		"alter table "+p.table()+" enable always trigger "+quote(trigger))
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
	return []string{"drop trigger if exists " + quote(p.fillTrigger()) + " on " + p.table(),
		"drop function if exists " + name(p.fillFunction()) + "()"}
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
			p.Fail(&engine.Refused{Message: fmt.Sprintf("column %s is dropped and added with values for its rows in one "+
				"statement", c.Name), Cure: "do it in two statements, or set the type or the expression of the column"})
		}
	}
}
