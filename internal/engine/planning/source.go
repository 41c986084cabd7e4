package planning

import (
	"fmt"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Own names a column of the table itself.
func (p *Planner) Own(column string) string {
	if p.Source != nil {
		return p.Name(p.Table.Name) + "." + p.Column(column)
	}
	return p.Column(column)
}

// Tables lists the table and its source, for a statement whose condition joins them.
func (p *Planner) Tables() string {
	if p.Source == nil {
		return p.Name(p.Table.Name)
	}
	return p.Name(p.Table.Name) + ", " + p.Name(p.Source.Table.Name) + " as " + p.Column(p.Source.Alias)
}

// ReadSource settles what a backfill reads beside its table, and proves that no row
// gets more than one value. A file becomes a table first, by the step that is given.
func (p *Planner) ReadSource(c *schema.RowChange) (load *engine.Step) {
	if c.From == nil {
		return nil
	}
	source := *c.From
	p.Source = &source
	if source.File != "" {
		source.Table = typed(c)
		source.Table.Name = strings.Replace(p.Facts.KeptTable(), "kept", "csv", 1)
		load = p.Load(p, &source)
		p.Steps = append(p.Steps, load)
	}
	keys := p.Keys()
	condition := ""
	if c.Where != nil {
		condition = " where " + p.Render(c.Where, Computed)
	}
	groups := "(select " + aliased(keys) + ", count(*) as n from " + p.RowsOf() + condition + " group by " +
		strings.Join(keys, ", ") + " having count(*) > 1) as lastboard_groups"
	p.AddProof("prove that every row of "+p.Table.Name+" gets one value alone", engine.Proof{
		SQL:   "select " + KeptSQL("lastboard_key", len(keys)) + ", n || ' times' from " + groups + " limit 5",
		Count: "select count(*) from " + groups, Keys: len(keys), Rule: "rows-ambiguous",
		Message: fmt.Sprintf("%s gives more than one row for %%d rows of %s", source.Alias, p.Table.Name),
		Cure:    "say with where which of them is meant, or join by a key",
	})
	return load
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
			if r, ok := set.Value.(*sqltext.Ref); ok && schema.SameName(r.Table, c.From.Alias) &&
				schema.SameName(r.Column, col.Name) {
				copied.Type = c.Table.Column(set.Column).Type
			}
		}
		t.Columns = append(t.Columns, &copied)
	}
	return t
}
