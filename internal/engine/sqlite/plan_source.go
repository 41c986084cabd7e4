package sqlite

import (
	"fmt"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
)

// own names a column of the table itself.
func (p *planner) own(column string) string {
	if p.source != nil {
		return quote(p.table.Name) + "." + quote(column)
	}
	return quote(column)
}

// tables lists the table and its source, for a statement whose condition joins them.
func (p *planner) tables() string {
	if p.source == nil {
		return quote(p.table.Name)
	}
	return quote(p.table.Name) + ", " + quote(p.source.Table.Name) + " as " + quote(p.source.Alias)
}

// readSource settles what a backfill reads beside its table, and proves that no row
// gets more than one value. A file becomes a table first: then loaded is true.
func (p *planner) readSource(c *schema.RowChange) (loaded bool) {
	if c.From == nil {
		return false
	}
	source := *c.From
	p.source = &source
	if loaded = source.File != ""; loaded {
		source.Table = typed(c)
		source.Table.Name = strings.Replace(p.facts.KeptTable(), "kept", "csv", 1)
		p.steps = append(p.steps, p.load(&source))
	}
	keys := p.keys()
	condition := ""
	if c.Where != nil {
		condition = " where " + p.render(c.Where, true)
	}
	groups := "(select " + aliased(keys) + ", count(*) as n from " + p.rowsOf() + condition + " group by " + strings.Join(keys, ", ") + " having count(*) > 1)"
	p.addProof("prove that every row of "+p.table.Name+" gets one value alone", engine.Proof{
		SQL:   "select " + keptSQL("key", len(keys)) + ", n || ' times' from " + groups + " limit 5",
		Count: "select count(*) from " + groups, Keys: len(keys), Rule: "rows-ambiguous",
		Message: fmt.Sprintf("%s gives more than one row for %%d rows of %s", source.Alias, p.table.Name),
		Cure:    "say with where which of them is meant, or join by a key",
	})
	return loaded
}

// typed gives the table that a file becomes: its columns have the types of those that
// they are compared with or given to.
func typed(c *schema.RowChange) *schema.Table {
	t := &schema.Table{}
	for _, col := range c.From.Table.Columns {
		copied := *col
		for _, on := range c.From.On {
			if schema.SameName(on.Other, col.Name) {
				copied.Type = c.Table.Column(on.Column).Type
			}
		}
		for _, set := range c.Set {
			if r, ok := set.Value.(*sqltext.Ref); ok && schema.SameName(r.Table, c.From.Alias) && schema.SameName(r.Column, col.Name) {
				copied.Type = c.Table.Column(set.Column).Type
			}
		}
		t.Columns = append(t.Columns, &copied)
	}
	return t
}

// load gives the step that makes a table of a file.
func (p *planner) load(s *schema.Source) *engine.Step {
	t := s.Table
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(t.Columns)), ", ")
	columns := quoteAll(t.ColumnNames())
	create := createTable(t, t.Name)
	var on []string
	l := &engine.Load{File: s.File}
	for _, c := range t.Columns {
		l.Types = append(l.Types, c.Type)
	}
	for _, pair := range s.On {
		on = append(on, quote(pair.Other))
		for i, c := range t.Columns {
			if c.Name == pair.Other {
				l.Keys = append(l.Keys, i)
			}
		}
	}
	index := func(database string) string {
		return "create index " + database + quote(t.Name+"_key") + " on " + quote(t.Name) + " (" + strings.Join(on, ", ") + ")"
	}
	l.Insert = "insert into main." + quote(t.Name) + " (" + columns + ") values (" + marks + ")"
	l.Lend = []string{"drop table if exists temp." + quote(t.Name), strings.Replace(create, "create table ", "create temp table ", 1), index("temp.")}
	l.LendRow = "insert into temp." + quote(t.Name) + " (" + columns + ") values (" + marks + ")"
	l.Unmatched = "select count(*) from " + quote(t.Name) + " as " + quote(s.Alias) + " where not exists (select 1 from " + quote(p.table.Name) + " where " + p.joined() + ")"
	step := &engine.Step{
		Kind: engine.Catalog, Table: p.table.Name, What: "read " + s.File, SQL: []string{create, index("main.")},
		Lock: writeLock, WritersWait: engine.WaitBriefly, Load: l, Undo: []string{"drop table if exists main." + quote(t.Name)},
	}
	return step
}
