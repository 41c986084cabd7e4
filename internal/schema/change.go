package schema

import (
	"slices"

	"lastboard/internal/sqltext"
)

// Change is what one statement does, or what takes it back.
type Change struct {
	At   sqltext.Pos // of the statement
	What string      // in words: "alter table vessel"

	// One of these is set.
	Table  *TableChange
	View   *ViewChange
	Rows   *RowChange
	Insert *InsertChange
	Delete *DeleteChange
	Assert *sqltext.Assert
	Native *NativeChange
	Mirror *MirrorChange
	Swap   *SwapChange
	Link   *LinkChange
	Watch  *WatchChange
}

// Subjects names the tables that the change is about and that exist before it.
func (c *Change) Subjects() []string {
	switch {
	case c.Table != nil && c.Table.Before != nil:
		return []string{c.Table.Before.Name}
	case c.Mirror != nil:
		return []string{c.Mirror.Before.Name}
	case c.Swap != nil:
		return []string{c.Swap.Before.Name}
	case c.Link != nil:
		return []string{c.Link.Before.Name}
	case c.Watch != nil:
		return []string{c.Watch.Table.Name}
	case c.Rows != nil:
		return []string{c.Rows.Table.Name}
	case c.Insert != nil:
		return []string{c.Insert.Table.Name}
	case c.Delete != nil:
		return []string{c.Delete.Table.Name}
	case c.Native != nil:
		var list []string
		for _, n := range c.Native.Statement.Touching {
			list = append(list, n.String())
		}
		return list
	}
	return nil
}

// TableChange turns one table into another. Before is nil when the table is
// made, After when it is dropped.
type TableChange struct {
	Before, After *Table
	// From gives for a column of After the column of Before it was; a column that
	// is not in it is added.
	From map[string]string
	// Fill says what existing rows get in a column of After.
	Fill map[string]Fill
	// Restore says what rows without a kept value get in a dropped column of
	// Before when the change is taken back. It reads the columns of After.
	Restore map[string]sqltext.Expr
	// Discard names the dropped columns of Before whose values are not kept; for a
	// dropped table any entry means the whole of it.
	Discard map[string]bool
	// Rebuild asks for the whole table to be copied.
	Rebuild bool
	// Placed says where columns of After were asked to stand; an engine that cannot
	// move a column without copying the table does it only where Rebuild is set.
	Placed map[string]sqltext.Place
	// Start is the number with which the column that numbers itself goes on.
	Start *int64
	// PutBack says where null was kept for columns of After that had been filled.
	PutBack map[string]*Kept
	// Rows is where the rows of a table that is made come from, when it is made
	// again.
	Rows *Kept
	// Back means that the change takes another one back.
	Back bool
	// Supplied are columns of After that the engine computes as Fill says where an insert leaves
	// them out, until they are in Unsupplied of another change, with that expression.
	Supplied   []string
	Unsupplied map[string]sqltext.Expr
	// StandIn is the name under which a view stands for the table once that has another name, and
	// NoStandIn that of one which goes as the table takes its name.
	StandIn, NoStandIn string
	// Unlinked is the link that ends as columns of it go; nil for none.
	Unlinked *Link
}

// Fill is what existing rows get in a column. Kept values come first where there
// are any; Expr, which reads the columns of Before, is for the others.
type Fill struct {
	Expr     sqltext.Expr
	Kept     *Kept
	OnlyNull bool // only rows that have null get it; their null is kept
	Cast     bool // Expr is the column itself as its new type: the value has to stay the same
}

// Kept is a table in which old values are kept, and where in it they are.
type Kept struct {
	Table  string   // its name in the database
	Keys   []string // columns of the changed table by which a row is found
	Column string   // the kept column
	// Wrote is the column that holds what the migration wrote: the kept value is for
	// rows that still hold it; "" for all.
	Wrote string
	// Reads are columns of the changed table that have to hold what is kept of them as r1….
	Reads []string
}

// ViewChange makes, drops or replaces a view.
type ViewChange struct{ Before, After *View }

// RowChange computes values for existing rows.
type RowChange struct {
	Table   *Table
	Set     []sqltext.Assignment
	From    *Source // what it reads beside its table; nil for nothing
	Where   sqltext.Expr
	Discard bool
	// PutBack takes the change back: the kept old values of the columns in Set go
	// back to the rows that still hold what was written.
	PutBack *Kept
}

// NativeChange is SQL of one engine, as written.
type NativeChange struct {
	SQL       string // of the direction that the change runs in; "" when it skips this engine
	Statement *sqltext.Native
}

// Added lists the columns of After that Before does not have.
func (c *TableChange) Added() []*Column {
	var list []*Column
	for _, col := range c.After.Columns {
		if _, ok := c.From[col.Name]; !ok {
			list = append(list, col)
		}
	}
	return list
}

// Dropped lists the columns of Before that After does not have.
func (c *TableChange) Dropped() []*Column {
	kept := map[string]bool{}
	for _, from := range c.From {
		kept[from] = true
	}
	var list []*Column
	for _, col := range c.Before.Columns {
		if !kept[col.Name] {
			list = append(list, col)
		}
	}
	return list
}

// Renamed gives the columns whose names change, from Before to After.
func (c *TableChange) Renamed() map[string]string {
	renames := map[string]string{}
	for to, from := range c.From {
		if to != from {
			renames[from] = to
		}
	}
	return renames
}

// Converted lists the columns of After that were in Before and whose every value is
// written anew.
func (c *TableChange) Converted() []string {
	var list []string
	for to := range c.From {
		if f, ok := c.Fill[to]; ok && !f.OnlyNull {
			list = append(list, to)
		}
	}
	slices.Sort(list)
	return list
}

// BeforeRenames gives After under the names that the table and its columns had in
// Before, and the renames of columns that then lead to After.
func (c *TableChange) BeforeRenames() (*Table, map[string]string) {
	renames := c.Renamed()
	if len(renames) == 0 && c.After.Name == c.Before.Name {
		return c.After, renames
	}
	t := c.After.copy()
	for from, to := range renames {
		t.Column(to).Name = from
		renameIn(t, to, from)
	}
	referTo(t, t.Name, c.Before.Name)
	t.Name = c.Before.Name
	return t, renames
}

// restoreMeanings says of columns that got another type, and mean what they meant, that what is written
// since is taken back as it is, unless something else was said.
func (c *TableChange) restoreMeanings() {
	for _, to := range c.Converted() {
		from := c.From[to]
		_, said := c.Restore[from]
		if t := c.Before.Column(from).Type; !said && !t.Native && !c.Fill[to].Cast && SameMeaning(c.Fill[to].Expr, from) {
			c.Restore[from] = &sqltext.Cast{X: &sqltext.Ref{Column: to}, Type: t}
		}
	}
}

// Invert gives the change that takes c back. What is filled on the way back is
// settled by Restore; kept values are added by who knows where they are.
func (c *TableChange) Invert() *TableChange {
	back := &TableChange{Before: c.After, After: c.Before, From: map[string]string{}, Fill: map[string]Fill{}, Back: true}
	for to, from := range c.From {
		back.From[from] = to
	}
	for column, e := range c.Restore {
		back.Fill[column] = Fill{Expr: e}
	}
	for _, to := range c.Converted() {
		from := c.From[to]
		if _, said := back.Fill[from]; said {
			continue
		}
		col, f := c.Before.Column(from), Fill{Expr: &sqltext.Literal{Kind: sqltext.NullLiteral, Text: "null"}}
		switch {
		case c.Fill[to].Cast:
			f = Fill{Expr: &sqltext.Cast{X: &sqltext.Ref{Column: to}, Type: col.Type}, Cast: true}
		case col.Default != nil && col.Default.Tree != nil:
			f.Expr = col.Default.Tree
		}
		back.Fill[from] = f
	}
	return back
}
