package check

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
)

// table gives the table that a statement changes, as far as it is known.
func (c *checker) table(n sqltext.Name) *schema.Table {
	if c.tables == nil || n.Schema != "" {
		return nil
	}
	t := c.tables.Table(n.Name)
	if t == nil || t.Opaque != "" {
		return nil
	}
	return t
}

func (c *checker) alter(st *sqltext.AlterTable) {
	t := c.table(st.Table)
	var added []*sqltext.AddColumn
	var dropped []*sqltext.DropColumn
	renamed := map[string]bool{}
	is := t // what constraints that come are of, where it stays as it was
	for _, a := range st.Actions {
		switch a := a.(type) {
		case *sqltext.RenameColumn:
			renamed[strings.ToLower(a.Column)] = true
			is = nil
		case *sqltext.SetType, *sqltext.AddColumn:
			is = nil
		}
	}
	for _, a := range st.Actions {
		switch a := a.(type) {
		case *sqltext.AddColumn:
			added = append(added, a)
			c.column(t, a.Column)
			c.expr(t, a.Using, a.At)
			c.nullable(t, a.Using, a.At)
			c.invented(a.Using, a.At)
			if a.Using == nil && a.Column.Default != nil {
				c.invented(a.Column.Default, a.At)
			}
			c.position(a.At, a.Column.Name, a.Column.Position)
		case *sqltext.DropColumn:
			dropped = append(dropped, a)
			c.discard(a.At, a.Discard, "the values of column "+a.Column)
			c.cannotReturn(t, a)
		case *sqltext.RenameColumn:
			c.name(a.At, a.To)
		case *sqltext.RenameTable:
			c.name(a.At, a.To)
		case *sqltext.SetType:
			c.retyped(t, a, renamed[strings.ToLower(a.Column)])
		case *sqltext.SetDefault:
			if a.Value == nil {
				continue
			}
			c.add(fault.Note, a.At, "default-leaves-old-rows", "add a backfill if existing rows should have it, too", "a default is for new rows: rows in which %s is null stay as they are", a.Column)
		case *sqltext.SetNotNull:
			c.expr(t, a.Using, a.At)
			c.nullable(t, a.Using, a.At)
		case *sqltext.SetExpression:
			c.expr(t, a.Value, a.At)
			if col := columnOf(t, a.Column); col != nil && a.Value != nil {
				c.rounded(a.At, a.Column, col.Type, a.Value)
			}
		case *sqltext.SetPosition:
			c.position(a.At, a.Column, &a.Position)
		case *sqltext.SetIdentity:
			c.always(a.At, a.Column, a.Identity)
		case *sqltext.AddConstraint:
			c.name(a.At, a.Constraint.Name)
			c.expr(is, a.Constraint.Expr, a.At)
		}
	}
	key := strings.ToLower(st.Table.Name)
	c.gone[key] = append(c.gone[key], dropped...)
	for _, d := range c.gone[key] {
		for _, a := range added {
			if a.Using == nil && d.Restore == nil && a.Column.Generated == nil {
				c.add(fault.Warning, a.At, "looks-like-rename", fmt.Sprintf("write rename column %s to %s, or using (…) to say what the rows get", d.Column, a.Column.Name),
					"%s is dropped and %s added, and nothing carries the values over", d.Column, a.Column.Name)
			}
		}
	}
}

func columnOf(t *schema.Table, name string) *schema.Column {
	if t == nil {
		return nil
	}
	return t.Column(name)
}

func (c *checker) column(t *schema.Table, col *sqltext.ColumnDef) {
	c.name(col.Pos, col.Name)
	c.typeNative(col.Type)
	for _, e := range col.Checks {
		c.expr(nil, e, col.Pos)
	}
	if col.Generated != nil {
		c.expr(t, col.Generated.Expr, col.Pos)
		c.nullable(t, col.Generated.Expr, col.Pos)
		c.rounded(col.Pos, col.Name, col.Type, col.Generated.Expr)
	}
	if col.Default != nil {
		c.expr(nil, col.Default, col.Pos)
	}
	c.always(col.Pos, col.Name, col.Identity)
}

func (c *checker) typeNative(t sqltext.Type) {
	if t.Native {
		c.add(fault.Note, t.Pos, "type-native", "portable types are: "+strings.Join(sqltext.TypeNames(), ", "), "%s is no portable type and is passed on as it is", t)
	}
}

// retyped finds what is dangerous in another type for a column.
func (c *checker) retyped(t *schema.Table, a *sqltext.SetType, renamed bool) {
	c.typeNative(a.Type)
	c.expr(t, a.Using, a.At)
	c.nullable(t, a.Using, a.At)
	c.discard(a.At, a.Discard, "the old values of column "+a.Column)
	if a.Using != nil && !renamed && !schema.SameMeaning(a.Using, a.Column) {
		c.add(fault.Warning, a.At, "meaning-changes", "rename it in the same statement, so that no program takes one for the other; a live database refuses it otherwise",
			"%s keeps its name, and its values become something else", a.Column)
	}
}

// cannotReturn warns of a dropped column that rows which come later have nothing for.
func (c *checker) cannotReturn(t *schema.Table, a *sqltext.DropColumn) {
	col := columnOf(t, a.Column)
	if col != nil && col.NotNull && col.Default == nil && col.Generated == nil && a.Restore == nil {
		c.add(fault.Warning, a.At, "retreat-may-be-refused", "add restore using (expression) to say what such rows get",
			"%s is not null and has no default: once rows have come without it, a retreat has nothing for them", a.Column)
	}
}

// position notes a place that the engine does not give without copying the table.
func (c *checker) position(pos sqltext.Pos, column string, p *sqltext.Place) {
	if p != nil && !p.Rebuild && c.engine.Name() == "sqlite" {
		c.add(fault.Note, pos, "position-not-kept", "write rebuild behind it to have the table copied, or leave out the place", "%s stands last, or stays where it is, unless the table is copied", column)
	}
}

func (c *checker) always(pos sqltext.Pos, column string, i *sqltext.Identity) {
	if i != nil && i.Always && c.engine.Name() == "sqlite" {
		c.add(fault.Note, pos, "identity-not-enforced", "write by default, which is what it is there", "SQLite cannot keep programs from writing numbers of their own into %s", column)
	}
}

// rounded warns of a computed column with digits after the point whose expression
// does not round to them.
func (c *checker) rounded(pos sqltext.Pos, column string, t sqltext.Type, e sqltext.Expr) {
	if t.Name != "numeric" || len(t.Args) == 0 {
		return
	}
	if call, ok := e.(*sqltext.Call); ok && (call.Name == "round" || call.Name == "floor" || call.Name == "ceiling") {
		return
	}
	if _, ok := e.(*sqltext.Cast); ok {
		return
	}
	scale := 0
	if len(t.Args) == 2 {
		scale = t.Args[1]
	}
	c.add(fault.Warning, pos, "computed-not-rounded", fmt.Sprintf("write round(…, %d) around the expression", scale),
		"%s is %s, and its expression does not round: engines differ in what they store", column, t)
}

// fits finds a default of a new table that no row could get. A table that is taken under
// care may have one; where a column is added or changed it is refused.
func (c *checker) fits(pos sqltext.Pos, column string, t sqltext.Type, e sqltext.Expr) {
	if why := schema.Unfit(t, e); why != "" {
		c.add(fault.Warning, pos, "default-does-not-fit", "write a default that the column can hold", "the default of column %s cannot stand in it: %s", column, why)
	}
}

// nullable notes a concatenation that a null makes null.
func (c *checker) nullable(t *schema.Table, e sqltext.Expr, pos sqltext.Pos) {
	if t == nil || e == nil {
		return
	}
	var said []string
	sqltext.Walk(e, func(x sqltext.Expr) bool {
		b, ok := x.(*sqltext.Binary)
		if !ok || b.Op != "||" {
			return true
		}
		for _, side := range []sqltext.Expr{b.L, b.R} {
			r, ok := side.(*sqltext.Ref)
			if !ok {
				continue
			}
			if col := t.Column(r.Column); col != nil && !col.NotNull && !slices.Contains(said, col.Name) {
				said = append(said, col.Name)
				c.add(fault.Note, pos, "null-in-concatenation", "write concat(…), which leaves nulls out, or coalesce("+col.Name+", '')", "where %s is null, the whole of || is null", col.Name)
			}
		}
		return true
	})
}

// longestName is the shortest limit of the engines, in bytes.
const longestName = 63

// name warns of a name that has to be quoted on some engine.
func (c *checker) name(pos sqltext.Pos, name string) {
	if len(name) > longestName {
		c.add(fault.Warning, pos, "name-too-long", fmt.Sprintf("choose one of at most %d bytes", longestName), "%s is longer than an engine allows", name)
	}
	word := strings.ToLower(name)
	for _, e := range []struct {
		engine string
		words  []string
	}{{"SQLite", sqliteWords}, {"PostgreSQL", postgresWords}, {"MariaDB", mariadbWords}} {
		if slices.Contains(e.words, word) {
			c.add(fault.Warning, pos, "name-reserved", "choose another name: every program has to quote this one", "%s is a reserved word on %s", name, e.engine)
			return
		}
	}
}
