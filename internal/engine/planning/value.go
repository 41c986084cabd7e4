package planning

import (
	"fmt"
	"slices"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Value gives what existing rows get in a column, as SQL over before; ok is false
// when the engine's own default says it.
func (p *Planner) Value(c *schema.Column, m Mode) (sql string, ok bool) {
	f, ok := p.FillOf(c)
	if !ok {
		return p.DefaultValue(c), false
	}
	rest := p.DefaultValue(c)
	switch {
	case f.Expr != nil:
		rest = p.Render(f.Expr, m)
	}
	if f.Kept == nil {
		return rest, true
	}
	from := p.KeptFor(c, f.Kept)
	value := "(select k." + p.Column(f.Kept.Column) + from + ")"
	if rest == "null" {
		return value, true
	}
	return "case when exists (select 1" + from + ") then " + value + " else " + p.As(rest, c) + " end", true
}

// KeptFor gives the part of a query that finds the kept row for a row's column.
func (p *Planner) KeptFor(c *schema.Column, k *schema.Kept) string {
	return p.keptFor(Noting{Kept: k.Table, Keys: k.Keys}, c, k)
}

func (p *Planner) keptFor(n Noting, c *schema.Column, k *schema.Kept) string {
	from := p.keptRow(n)
	_, called := p.kept(n)
	if k.Wrote != "" {
		from += " and " + p.Same(called+"."+p.Column(k.Wrote), p.Name(p.Table.Name)+"."+p.Column(p.From(c).Name))
	}
	for i, r := range k.Reads {
		from += " and " + p.Same(fmt.Sprint(called, ".r", i+1), p.Name(p.Table.Name)+"."+p.Column(r))
	}
	return from
}

func (p *Planner) DefaultValue(c *schema.Column) string {
	switch {
	case c.Default == nil:
		return "null"
	case c.Default.Tree != nil:
		return p.Render(c.Default.Tree, Stored)
	}
	return "(" + c.Default.Native + ")"
}

// PreviewAdded shows what added columns get beside what that is made of.
func (p *Planner) PreviewAdded() string {
	var sources, values []string
	for _, c := range p.After.Columns {
		if p.Recomputed(c) && c.Generated.Expr.Tree != nil {
			for _, name := range p.After.Mentioned(c.Generated.Expr) {
				if col := p.Table.Column(name); col != nil && !slices.Contains(sources, p.Column(name)) &&
					!slices.Contains(p.Sample(p.Table), p.Column(name)) {
					sources = append(sources, p.Column(name))
				}
			}
			name := c.Name
			if p.From(c) != nil {
				sources = append(sources, p.Column(p.From(c).Name))
				name += " after"
			}
			values = append(values, p.Substituted(c.Generated.Expr.Tree)+" as "+p.Column(name))
			continue
		}
		f, ok := p.FillOf(c)
		if !ok || f.OnlyNull || f.Kept != nil || f.Expr == nil || p.From(c) != nil && p.LimitChanges(p.From(c), c) {
			continue
		}
		for _, r := range sqltext.Refs(f.Expr) {
			if col := p.Table.Column(r.Column); col != nil && !slices.Contains(sources, p.Column(col.Name)) &&
				!slices.Contains(p.Sample(p.Table), p.Column(col.Name)) {
				sources = append(sources, p.Column(col.Name))
			}
		}
		value, _ := p.Value(c, Proven)
		name := c.Name
		if to, ok := p.Renames[name]; ok {
			name = to
		} else if p.From(c) != nil {
			name += " after"
		}
		values = append(values, value+" as "+p.Column(name))
	}
	if len(values) == 0 {
		return ""
	}
	return p.Preview(append(sources, values...), "")
}

// PutNullsBack takes a fill of nulls back, where the rows still hold it.
func (p *Planner) PutNullsBack() {
	for _, c := range p.After.Columns {
		name := c.Name
		if to, ok := p.Renames[name]; ok {
			name = to
		}
		if k := p.Change.PutBack[name]; k != nil {
			p.putBack(k, "put null back into "+c.Name, []string{c.Name})
			p.LetGo([]string{k.Table})
		}
	}
}

// LetGo drops tables of kept values that were put back.
func (p *Planner) LetGo(tables []string) {
	for _, t := range tables {
		s := p.Add(engine.Catalog, 0, "let go of what was kept", p.Forget(t)...)
		s.PutsBack = []string{t}
	}
}

// Sources lists the columns of the table that an expression reads, those behind computed
// ones among them: its value is another once one of them changes.
func (p *Planner) Sources(e sqltext.Expr) []*schema.Column {
	var list []*schema.Column
	var add func(e sqltext.Expr)
	add = func(e sqltext.Expr) {
		for _, r := range sqltext.Refs(e) {
			c := p.Table.Column(r.Column)
			switch {
			case c == nil || slices.Contains(list, c):
			case c.Generated != nil && c.Generated.Expr.Tree != nil:
				add(c.Generated.Expr.Tree)
			default:
				list = append(list, c)
			}
		}
	}
	add(e)
	return list
}
