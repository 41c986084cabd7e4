package plan

import (
	"lastboard/internal/schema"
)

// Which tables a plan is about.

// Touched lists the tables that the plan changes, by their name before and, where
// it has another, after.
func (p *Plan) Touched() []string {
	var names []string
	add := func(n string) {
		if n != "" && !schema.HasName(names, n) {
			names = append(names, n)
		}
	}
	for _, r := range p.Records {
		if r.Table != nil && r.Table.Before != nil {
			add(r.Table.Before.Name)
		}
		if r.Table != nil && r.Table.After != nil {
			add(r.Table.After.Name)
		}
		if r.Rows != nil {
			add(r.Rows.Table)
		}
		if r.Insert != nil {
			add(r.Insert.Table)
		}
		if r.Delete != nil {
			add(r.Delete.Table)
		}
		if r.Mirror != nil {
			add(r.Mirror.Table)
		}
		if r.Link != nil {
			add(r.Link.Table)
		}
		if r.Swap != nil {
			add(r.Swap.As.Before.Name)
		}
		if r.Native != nil {
			for _, t := range r.Native.Touching {
				add(t)
			}
		}
	}
	return names
}

// Changed lists the tables before a plan that are others after it: also those of which its records say
// nothing, as on the way back from an overlap for which nothing had to be done.
func (p *Plan) Changed() (names []string) {
	if p.Before == nil || p.After == nil {
		return nil
	}
	d := schema.Since(p.Before, p.After).Without(p.Unsure)
	names = d.Gone
	for _, t := range d.Tables {
		if p.Before.Table(t.Name) != nil {
			names = append(names, t.Name)
		}
	}
	return names
}

// untouched reports whether a table's rows are still as they are in the database;
// "" stands for all tables.
func (p *Planner) untouched(table string) bool {
	if table == "" {
		return len(p.touched) == 0
	}
	return !schema.HasName(p.touched, table)
}

func (p *Planner) touch(c *schema.Change) {
	for _, name := range changedTables(c) {
		if !schema.HasName(p.touched, name) {
			p.touched = append(p.touched, name)
		}
	}
}

func changedTables(c *schema.Change) []string {
	var names []string
	if c.Table != nil {
		for _, t := range []*schema.Table{c.Table.Before, c.Table.After} {
			if t != nil {
				names = append(names, t.Name)
			}
		}
	}
	switch {
	case c.Mirror != nil:
		names = append(names, c.Mirror.Before.Name)
	case c.Swap != nil:
		names = append(names, c.Swap.Before.Name)
	case c.Link != nil:
		names = append(names, c.Link.Before.Name)
	case c.Rows != nil:
		names = append(names, c.Rows.Table.Name)
	case c.Insert != nil:
		names = append(names, c.Insert.Table.Name)
	case c.Delete != nil:
		names = append(names, c.Delete.Table.Name)
	}
	if c.Native != nil && c.Native.SQL != "" {
		for _, t := range c.Native.Statement.Touching {
			names = append(names, t.String())
		}
	}
	return names
}
