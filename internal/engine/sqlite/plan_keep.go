package sqlite

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/sqltext"
)

// keepDropped keeps the values of columns that are dropped, in the transaction
// that drops them.
func (p *planner) keepDropped() {
	columns := p.Losing()
	if len(columns) == 0 {
		return
	}
	keys := p.Table.Key()
	if keys == nil || slices.ContainsFunc(keys, func(k string) bool { return slices.Contains(columns, k) }) {
		if p.Change.Back {
			// What was added since cannot be told apart by row, so it cannot be kept.
			return
		}
		p.NoKey(strings.Join(columns, ", "))
		return
	}
	kept := p.Facts.KeptTable()
	var list []string
	for i, k := range keys {
		list = append(list, fmt.Sprintf("%s as k%d", p.KeyValue(k), i+1))
	}
	for i, c := range columns {
		list = append(list, fmt.Sprintf("%s as o%d", quote(c), i+1))
	}
	// Without an index, which only putting back needs: this is half as long.
	s := p.Add(engine.Scan, keepRate, "keep the values of "+strings.Join(columns, ", "),
		"create table "+quote(kept)+" as select "+strings.Join(list, ", ")+" from "+quote(p.Table.Name))
	s.Keeps = []*engine.Keeping{{Table: p.Table.Name, Kept: kept, Keys: keys, Columns: columns, What: engine.KeptColumn}}
	p.Follow(&p.Planner, s, false)
}

// indexKept makes kept values searchable by their keys before they are put back.
func (p *planner) indexKept() {
	for _, c := range p.After.Columns {
		f, ok := p.FillOf(c)
		if !ok || f.Kept == nil || f.Kept.Wrote != "" || slices.Contains(p.Indexed, f.Kept.Table) {
			continue
		}
		p.Indexed = append(p.Indexed, f.Kept.Table)
		n := len(f.Kept.Keys)
		match := make([]string, n)
		for i := range match {
			match[i] = fmt.Sprintf("g.k%d = %s.k%d", i+1, quote(f.Kept.Table), i+1)
		}
		gone := quote(f.Kept.Table + goneSuffix)
		p.Add(engine.Build, indexRate, "make what was kept searchable",
			"create unique index if not exists "+quote(f.Kept.Table+"_key")+" on "+quote(f.Kept.Table)+" ("+
				planning.KeptSQL("k", n)+")",
			"create table if not exists "+gone+" ("+planning.KeptSQL("k", n)+", primary key ("+planning.KeptSQL("k", n)+
				")) without rowid",
			"delete from "+quote(f.Kept.Table)+" where exists (select 1 from "+gone+" g where "+strings.Join(match, " and ")+")")
	}
}

// keepConverted keeps the values that a conversion writes over, with what it
// writes, so that they go back only where that still stands. A value that a plain
// cast back would give again is not kept.
func (p *planner) keepConverted() {
	for _, c := range p.After.Columns {
		old := p.From(c)
		f, filled := p.FillOf(c)
		if old == nil || !filled || f.OnlyNull || p.Change.Discard[old.Name] || p.LimitChanges(old, c) {
			continue
		}
		keys := p.Table.Key()
		if keys == nil || p.Goes(keys) {
			if p.Change.Back {
				continue // what was added since cannot be told apart by row, so it cannot be kept
			}
			p.NoKey(c.Name)
			return
		}
		kept := p.Facts.KeptTable()
		value, _ := p.Value(c, planning.Computed)
		list := make([]string, len(keys))
		for i, k := range keys {
			list[i] = fmt.Sprintf("%s as k%d", p.KeyValue(k), i+1)
		}
		strict := p.After.Options["strict"] != ""
		what, back, where := "keep the values of "+c.Name, "null", ""
		if _, restored := p.Change.Restore[old.Name]; f.Cast && !restored {
			what += " that change"
			back = affine(p.Render(&sqltext.Cast{X: f.Expr, Type: old.Type}, planning.Proven), declaration(old, strict))
			where = " where o is not b or typeof(o) <> typeof(b)"
		}
		s := p.Add(engine.Scan, keepRate, what, p.CreateKept(p.After, kept, keys, []string{c.Name}, false),
			fmt.Sprintf("insert into %s select %s, o, w from (select %s, %s as o, %s as w, %s as b from %s limit -1)%s",
				quote(kept), planning.KeptSQL("k", len(keys)), strings.Join(list, ", "), quote(old.Name),
				affine(value, declaration(c, strict)), back, quote(p.Table.Name), where))
		s.Keeps = []*engine.Keeping{{Table: p.Table.Name, Kept: kept, Keys: keys, Columns: []string{old.Name},
			What: engine.KeptConverted}}
		p.Follow(&p.Planner, s, true)
	}
}

// affine gives a value as a column of a declared type would store it.
func affine(value, declaration string) string {
	switch affinity(declaration) {
	case "text":
		return "(case when typeof(" + value + ") in ('integer', 'real') then cast(" + value + " as text) else " + value +
			" end)"
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
