package plan

import (
	"context"

	"lastboard/internal/core/migration"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// A column that is added not null, with an expression for the rows and no default, would keep
// programs of before from adding rows: they leave it out. While the overlap is open, the server
// supplies it from that expression.

// suppliable lists the columns that statement i of a migration adds and that can be supplied: those
// of a table which the migration has not made itself, and of which no later statement changes
// anything.
func suppliable(m *migration.Migration, i int) (list []sqltext.Action) {
	st, ok := m.File.Statements[i].(*sqltext.AlterTable)
	if !ok {
		return nil
	}
	for _, before := range m.File.Statements[:i] {
		if made, ok := before.(*sqltext.CreateTable); ok && schema.SameName(made.Table.Name, st.Table.Name) {
			return nil
		}
	}
	for _, a := range st.Actions {
		add, ok := a.(*sqltext.AddColumn)
		if !ok || add.Using == nil || sqltext.HasSubquery(add.Using) || !demanded(add.Column) {
			continue
		}
		if !sqltext.OnlyKnown(add.Using) {
			continue // others may not be allowed to call what it calls, and no default of MariaDB's may
		}
		free := true
		for j, other := range m.File.Statements {
			free = free && (j < i || !reshapes(other, st, i == j, suppliedFrom(add)))
		}
		if free {
			list = append(list, add)
		}
	}
	return list
}

// demanded reports whether an insert has to give a column.
func demanded(c *sqltext.ColumnDef) bool {
	return c.NotNull && !c.PrimaryKey && c.Default == nil && c.Generated == nil && c.Identity == nil
}

// suppliedFrom lists a column with those that its expression reads.
func suppliedFrom(add *sqltext.AddColumn) []string {
	list := []string{add.Column.Name}
	for _, r := range sqltext.Refs(add.Using) {
		list = append(list, r.Column)
	}
	return list
}

// reshapes reports whether a statement changes columns of the table of an alter, or what the table
// is called. adding is set for that alter itself, which adds the first of them.
func reshapes(st sqltext.Statement, of *sqltext.AlterTable, adding bool, columns []string) bool {
	switch st := st.(type) {
	case *sqltext.DropTable:
		return schema.SameName(st.Table.Name, of.Table.Name)
	case *sqltext.AlterTable:
		if !schema.SameName(st.Table.Name, of.Table.Name) {
			return false
		}
		for _, a := range st.Actions {
			if _, adds := a.(*sqltext.AddColumn); adds && adding {
				continue
			}
			if _, renames := a.(*sqltext.RenameTable); renames || schema.HasName(columns, reshaped(a)) {
				return true
			}
		}
	}
	return false
}

// reshaped gives the column that an action gives another name, type, default or way to be filled,
// or takes away; "" where it does none of that.
func reshaped(a sqltext.Action) string {
	switch a := a.(type) {
	case *sqltext.AddColumn:
		return a.Column.Name
	case *sqltext.DropColumn:
		return a.Column
	case *sqltext.RenameColumn:
		return a.Column
	case *sqltext.SetType:
		return a.Column
	case *sqltext.SetDefault:
		return a.Column
	case *sqltext.SetNotNull:
		return a.Column
	case *sqltext.DropNotNull:
		return a.Column
	case *sqltext.SetExpression:
		return a.Column
	case *sqltext.SetOnUpdate:
		return a.Column
	case *sqltext.SetIdentity:
		return a.Column
	}
	return ""
}

// supplies parts what is left of a statement into the columns that are supplied until then and the
// rest; nil for none.
func supplies(later sqltext.Statement) (supplied []*sqltext.AddColumn, rest sqltext.Statement) {
	alter, ok := later.(*sqltext.AlterTable)
	if !ok || Linked(alter) {
		return nil, later
	}
	var others []sqltext.Action
	for _, a := range alter.Actions {
		if add, ok := a.(*sqltext.AddColumn); ok {
			supplied = append(supplied, add)
		} else {
			others = append(others, a)
		}
	}
	if len(others) == 0 {
		return supplied, nil
	}
	return supplied, altering(alter, others)
}

// possible leaves out of what is left of a statement the columns that the engine cannot supply;
// nil where nothing is left then.
func (p *Planner) possible(later sqltext.Statement) sqltext.Statement {
	alter, ok := later.(*sqltext.AlterTable)
	if !ok {
		return later // perhaps nil
	}
	t := p.current.Table(p.tableOf(alter))
	var actions []sqltext.Action
	for _, a := range alter.Actions {
		if add, ok := a.(*sqltext.AddColumn); !ok || t != nil && p.in.Engine.CannotSupply(t, add.Using) == "" {
			actions = append(actions, a)
		}
	}
	if len(actions) == 0 {
		return nil
	}
	return altering(alter, actions)
}

// addedNames gives the names of columns that are added.
func addedNames(list []*sqltext.AddColumn) (names []string) {
	for _, add := range list {
		names = append(names, add.Column.Name)
	}
	return names
}

// supplyEnds plans that the columns which were supplied until now are so no more.
func (p *Planner) supplyEnds(ctx context.Context, out *Plan, st *sqltext.AlterTable, list []*sqltext.AddColumn) error {
	t := p.current.Table(p.tableOf(st))
	if t == nil || len(list) == 0 {
		return nil // it has gone with its table
	}
	c := &schema.TableChange{Before: t, After: t, From: map[string]string{}, Fill: map[string]schema.Fill{},
		Unsupplied: map[string]sqltext.Expr{}}
	for _, col := range t.Columns {
		c.From[col.Name] = col.Name
	}
	for _, add := range list {
		if col := t.Column(add.Column.Name); col != nil {
			c.Unsupplied[col.Name] = add.Using
		}
	}
	c.After = p.in.Engine.Holds(c)
	return p.change(ctx, out, &schema.Change{At: st.Start(), What: "supply columns of " + t.Name + " no more", Table: c})
}
