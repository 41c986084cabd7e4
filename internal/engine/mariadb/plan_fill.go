package mariadb

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
		return !strings.Contains(e.Native, "(")
	}
	steady := true
	sqltext.Walk(e.Tree, func(x sqltext.Expr) bool {
		switch x.(type) {
		case *sqltext.Call, *sqltext.Now:
			steady = false
		}
		return steady
	})
	return steady
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
		if c.Default.Tree == nil {
			return "(" + c.Default.Native + ")", true
		}
		return p.Render(c.Default.Tree, planning.Computed), true
	}
	return "", false
}

// addColumns adds columns without reading a row, where the server can.
func (p *planner) addColumns() {
	var list []*schema.Column
	for _, c := range p.After.Columns {
		if p.From(c) == nil && p.Table.Column(c.Name) == nil && c.Generated == nil {
			list = append(list, c)
		}
	}
	p.addTogether(list)
}

// addTogether adds columns as far as that is metadata; the rest follows once their rows
// have their values.
func (p *planner) addTogether(list []*schema.Column) {
	var actions, names, undo []string
	for _, c := range list {
		def := *c
		if _, filled := p.filling(c); filled {
			def.NotNull, def.Default = false, nil
		}
		def.OnUpdateNow = c.OnUpdateNow && !p.unfinished(c)
		if slices.Contains(p.hidden, c) {
			def.Name, def.NotNull, def.Default, def.Limit, def.OnUpdateNow = beside(c), true,
				&schema.Expr{Native: placeholder(c)}, "", false
			def.Options = map[string]string{"invisible": "yes"}
			undo = append(undo, "drop column if exists "+quote(def.Name))
		}
		actions, names = append(actions, "add column if not exists "+columnSQL(p.inPlace(), &def)+p.placeOf(c, false)),
			append(names, c.Name)
		if c.Identity != nil { // which the server wants a key for at once
			actions = append(actions, p.keysNow()...)
		}
	}
	if len(actions) > 0 {
		s := p.alterTable(engine.Rewrite, rewriteRate, "add column "+strings.Join(names, ", "), actions...)
		if len(undo) > 0 {
			s.Undo = []string{"alter table " + p.table() + " " + strings.Join(undo, ", ") + ", " + algorithm}
		}
	}
}

// keysNow gives the actions that add the keys.
func (p *planner) keysNow() (actions []string) {
	p.keyed = true
	if !planning.SameKey(p.Table.PrimaryKey, p.After.PrimaryKey) {
		actions = p.primary()
	}
	for _, k := range p.parts.Keys {
		actions = append(actions, "add "+uniqueSQL(p.After, k))
	}
	return actions
}

// placeOf says where a column that is added comes to stand; "" means last. ends is set
// once all columns but generated ones are there.
func (p *planner) placeOf(c *schema.Column, ends bool) string {
	there := func(o *schema.Column) bool {
		if o.Generated != nil && (p.From(o) == nil || p.isRemade(o)) {
			return false
		}
		return ends || p.From(o) != nil || p.Table.Column(o.Name) == nil
	}
	at := slices.Index(p.After.Columns, c)
	follows := slices.ContainsFunc(p.After.Columns[at+1:], func(o *schema.Column) bool {
		return there(o) && (ends || p.From(o) != nil)
	})
	if !follows {
		return ""
	}
	for i := at - 1; i >= 0; i-- {
		if o := p.After.Columns[i]; there(o) || ends && slices.Index(p.After.Columns, o) < at {
			return " after " + quote(p.called(o, ends))
		}
	}
	return " first"
}

// fill gives existing rows their values.
func (p *planner) fill() {
	var added, nulls []*schema.Column
	var sets, names []string
	for _, c := range p.After.Columns {
		if f, ok := p.FillOf(c); ok && f.OnlyNull && !p.isSwapped(c) {
			nulls = append(nulls, c)
		}
		if p.From(c) != nil || p.Table.Column(c.Name) != nil {
			continue
		}
		value, ok := p.filling(c)
		if !ok {
			continue
		}
		if f, ok := p.FillOf(c); ok {
			p.Follows(c, f, false)
		}
		if p.followed() && !slices.Contains(p.hidden, c) { // what an application has written meanwhile stays
			value = "coalesce(" + quote(c.Name) + ", " + value + ")"
		}
		added, sets, names = append(added, c), append(sets, quote(p.called(c, false))+" = "+value), append(names, c.Name)
	}
	p.fillNew(added, nulls)
	if len(sets) > 0 {
		seen := slices.DeleteFunc(slices.Clone(added), func(c *schema.Column) bool { return slices.Contains(p.hidden, c) })
		rest := p.NoteKept(seen, func(c *schema.Column) string { return c.Name })
		p.Update("fill "+strings.Join(names, ", "), "update "+p.table()+" set "+strings.Join(sets, ", ")+" where "+
			engine.Range).Preview = p.PreviewAdded()
		rest()
	}
	p.fillNumbered(added)
	for _, c := range p.After.Columns {
		if f, ok := p.FillOf(c); ok && f.OnlyNull {
			value := p.Render(f.Expr, planning.Computed)
			p.FillNulls(c, value)
		}
	}
}

// fillNumbered fills rows that came while a fill went on and whose number no trigger knew.
func (p *planner) fillNumbered(added []*schema.Column) {
	var late []string
	for _, c := range added {
		if f, ok := p.FillOf(c); ok && f.Expr != nil && p.followed() && p.numbers(f.Expr) && !sqltext.HasSubquery(f.Expr) {
			column := quote(p.called(c, false))
			late = append(late, "update "+p.table()+" set "+column+" = "+p.Render(f.Expr, planning.Computed)+" where "+
				engine.Range+" and "+column+" is null")
		}
	}
	if len(late) > 0 {
		p.Update("fill rows that came meanwhile", late...)
	}
}

// followed reports whether rows can come while the fill goes on: between what adds a column, what
// fills it and what takes it into use others can write to a small table, too, for each commits by
// itself, and for long where a run stops there.
func (p *planner) followed() bool { return p.Facts.Live }

// fillTrigger names the trigger that fills rows which come while a fill goes on.
func (p *planner) fillTrigger(event string) string {
	return schema.ConstraintName(&schema.Table{Name: engine.Prefix + p.Table.Name}, []string{event}, "fill")
}

// fillNew lets rows that come meanwhile get their values as they come, where a trigger can
// compute them: it does not know the number that the server is about to give. Columns whose
// nulls are filled get theirs again when an application takes it away.
func (p *planner) fillNew(added, nulls []*schema.Column) {
	if !p.followed() {
		return
	}
	var insert, update []string
	for _, c := range slices.Concat(added, nulls) {
		e := p.comes(c)
		if e == nil {
			continue
		}
		value, err := p.Expr(e, planning.Scope{Table: p.Table, Value: p.newValue})
		if err != nil {
			p.Fail(&engine.Refused{Message: err.Error()})
		}
		if slices.Contains(p.hidden, c) { // nobody else writes it
			set := "set new." + quote(beside(c)) + " = "
			insert, update = append(insert, set+value+";"), append(update, set+p.keptOr(c, value)+";")
			continue
		}
		name, set := quote(c.Name), " then set new."+quote(c.Name)+" = "+value+"; end if;"
		if !p.numbers(e) {
			insert = append(insert, "if new."+name+" is null"+set)
		}
		switch f, filled := p.FillOf(c); {
		case slices.Contains(nulls, c): // those that are null still are remembered when they are filled
			update = append(update, "if new."+name+" is null and old."+name+" is not null"+set)
		case filled && f.Kept != nil: // the fill puts back what is kept of a row, also where it gets another key
		case filled && f.Expr != nil:
			update = append(update, "if "+unchanged(c)+" and (new."+name+" is null or "+p.sourcesChange(e)+")"+set)
		default: // a default of its own is given once
			update = append(update, "if new."+name+" is null and old."+name+" is null"+set)
		}
	}
	p.fillBy("insert", insert)
	p.fillBy("update", update)
}

// unlessOurs gives the body of a trigger that leaves alone what Lastboard itself writes.
func unlessOurs(body []string) string {
	return "if @lastboard_writes is null then " + strings.Join(body, " ") + " end if"
}

// keptOr gives what a row that is written gets in a column of which values are kept: what is
// kept of it, by the key that it had, or else a value.
func (p *planner) keptOr(c *schema.Column, value string) string {
	f, _ := p.FillOf(c)
	if f.Kept == nil {
		return value
	}
	from := p.keptOf(f.Kept)
	if f.Kept.Wrote != "" {
		from += " and " + p.Same("k."+quote(f.Kept.Wrote), "new."+quote(p.From(c).Name))
	}
	for i, r := range f.Kept.Reads {
		from += " and " + p.Same(fmt.Sprint("k.r", i+1), "new."+quote(r))
	}
	return "case when exists (select 1" + from + ") then (select k." + quote(f.Kept.Column) + from + ") else " + value +
		" end"
}

// keptOf gives the part of a query in a trigger that finds what is kept of a row by the key that it had.
func (p *planner) keptOf(k *schema.Kept) string {
	match := make([]string, len(k.Keys))
	for i, key := range k.Keys {
		match[i] = fmt.Sprintf("k.k%d = old.%s", i+1, quote(key))
	}
	return " from " + quote(k.Table) + " k where " + strings.Join(match, " and ")
}

// unchanged gives the condition that an update leaves a column as it was.
func unchanged(c *schema.Column) string {
	return "binary new." + quote(c.Name) + " <=> binary old." + quote(c.Name)
}

// sourcesChange gives the condition that an update changes what an expression reads.
func (p *planner) sourcesChange(e sqltext.Expr) string {
	list := []string{"false"}
	for _, s := range p.Sources(e) {
		list = append(list, "not ("+unchanged(s)+")")
	}
	return strings.Join(list, " or ")
}

// comes gives the expression by which a trigger fills an added column in rows that are
// written; nil where none can.
func (p *planner) comes(c *schema.Column) sqltext.Expr {
	f, filled := p.FillOf(c)
	e := f.Expr
	if !filled && c.Default != nil && !instantDefault(c) {
		e = c.Default.Tree
	}
	if e == nil || sqltext.HasSubquery(e) || p.numbers(e) && !p.numbered(c) {
		return nil
	}
	return e
}

// numbered reports whether a column that is filled may have no value while the number of its
// row is not known: rows that come without one are filled at the end.
func (p *planner) numbered(c *schema.Column) bool {
	return p.From(c) == nil && !slices.Contains(p.hidden, c)
}

// numbers reports whether an expression uses the column that numbers itself.
func (p *planner) numbers(e sqltext.Expr) bool {
	return slices.ContainsFunc(p.Table.Columns, func(c *schema.Column) bool {
		return c.Identity != nil && (&schema.Expr{Tree: e}).Mentions(c.Name)
	})
}

func (p *planner) fillBy(event string, body []string) {
	if len(body) == 0 {
		return
	}
	s := p.whenWritten(p.fillTrigger(event), event, "fill rows that "+
		map[string]string{"insert": "come", "update": "change"}[event]+" meanwhile", body)
	s.Why = "an application that does not know the column yet leaves it out"
	p.fillers = append(p.fillers, event)
}

// whenWritten makes a trigger that sets values of a row before it is written.
func (p *planner) whenWritten(trigger, event, what string, body []string) *engine.Step {
	sql := "create or replace trigger " + quote(trigger) + " before " + event + " on " + p.table() + " for each row " +
		unlessOurs(body)
	reads := strings.Contains(sql, strings.TrimSuffix(quote(engine.Prefix+"kept_"), `"`))
	if reads {
		sql = unseen(p.Table, sql)
	}
	s := p.define(engine.Sync, 0, what, "", sql)
	if reads {
		s.Lock = lockTable
	}
	s.Undo = []string{"drop trigger if exists " + quote(trigger)}
	return s
}

// endFill takes the triggers away again.
func (p *planner) endFill() {
	var off []string
	for _, event := range p.fillers {
		off = append(off, "drop trigger if exists "+quote(p.fillTrigger(event)))
	}
	if len(off) > 0 {
		p.define(engine.Sync, 0, "rows bring their own values from now on", "", off...)
	}
	p.fillers = nil
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
