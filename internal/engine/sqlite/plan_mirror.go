package sqlite

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// A mirror is a column under another name, equal to its own in every committed row. No trigger of
// SQLite's can change what is about to be written, so that triggers carry it over once a row stands: what
// an insert gives, and what an update has changed. The original may be null meanwhile, for an insert by
// the new name leaves it out, and a trigger refuses the null that it would have refused. Each ends with a
// look at the row: the conflict clause of a statement rules in the triggers that it fires as well. What
// the engine would find wrong with the original only there, where a clause could leave half of it standing,
// is looked for before.

const (
	mirrorSuffix = "_mirror"

	mirrorCame  = "insert" // what the triggers are called by
	mirrorOld   = "update_old"
	mirrorNew   = "update_new"
	mirrorNull  = "null"
	mirrorAgain = "_again"
)

// mirrorTrigger names a trigger of a pair.
func mirrorTrigger(t *schema.Table, m schema.Mirror, kind string) string {
	return planning.TriggerName(t, strings.TrimPrefix(mirrorSuffix, "_"), m.Name, kind)
}

// CannotMirror implements engine.Planner.
func (Engine) CannotMirror(t *schema.Table, column string) string {
	if schema.HasName(t.Key(), column) {
		return "it is part of the key, by which triggers find a row"
	}
	for _, tr := range t.Triggers {
		if speaksOf(tr.SQL, column) {
			return "trigger " + tr.Name + " is about it, and would see what was written before it is carried over"
		}
	}
	for _, k := range t.ForeignKeys {
		acts := func(rule string) bool { return rule != "" && rule != "restrict" && rule != "no action" }
		if schema.HasName(k.Columns, column) && (acts(k.OnUpdate) || acts(k.OnDelete)) {
			return "its value changes with that of table " + k.Table + " (foreign key " + k.Name + ")"
		}
	}
	for _, k := range t.Checks {
		if k.Expr.Mentions(column) {
			return "constraint " + k.Name + " is about it"
		}
	}
	for _, k := range t.Uniques {
		if schema.HasName(k.Columns, column) && len(k.Options) > 0 {
			return "constraint " + k.Name + " is about it, and says what becomes of rows that are equal"
		}
	}
	for _, x := range t.Indexes {
		plain := len(x.Options) == 0 && x.Where == nil && !slices.ContainsFunc(x.Parts,
			func(p schema.IndexPart) bool { return p.Expr != nil })
		if x.Unique && !plain && x.Uses(column) {
			return "index " + x.Name + " is unique, and about it and more than columns"
		}
	}
	return ""
}

// speaksOf reports whether a text of SQL says a name.
func speaksOf(sql, name string) bool {
	tokens, _ := sqltext.Scan(sql, sqltext.Engine)
	return slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && schema.SameName(t.Value, name)
	})
}

// Twin implements engine.Planner: what its type cannot hold is refused by either name, in the way
// that the statement asks for.
func (Engine) Twin(c *schema.Column, name string) schema.Column {
	m := schema.Twin(c, name)
	if c.Limit != "" {
		m.Limit = schema.ConstraintName(&schema.Table{}, []string{c.Limit, name}, "limit")
	}
	return m
}

// Mirrors implements engine.Planner.
func (Engine) Mirrors(t *schema.Table, pairs []schema.Mirror) (triggers, sql []string) {
	p := newPlanner(engine.Facts{}, t)
	for _, m := range pairs {
		names, makes := p.mirrorSQL(m)
		triggers, sql = append(triggers, names...), append(sql, makes...)
	}
	return triggers, append(sql, p.mendMirrors(pairs, " where "+p.MirrorsOf(pairs, differs).Differ))
}

// differs gives the condition that two values are not the same, as what they mean or as they are stored.
func differs(a, b string) string {
	return "(" + a + " is not " + b + " collate binary or typeof(" + a + ") <> typeof(" + b + "))"
}

// mirror gives columns mirrors, or takes them away.
func (p *planner) mirror(m *schema.MirrorChange) {
	p.After = m.After
	if m.Off {
		p.unmirror(m)
		return
	}
	x := p.MirrorsOf(m.Pairs, differs)
	name := quote(p.Table.Name)
	var triggers, off []string
	for _, pair := range m.Pairs {
		p.Add(engine.Catalog, 0, "add column "+pair.Name+" beside "+pair.Column,
			"alter table "+name+" add column "+columnSQL(m.After, m.After.Column(pair.Name),
				m.After.Options["strict"] != "")).Why =
			"programs of before and of after each use their own name"
		if p.Table.Column(pair.Column).NotNull {
			triggers = append(triggers, "alter table "+name+" alter column "+quote(pair.Column)+" drop not null")
		}
		names, sql := p.mirrorSQL(pair)
		triggers, off = append(triggers, sql...), append(off, names...)
	}
	s := p.Add(engine.Sync, 0, "keep "+x.Names+" equal to "+x.Columns, triggers...)
	s.Undo = dropTriggers(off)
	for _, pair := range m.Pairs {
		if p.Table.Column(pair.Column).NotNull {
			s.Undo = append(s.Undo, "alter table "+name+" alter column "+quote(pair.Column)+" set not null")
		}
	}
	p.Update("fill "+x.Names, p.mendMirrors(m.Pairs, " where "+engine.Range+" and ("+x.Differ+")"))
	p.Add(engine.Scan, scanRate, "prove that each row has the same in "+x.Names, p.MirrorsAgree(x))
	for _, index := range m.After.Indexes {
		if m.Before.Index(index.Name) == nil {
			p.Add(engine.Build, indexRate, "build index "+index.Name, createIndex(m.After, index))
		}
	}
}

func dropTriggers(names []string) (list []string) {
	for _, n := range names {
		list = append(list, "drop trigger if exists "+quote(n))
	}
	return list
}

// mendMirrors gives the statement that writes into mirrors what their columns hold.
func (p *planner) mendMirrors(pairs []schema.Mirror, where string) string {
	sets := make([]string, len(pairs))
	for i, m := range pairs {
		sets[i] = quote(m.Name) + " = " + quote(m.Column)
	}
	return "update " + quote(p.Table.Name) + " set " + strings.Join(sets, ", ") + where
}

// mirrorSQL names the triggers of a pair, and gives the statements that make them. Those for updates
// stand twice where the table has others: a trigger does not fire inside itself.
func (p *planner) mirrorSQL(m schema.Mirror) (names, sql []string) {
	t := p.Table
	c := t.Column(m.Column)
	a, b := quote(m.Column), quote(m.Name)
	row := p.thisRow()
	table := quote(t.Name)
	none := p.unwritten(c)
	abort := func(message, where string) string {
		return "select raise(abort, " + literal(message) + ")" + where + "; "
	}
	both := m.Column + " and " + m.Name + " of " + t.Name +
		" are one column under two names, and were both written with other values"
	null := abort("NOT NULL constraint failed: "+t.Name+"."+m.Column, " from "+table+" where "+row+" and "+a+" is null")
	if !c.NotNull {
		null = ""
	}
	guard := abort(both, " from "+table+" where "+row+" and "+differs(a, b))
	trigger := func(kind, on, when, body string) {
		n := mirrorTrigger(t, m, kind)
		names = append(names, n)
		sql = append(sql, "create trigger "+quote(n)+" after "+on+" on "+table+" when "+when+" begin "+body+"end")
	}
	given := differs(b, none)
	came := differs("new."+a, "new."+b)
	if c.NotNull {
		came = "(" + came + " or new." + a + " is null)"
	}
	chosen := "case when " + given + " then " + b + " else " + a + " end"
	trigger(mirrorCame, "insert", came, abort(both, " where "+differs("new."+a, none)+" and "+differs("new."+b, none)+
		" and "+differs("new."+a, "new."+b))+p.mirrorWrong(m, " and "+differs("new."+b, none))+
		"update "+table+" set "+a+" = "+chosen+", "+b+" = "+chosen+" where "+row+" and "+differs(a, b)+"; "+null+guard)
	written := func(n string) string { return differs("new."+n, "old."+n) }
	again := []string{""}
	if len(t.Triggers) > 0 {
		again = append(again, mirrorAgain)
	}
	for _, suffix := range again {
		trigger(mirrorOld+suffix, "update of "+a, written(a)+" and "+differs("new."+b, "new."+a),
			abort(both, " where "+written(b))+"update "+table+" set "+b+" = "+a+" where "+row+"; "+guard)
		trigger(mirrorNew+suffix, "update of "+b, written(b)+" and "+differs("new."+a, "new."+b),
			abort(both, " where "+written(a))+p.mirrorWrong(m, "")+"update "+table+" set "+a+" = "+b+" where "+row+"; "+guard)
	}
	if c.NotNull {
		trigger(mirrorNull, "update of "+a, "new."+a+" is null", null)
	}
	return names, sql
}

// mirrorWrong gives the statements that refuse what the engine would find wrong with a value of the
// mirror's once it is carried to its column: another row that has it. when is a condition more.
func (p *planner) mirrorWrong(m schema.Mirror, when string) (sql string) {
	t := p.Table
	keys := slices.Clone(t.Uniques)
	for _, x := range t.Indexes {
		if x.Unique {
			k := &schema.Key{Name: x.Name}
			for _, part := range x.Parts {
				k.Columns = append(k.Columns, part.Column)
			}
			keys = append(keys, k)
		}
	}
	for _, k := range keys {
		if !schema.HasName(k.Columns, m.Column) {
			continue
		}
		match, names := make([]string, len(k.Columns)), make([]string, len(k.Columns))
		for i, column := range k.Columns {
			value := column
			if schema.SameName(column, m.Column) {
				value = m.Name
			}
			match[i], names[i] = quote(column)+" = new."+quote(value), t.Name+"."+column
		}
		sql += "select raise(abort, " + literal("UNIQUE constraint failed: "+strings.Join(names, ", ")) + ") from " +
			quote(t.Name) + " where " + strings.Join(match, " and ") + " and not (" + p.thisRow() + ")" + when + "; "
	}
	return sql
}

// unwritten gives what a column has where an insert leaves it out.
func (p *planner) unwritten(c *schema.Column) string {
	if c.Default == nil {
		return "null"
	}
	value, declared := defaultSQL(p.Table, *c.Default), declaration(c, p.Table.Options["strict"] != "")
	if declared == "" {
		return "(" + value + ")"
	}
	return "cast(" + value + " as " + declared + ")"
}

// thisRow gives the condition, in a trigger, that a row is the one which it fires for.
func (p *planner) thisRow() string {
	keys := cursor(p.Table)
	match := make([]string, len(keys))
	for i, k := range keys {
		match[i] = k + " = new." + k
	}
	return strings.Join(match, " and ")
}

// unmirror takes the triggers and the mirrors away, and perhaps gives the columns their names in the
// same transaction.
func (p *planner) unmirror(m *schema.MirrorChange) {
	x := p.MirrorsOf(m.Pairs, differs)
	name := quote(p.Table.Name)
	var sql, triggers, views []string
	for _, pair := range m.Pairs {
		names, _ := p.mirrorSQL(pair)
		triggers = append(triggers, names...)
	}
	if m.Proven {
		p.ProveMirrors(x)
		there := make([]string, len(triggers))
		for i, n := range triggers {
			there[i] = literal(n)
		}
		sql = append(sql, fmt.Sprintf("select %s where (select count(*) from sqlite_schema where type = 'trigger' "+
			"and name in (%s)) <> %d", literal("the triggers that keep "+x.Names+" equal are not all "+
			"there"), strings.Join(there, ", "),
			len(there)))
	}
	if m.Renames { // views that read the columns by their new names go on with them
		for _, v := range p.viewsOver(m.Pairs) {
			sql = append(sql, "drop view "+quote(v.Name))
			views = append(views, v.SQL)
			for _, tr := range v.Triggers {
				for _, pair := range m.Pairs {
					if speaksOf(tr.SQL, pair.Column) {
						p.Fail(&engine.Refused{
							Message: "trigger " + tr.Name + " of view " + v.Name + " says " + pair.Column + ", which is " +
								pair.Name + " then",
							Cure: "make it again with the new name first",
						})
					}
				}
				views = append(views, tr.SQL)
			}
			views = append(views, "explain select * from "+quote(v.Name))
		}
	}
	sql = append(sql, dropTriggers(triggers)...)
	for _, index := range p.Table.Indexes {
		if slices.ContainsFunc(m.Pairs, func(x schema.Mirror) bool { return index.Uses(x.Name) }) {
			sql = append(sql, "drop index "+quote(index.Name))
		}
	}
	for _, pair := range m.Pairs {
		if c := p.Table.Column(pair.Name); c.Limit != "" { // which may stand behind the columns
			sql = append(sql, "alter table "+name+" drop constraint "+quote(c.Limit))
		}
		sql = append(sql, "alter table "+name+" drop column "+quote(pair.Name))
		if p.Table.Column(pair.Column).NotNull {
			sql = append(sql, "alter table "+name+" alter column "+quote(pair.Column)+" set not null")
		}
		if m.Renames {
			sql = append(sql, p.renameSQL(pair.Column, pair.Name)...)
		}
	}
	what := "take " + x.Names + " away, and what kept it equal"
	if m.Renames {
		what = "give " + x.Columns + " the name " + x.Names
	}
	s := p.Add(engine.Rewrite, rewriteRate, what, append(sql, views...)...)
	s.Seconds *= float64(len(m.Pairs))
}

// viewsOver lists the views that read columns by their new names, and those that read these, in an order
// in which they can be made.
func (p *planner) viewsOver(pairs []schema.Mirror) (list []*schema.View) {
	reads := func(v *schema.View) bool {
		if slices.ContainsFunc(list, func(o *schema.View) bool { return speaksOf(v.Query, o.Name) }) {
			return true
		}
		return speaksOf(v.Query, p.Table.Name) && slices.ContainsFunc(pairs,
			func(m schema.Mirror) bool { return speaksOf(v.Query, m.Name) })
	}
	for more := true; more; {
		more = false
		for _, v := range p.Facts.Schema.Views {
			if !slices.Contains(list, v) && reads(v) {
				list, more = append(list, v), true
			}
		}
	}
	return list
}

// nullRefused reports whether a trigger refuses null in a column that has a mirror, or is supplied, and that
// the engine itself lets be null meanwhile.
func nullRefused(t *schema.Table, c *schema.Column) bool {
	return slices.ContainsFunc(t.Own, func(tr *schema.Trigger) bool {
		return tr.Name == supplyTrigger(t, c.Name, supplyNull) || slices.ContainsFunc(t.Columns, func(
			mirror *schema.Column) bool {
			return tr.Name == mirrorTrigger(t, schema.Mirror{Column: c.Name, Name: mirror.Name}, mirrorNull) &&
				planning.Names(tr, c.Name) && mirror != c
		})
	})
}

// takeRefused says of columns that they are not null where a trigger sees to that.
func takeRefused(t *schema.Table) {
	for _, c := range t.Columns {
		c.NotNull = c.NotNull || nullRefused(t, c)
	}
}
