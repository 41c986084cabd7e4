package sqlite

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
)

// keepDropped keeps the values of columns that are dropped, in the transaction
// that drops them.
func (p *planner) keepDropped() {
	var columns []string
	for _, c := range p.dropped() {
		if c.Generated == nil && !p.change.Discard[c.Name] {
			columns = append(columns, c.Name)
		}
	}
	for _, c := range p.after.Columns {
		if old := p.from(c); old != nil && old.Generated == nil && c.Generated != nil {
			columns = append(columns, old.Name) // computed again from now on
		}
	}
	if len(columns) == 0 {
		return
	}
	keys := p.table.Key()
	if keys == nil || slices.ContainsFunc(keys, func(k string) bool { return slices.Contains(columns, k) }) {
		if p.change.Back {
			// What was added since cannot be told apart by row, so it cannot be kept.
			return
		}
		p.noKey(strings.Join(columns, ", "))
		return
	}
	kept := p.facts.KeptTable()
	var list []string
	for i, k := range keys {
		list = append(list, fmt.Sprintf("%s as k%d", p.keyValue(k), i+1))
	}
	for i, c := range columns {
		list = append(list, fmt.Sprintf("%s as o%d", quote(c), i+1))
	}
	// Without an index, which only putting back needs: this is half as long.
	s := p.add(engine.Scan, keepRate, "keep the values of "+strings.Join(columns, ", "),
		"create table "+quote(kept)+" as select "+strings.Join(list, ", ")+" from "+quote(p.table.Name))
	s.Keeps = []*engine.Keeping{{Table: p.table.Name, Kept: kept, Keys: keys, Columns: columns, What: engine.KeptColumn}}
	p.follow(s, false)
}

// indexKept makes kept values searchable by their keys before they are put back.
func (p *planner) indexKept() {
	for _, c := range p.after.Columns {
		f, ok := p.fill(c)
		if !ok || f.Kept == nil || f.Kept.Wrote != "" || slices.Contains(p.indexed, f.Kept.Table) {
			continue
		}
		p.indexed = append(p.indexed, f.Kept.Table)
		n := len(f.Kept.Keys)
		match := make([]string, n)
		for i := range match {
			match[i] = fmt.Sprintf("g.k%d = %s.k%d", i+1, quote(f.Kept.Table), i+1)
		}
		gone := quote(f.Kept.Table + goneSuffix)
		p.add(engine.Build, indexRate, "make what was kept searchable",
			"create unique index if not exists "+quote(f.Kept.Table+"_key")+" on "+quote(f.Kept.Table)+" ("+keptSQL("k", n)+")",
			"create table if not exists "+gone+" ("+keptSQL("k", n)+", primary key ("+keptSQL("k", n)+")) without rowid",
			"delete from "+quote(f.Kept.Table)+" where exists (select 1 from "+gone+" g where "+strings.Join(match, " and ")+")")
	}
}

// noKey refuses a change whose old values could not be found again by their rows.
func (p *planner) noKey(columns string) {
	if p.table.Key() != nil {
		p.fail(&engine.Refused{
			Message: fmt.Sprintf("the key of table %s goes in the same statement, so that the values of %s could not be put back to the right rows", p.table.Name, columns),
			Cure:    "change the key in a migration of its own, or write discard to give the values up",
		})
		return
	}
	p.fail(&engine.Refused{
		Message: fmt.Sprintf("table %s has no primary key, so that the values of %s could not be put back to the right rows", p.table.Name, columns),
		Cure:    "add a primary key first, or write discard to give the values up",
	})
}

// goes reports whether any of the columns is dropped.
func (p *planner) goes(columns []string) bool {
	return slices.ContainsFunc(p.dropped(), func(c *schema.Column) bool { return schema.HasName(columns, c.Name) })
}

// keepConverted keeps the values that a conversion writes over, with what it
// writes, so that they go back only where that still stands. A value that a plain
// cast back would give again is not kept.
func (p *planner) keepConverted() {
	for _, c := range p.after.Columns {
		old := p.from(c)
		f, filled := p.fill(c)
		if old == nil || !filled || f.OnlyNull || p.change.Discard[old.Name] || p.limitChanges(old, c) {
			continue
		}
		keys := p.table.Key()
		if keys == nil || p.goes(keys) {
			if p.change.Back {
				continue // what was added since cannot be told apart by row, so it cannot be kept
			}
			p.noKey(c.Name)
			return
		}
		kept := p.facts.KeptTable()
		value, _ := p.value(c, false)
		list := make([]string, len(keys))
		for i, k := range keys {
			list[i] = fmt.Sprintf("%s as k%d", p.keyValue(k), i+1)
		}
		strict := p.after.Options["strict"] != ""
		what, back, where := "keep the values of "+c.Name, "null", ""
		if _, restored := p.change.Restore[old.Name]; f.Cast && !restored {
			what += " that change"
			back = affine(p.renderMarked(&sqltext.Cast{X: f.Expr, Type: old.Type}), declaration(old, strict))
			where = " where o is not b or typeof(o) <> typeof(b)"
		}
		s := p.add(engine.Scan, keepRate, what, createKept(p.after, kept, keys, []string{c.Name}),
			fmt.Sprintf("insert into %s select %s, o, w from (select %s, %s as o, %s as w, %s as b from %s limit -1)%s",
				quote(kept), keptSQL("k", len(keys)), strings.Join(list, ", "), quote(old.Name), affine(value, declaration(c, strict)), back, quote(p.table.Name), where))
		s.Keeps = []*engine.Keeping{{Table: p.table.Name, Kept: kept, Keys: keys, Columns: []string{old.Name}, What: engine.KeptConverted}}
		p.follow(s, true)
	}
}

// affine gives a value as a column of a declared type would store it.
func affine(value, declaration string) string {
	switch affinity(declaration) {
	case "text":
		return "(case when typeof(" + value + ") in ('integer', 'real') then cast(" + value + " as text) else " + value + " end)"
	case "real":
		return "(case when typeof(" + value + ") = 'integer' then cast(" + value + " as real) else " + value + " end)"
	}
	return value
}

// affinity gives the affinity of a declared type (https://sqlite.org/datatype3.html,
// 3.1).
func affinity(declaration string) string {
	d := strings.ToLower(declaration)
	has := func(words ...string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(d, w) })
	}
	switch {
	case has("int"):
		return "integer"
	case has("char", "clob", "text"):
		return "text"
	case d == "" || has("blob"):
		return "blob"
	case has("real", "floa", "doub"):
		return "real"
	}
	return "numeric"
}

// keyValue gives what a column of the key is after the change, by which kept rows
// are found on the way back.
func (p *planner) keyValue(name string) string {
	if c := p.after.Column(name); c != nil {
		if f, ok := p.fill(c); ok && !f.OnlyNull && p.from(c) != nil {
			value, _ := p.value(c, false)
			return value
		}
	}
	return quote(name)
}

// rememberNulls gives the statement that keeps which rows have null in a column
// and what they get, and adds the step that makes room for it. A table whose rows
// cannot be told apart has none.
func (p *planner) rememberNulls(name string, c *schema.Column, value, where string) []string {
	keys := p.table.Key()
	if keys == nil {
		return nil
	}
	kept := p.facts.KeptTable()
	place := p.add(engine.Catalog, 0, "make a place to remember which rows were null", createKept(p.table, kept, keys, []string{p.from(c).Name}))
	place.Keeps = []*engine.Keeping{{Table: p.table.Name, Kept: kept, Keys: keys, Columns: []string{c.Name}, What: engine.KeptValues}}
	p.follow(place, true)
	return []string{"insert into " + quote(kept) + " select " + quoteAll(keys) + ", " + quote(c.Name) + ", " + value + " from " + name + where}
}
