package schema

import (
	"slices"
	"strings"

	"lastboard/internal/sqltext"
)

// A column gets another type beside programs that write it: a second column, out of sight, is
// computed from it; then the two exchange their names in a moment, and from then on the first is
// computed from the second, so that the way back is such a moment, too; in the end it goes.

// SwapStage is one of the three parts of that.
type SwapStage string

// The stages, in their order.
const (
	SwapBeside SwapStage = "beside" // the second column comes, and is filled
	SwapTurn   SwapStage = "turn"   // the two exchange their names
	SwapEnd    SwapStage = "end"    // the one that is out of sight goes
)

// SwapChange is one stage, forward or on the way back.
type SwapChange struct {
	Stage SwapStage
	// Before and After are the table as it stands, with what is out of sight.
	Before, After *Table
	// As is the change of types as it would be made at once, of the table without what is out of
	// sight. Back in it means that it takes another back.
	As *TableChange
	// Keep asks that values are kept, as they are out of sight, that the columns do not give back.
	Keep bool
}

// Aside names the column out of sight that stands beside another.
func Aside(column string) string {
	return ConstraintName(&Table{Name: "lastboard"}, []string{column}, "aside")
}

// IsAside reports whether a name is that of such a column.
func IsAside(name string) bool {
	return strings.HasPrefix(name, "lastboard_") && strings.HasSuffix(name, "_aside")
}

// Asides lists the columns that change, by the names of those that stand beside them.
func (c *SwapChange) Asides() map[string]string {
	list := map[string]string{}
	for _, column := range c.Columns() {
		list[Aside(column)] = column
	}
	return list
}

// Columns lists the columns that get another type.
func (c *SwapChange) Columns() []string { return c.As.Converted() }

// Shown gives a table without what is out of sight beside columns.
func Shown(t *Table, columns []string) *Table {
	shown := t.copy()
	shown.Columns = slices.DeleteFunc(shown.Columns, func(c *Column) bool {
		return slices.ContainsFunc(columns, func(n string) bool { return SameName(c.Name, Aside(n)) })
	})
	return shown
}

// InSight gives a schema whose tables are without what is out of sight.
func InSight(s *Schema) *Schema {
	out := s.Copy()
	for _, t := range s.Tables {
		if !slices.ContainsFunc(t.Columns, func(c *Column) bool { return IsAside(c.Name) }) {
			continue
		}
		shown := t.copy()
		shown.Columns = slices.DeleteFunc(shown.Columns, func(c *Column) bool { return IsAside(c.Name) })
		out.put(t.Name, shown)
	}
	return out
}

// Unswapped gives a table with columns of the types that are out of sight beside them.
func Unswapped(t *Table, columns []string) *Table {
	was := Shown(t, columns)
	for _, n := range columns {
		if c, old := was.Column(n), t.Column(Aside(n)); c != nil && old != nil {
			c.Type, c.Declared, c.Collate = old.Type, old.Declared, old.Collate
		}
	}
	return was
}

// Swapping gives a stage of a change of types on a table as it stands. aside gives a column as it is
// out of sight, but for its name; last means that it comes last, and not behind the one beside it.
func Swapping(stage SwapStage, now *Table, as *TableChange, aside func(*Column) Column, last bool) *SwapChange {
	c := &SwapChange{Stage: stage, Before: now, As: as}
	hidden := func(col *Column) *Column {
		out := aside(col)
		out.Name = Aside(col.Name)
		return &out
	}
	columns := c.Columns()
	switch stage {
	case SwapBeside:
		c.After = now.copy()
		for _, n := range columns {
			at := len(c.After.Columns)
			if !last {
				at = c.After.Place(n) + 1
			}
			c.After.Columns = slices.Insert(c.After.Columns, at, hidden(as.After.Column(n)))
		}
	case SwapTurn:
		after := as.After.copy()
		after.Columns = nil
		for _, col := range now.Columns {
			next := col
			if n := c.Asides()[col.Name]; n != "" {
				next = as.After.Column(n)
			} else if HasName(columns, col.Name) {
				next = hidden(as.Before.Column(col.Name))
			}
			copied := *next
			after.Columns = append(after.Columns, &copied)
		}
		c.After = after
	case SwapEnd:
		c.After = Shown(now, columns)
	}
	return c
}

// Referred lists the columns of a table that a foreign key refers to.
func Referred(k *ForeignKey, t *Table) []string {
	if len(k.References) == 0 && t.PrimaryKey != nil {
		return t.PrimaryKey.Columns
	}
	return k.References
}

// CannotSwap says why columns of a table cannot get other types beside programs that write them,
// whatever the engine; "" where they can. c is the change as it would be made at once.
func CannotSwap(c *TableChange) string {
	t := c.Before
	if t.Key() == nil {
		return "the table has no primary key, by which its rows could be walked"
	}
	for _, n := range c.Converted() {
		old, col, f := t.Column(n), c.After.Column(n), c.Fill[n]
		uses := func(e Expr) bool { return e.Mentions(n) }
		switch {
		case old == nil || c.From[n] != n:
			return "it is given another name at once"
		case f.OnlyNull || f.Kept != nil || f.Expr == nil:
			return "its values come from elsewhere"
		case sqltext.HasSubquery(f.Expr) || !sqltext.OnlyKnown(f.Expr) || Unsteady(f.Expr) != "":
			return "what it gets cannot be computed for rows that come"
		case old.Generated != nil || col.Generated != nil:
			return "it is computed"
		case old.Limit != "" || col.Limit != "":
			return "a constraint of its own holds it to its type"
		case old.Equal != "" || col.Equal != "":
			return "its type stands in a schema of its own"
		case old.OnUpdateNow:
			return "it keeps the time of each update"
		case t.Column(Aside(n)) != nil:
			return "a column " + Aside(n) + " is there already"
		}
		for _, o := range t.Columns {
			if o.Generated != nil && uses(o.Generated.Expr) {
				return "column " + o.Name + " is computed from it"
			}
		}
		for _, x := range t.Indexes {
			plain := len(x.Options) == 0 && (x.Where == nil || !uses(*x.Where)) &&
				!slices.ContainsFunc(x.Parts, func(p IndexPart) bool { return p.Expr != nil && uses(*p.Expr) })
			if x.Uses(n) && !plain {
				return "index " + x.Name + " is more than one of columns"
			}
		}
	}
	return ""
}

// Referring gives the foreign keys of tables that refer to columns of another one which get other types,
// by those tables.
func Referring(c *TableChange, s *Schema) (tables []*Table, keys []*ForeignKey) {
	for _, t := range s.Tables {
		for _, k := range t.ForeignKeys {
			if SameName(k.Table, c.Before.Name) && slices.ContainsFunc(c.Converted(), func(n string) bool {
				return HasName(Referred(k, c.Before), n)
			}) {
				tables, keys = append(tables, t), append(keys, k)
			}
		}
	}
	return tables, keys
}
