package mariadb

import (
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// The server adds a check of the table's own only by copying the table, and one in the
// definition of a column without reading a row. So the checks of a large table stand in
// the definitions of its columns. The server gives those no names: they carry theirs
// themselves, as a condition that always holds.

// namePrefix begins the text by which a check in a column's definition carries its name.
const namePrefix = "constraint "

// columnCheck gives the check that stands in a column's own definition; "" where there
// is none.
func columnCheck(t *schema.Table, c *schema.Column) string {
	var list []string
	if c.Limit != "" {
		list = append(list, limit(c.Type, c.Name))
	}
	if t != nil {
		for _, k := range t.Checks {
			switch {
			case k.Column == "" || !schema.SameName(k.Column, c.Name):
			case k.Implied:
				list = append(list, stored(t, k.Expr))
			default:
				list = append(list, literal(namePrefix+k.Name)+" <> '' and ("+stored(t, k.Expr)+")")
			}
		}
	}
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return "(" + strings.Join(list, ") and (") + ")"
}

// inPlace gives the table with the checks that stand on it until new ones are added, each
// where it really stands.
func (p *planner) inPlace() *schema.Table {
	t := *p.After
	t.Checks = nil
	for _, k := range p.After.Checks {
		if !slices.Contains(p.parts.Checks, k) {
			k := *k
			for _, there := range p.Table.Checks {
				if schema.SameName(there.Name, k.Name) {
					k.Column = there.Column
				}
			}
			t.Checks = append(t.Checks, &k)
		}
	}
	t.Checks = append(t.Checks, p.placed...)
	return &t
}

// without gives the table as it was, without the checks that go.
func (p *planner) without() *schema.Table {
	t := *p.Table
	t.Checks = slices.DeleteFunc(slices.Clone(t.Checks), func(k *schema.Check) bool {
		return slices.Contains(p.parts.GoneChecks, k)
	})
	return &t
}

// dropCarried takes off the checks that stand in the definitions of columns.
func (p *planner) dropCarried() (actions, names []string) {
	t := p.without()
	for _, c := range p.Table.Columns {
		var gone []string
		for _, k := range p.parts.GoneChecks {
			if schema.SameName(k.Column, c.Name) {
				gone = append(gone, k.Name)
			}
		}
		if len(gone) > 0 {
			actions, names = append(actions, "modify column "+columnSQL(t, c)), append(names, gone...)
		}
	}
	return actions, names
}

// check adds one. On a large table it holds for new rows at once, and is then proven for
// the others.
func (p *planner) check(k *schema.Check) {
	c := p.carrier(k)
	if c == nil {
		s := p.alterTable(engine.Rewrite, rewriteRate, "add constraint "+k.Name, "add "+checkSQL(p.After, k))
		s.Outside.Done = hasConstraint(p.Table.Name, k.Name)
		return
	}
	if c.Generated != nil && (p.From(c) == nil || p.isRemade(c)) {
		return // it has come with its column
	}
	before := columnSQL(p.inPlace(), c)
	in := *k
	in.Column = c.Name
	p.placed = append(p.placed, &in)
	breaks := "select " + literal("a row breaks constraint "+k.Name) + " from " + p.table() + " where not (" +
		stored(p.After, k.Expr) + ") limit 1"
	s := p.define(engine.Scan, scanRate, "add constraint "+k.Name, "",
		p.alterSQL("modify column "+columnSQL(p.inPlace(), c)), breaks)
	s.Outside.Clean = []engine.Statement{{SQL: p.alterSQL("modify column " + before)}}
	s.Why = "it holds for new rows at once, as a part of column " + c.Name +
		", and is then proven for the others without keeping writers waiting"
}

// carrier gives the column whose definition a new check comes to stand in; nil when the
// table's own has to hold it.
func (p *planner) carrier(k *schema.Check) *schema.Column {
	if k.Column != "" {
		return p.After.Column(k.Column)
	}
	if p.small {
		return nil
	}
	for _, c := range p.After.Columns {
		if c.Generated == nil && c.Identity == nil && k.Expr.Mentions(c.Name) {
			return c
		}
	}
	return nil
}
