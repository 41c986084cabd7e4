package schema

import (
	"slices"

	"lastboard/internal/sqltext"
)

// MirrorChange gives columns of a table another name beside their own, under which they are
// read and written, too: mirrors that are kept equal to them. Off takes mirrors away.
type MirrorChange struct {
	Before, After *Table
	Pairs         []Mirror
	Off           bool
	// Proven asks that no row may differ as they go: what was written by either name has to be
	// in both.
	Proven bool
	// Renames gives the columns the names of their mirrors in the moment in which those go.
	Renames bool
}

// Renaming gives the change as that of a table without mirrors whose columns are renamed; nil where
// none is.
func (c *MirrorChange) Renaming() *TableChange {
	if !c.Renames {
		return nil
	}
	out := &TableChange{Before: Unmirrored(c.Before, c.Pairs), After: c.After, From: map[string]string{}}
	for _, col := range c.After.Columns {
		out.From[col.Name] = col.Name
	}
	for _, m := range c.Pairs {
		out.From[m.Name] = m.Column
	}
	return out
}

// Mirror is a column and the name of its mirror.
type Mirror struct {
	Column string `json:"column"`
	Name   string `json:"name"`
}

// Twin gives a column that has another name beside one, and nothing that is enforced.
func Twin(c *Column, name string) Column {
	m := *c
	m.Name, m.NotNull, m.Limit, m.Comment = name, false, "", ""
	return m
}

// Mirrored gives a table with mirrors, each with indexes as its column has: programs look rows
// up by the new name, too, and rely on what is unique. beside gives one as the engine has it.
func Mirrored(t *Table, pairs []Mirror, beside func(c *Column, name string) Column) *Table {
	after := t.copy()
	for _, m := range pairs {
		c := beside(after.Column(m.Column), m.Name)
		after.Columns = append(after.Columns, &c)
	}
	add := func(name string, unique bool, parts []IndexPart, where *Expr) {
		copied, mirrored := slices.Clone(parts), false
		for i, p := range parts {
			for _, m := range pairs {
				if SameName(p.Column, m.Column) {
					copied[i].Column, mirrored = m.Name, true
				}
			}
		}
		if mirrored {
			after.Indexes = append(after.Indexes, &Index{Name: ConstraintName(after, partColumns(copied), "mirror"),
				Unique: unique, Parts: copied, Where: where})
		}
	}
	keys := slices.Clone(t.Uniques)
	if t.PrimaryKey != nil {
		keys = append(keys, t.PrimaryKey)
	}
	for _, k := range keys {
		var parts []IndexPart
		for _, c := range k.Columns {
			parts = append(parts, IndexPart{Column: c})
		}
		add(k.Name, true, parts, nil)
	}
	for _, x := range t.Indexes {
		plain := len(x.Options) == 0 && !slices.ContainsFunc(x.Parts, func(p IndexPart) bool { return p.Expr != nil })
		if plain && (x.Where == nil || !slices.ContainsFunc(pairs,
			func(m Mirror) bool { return x.Where.Mentions(m.Column) })) {
			add(x.Name, x.Unique, x.Parts, x.Where)
		}
	}
	return after
}

// Unmirrored gives a table without mirrors, and without their indexes.
func Unmirrored(t *Table, pairs []Mirror) *Table {
	after := t.copy()
	for _, m := range pairs {
		after.Columns = slices.DeleteFunc(after.Columns, func(c *Column) bool { return SameName(c.Name, m.Name) })
		after.Indexes = slices.DeleteFunc(after.Indexes, func(x *Index) bool { return x.Uses(m.Name) })
		for i, c := range after.Columns {
			if c.Default != nil && c.Default.Mentions(m.Name) {
				plain := *c
				plain.Default = nil
				after.Columns[i] = &plain
			}
		}
	}
	return after
}

func partColumns(parts []IndexPart) (list []string) {
	for _, p := range parts {
		list = append(list, p.Column)
	}
	return list
}

// CannotMirror says why a column can have no mirror; "" where it can.
func CannotMirror(t *Table, column string) string {
	c := t.Column(column)
	switch {
	case c == nil:
		return "there is no such column"
	case c.Generated != nil:
		return "it is computed"
	case c.Identity != nil || len(c.Options) > 0:
		return "it numbers itself, or has what only this engine has"
	case c.OnUpdateNow:
		return "it keeps the time of each update"
	case c.Equal != "":
		return "its type stands in a schema of its own"
	case c.Default != nil && (c.Default.Tree == nil || !Constant(c.Default.Tree)):
		return "its default is computed for each row: a program that leaves it out cannot be told from one that writes it"
	case t.Key() == nil:
		return "the table has no primary key, by which its rows could be walked"
	}
	return ""
}

// RenamesOf lists the columns that an alter renames, with their new names.
func RenamesOf(st sqltext.Statement) (list []Mirror) {
	if st, ok := st.(*sqltext.AlterTable); ok {
		for _, a := range st.Actions {
			if r, ok := a.(*sqltext.RenameColumn); ok {
				list = append(list, Mirror{r.Column, r.To})
			}
		}
	}
	return list
}
