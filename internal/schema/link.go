package schema

import (
	"maps"
	"slices"

	"lastboard/internal/sqltext"
)

// LinkChange keeps columns of a table and those that are made from them equal, both ways: programs of
// before write the first, those of after the others.
type LinkChange struct {
	Before, After *Table // as it stands, with both
	Link
	// Kept is where values of the new columns were kept on an earlier way back.
	Kept map[string]*Kept
}

// Link says how columns are made from each other.
type Link struct {
	// Old are columns that go in the end, with what they get of the new ones; New are those that are
	// made from them, and how.
	Old, New map[string]sqltext.Expr
}

// LinkOf gives the link of a change that drops columns and adds others, or that gives a column another
// meaning with another name.
func LinkOf(c *TableChange) Link {
	l := Link{map[string]sqltext.Expr{}, map[string]sqltext.Expr{}}
	for _, d := range c.Dropped() {
		l.Old[d.Name] = c.Restore[d.Name]
	}
	for _, a := range c.Added() {
		l.New[a.Name] = c.Fill[a.Name].Expr
	}
	for _, to := range c.Converted() {
		l.Old[c.From[to]], l.New[to] = c.Restore[c.From[to]], c.Fill[to].Expr
	}
	return l
}

// Columns lists both kinds, by their names.
func (l Link) Columns() (old, fresh []string) {
	return slices.Sorted(maps.Keys(l.Old)), slices.Sorted(maps.Keys(l.New))
}

// LinkStage says how far a column of a link is.
type LinkStage int

// An old column goes, a new one is added, and its rows are filled.
const (
	LinkGoes LinkStage = iota
	LinkAdded
	LinkFilled
)

// Stands gives a column of a link as it stands meanwhile.
type Stands func(l Link, c *Column, at LinkStage) Column

// Beside gives the change that adds the new columns of a link to a table, and lets it be written by
// either. as is the change as it would be made at once.
func Beside(as *TableChange, l Link, stands Stands) *TableChange {
	after := as.Before.copy()
	c := &TableChange{Before: as.Before, After: after, From: map[string]string{}, Fill: map[string]Fill{},
		Restore: map[string]sqltext.Expr{}, Discard: map[string]bool{}, Placed: map[string]sqltext.Place{}}
	for i, col := range after.Columns {
		c.From[col.Name] = col.Name
		if _, ok := l.Old[col.Name]; ok {
			s := stands(l, col, LinkGoes)
			after.Columns[i] = &s
		}
	}
	for _, col := range as.After.Columns {
		if _, ok := l.New[col.Name]; ok {
			s := stands(l, col, LinkAdded)
			after.Columns = append(after.Columns, &s)
		}
	}
	return c
}

// Filled gives a table in which the rows of the new columns of a link have their values. end is the table
// as the link leaves it.
func Filled(t, end *Table, l Link, stands Stands) *Table {
	after := t.copy()
	for _, c := range after.Columns {
		if _, ok := l.New[c.Name]; ok {
			s := stands(l, end.Column(c.Name), LinkFilled)
			c.NotNull, c.Default = s.NotNull, s.Default
		}
	}
	return after
}

// Unlinked gives a table as it was before a link, or, with the old columns, what the statement finds.
func Unlinked(t *Table, l Link) *Table {
	out := t.copy()
	out.Columns = slices.DeleteFunc(out.Columns, func(c *Column) bool { _, ok := l.New[c.Name]; return ok })
	return out
}

// Ended gives the change that takes the old columns of a link away. as is the statement's own, of the
// table without the new columns.
func Ended(now *Table, as *TableChange, l Link) *TableChange {
	after := now.copy()
	c := &TableChange{Before: now, After: after, From: map[string]string{}, Fill: map[string]Fill{},
		Restore: map[string]sqltext.Expr{}, Discard: map[string]bool{}, Placed: map[string]sqltext.Place{}, Unlinked: &l}
	after.Columns = slices.DeleteFunc(after.Columns, func(c *Column) bool { _, ok := l.Old[c.Name]; return ok })
	for i, col := range after.Columns {
		c.From[col.Name] = col.Name
		if _, ok := l.New[col.Name]; ok {
			end := *as.After.Column(col.Name)
			after.Columns[i] = &end
		}
	}
	for name, e := range l.Old {
		c.Restore[name] = e
	}
	return c
}

// CannotLink says why columns cannot be kept equal to those that they are made from; "" where they can.
func CannotLink(as *TableChange, l Link, s *Schema) string {
	t := as.Before
	if t.Key() == nil {
		return "the table has no primary key, by which its rows could be walked"
	}
	for n := range l.Old {
		c := t.Column(n)
		if why := CannotMirror(t, n); why != "" {
			return n + ": " + why
		}
		if c.Limit != "" || c.OnUpdateNow {
			return "a constraint of its own holds " + n + " to its type"
		}
		key := func(k *Key) bool { return k != nil && HasName(k.Columns, n) }
		_, converted := as.Fill[n]
		renamed := as.After.Column(n) == nil && slices.ContainsFunc(as.Converted(),
			func(to string) bool { return as.From[to] == n })
		if used := key(t.PrimaryKey) || slices.ContainsFunc(t.Uniques, key) ||
			slices.ContainsFunc(t.Indexes, func(x *Index) bool { return x.Uses(n) }) ||
			slices.ContainsFunc(t.Checks, func(k *Check) bool { return k.Expr.Mentions(n) }) ||
			slices.ContainsFunc(t.ForeignKeys, func(k *ForeignKey) bool { return HasName(k.Columns, n) }); used &&
			(renamed || converted) {
			return "an index or a constraint is about " + n
		}
		for _, o := range s.Tables {
			for _, k := range o.ForeignKeys {
				if SameName(k.Table, t.Name) && HasName(Referred(k, t), n) {
					return "table " + o.Name + " refers to " + n + " (foreign key " + k.Name + ")"
				}
			}
		}
	}
	for n := range l.New {
		c := as.After.Column(n)
		switch {
		case t.Column(n) != nil:
			return "there is a column " + n + " already"
		case c.Generated != nil || c.Identity != nil || c.Limit != "" || c.OnUpdateNow || len(c.Options) > 0:
			return n + " is more than a column of its type"
		case c.Default != nil && (c.Default.Tree == nil || !Constant(c.Default.Tree)):
			return "the default of " + n + " is computed for each row: a program that leaves it out cannot be told from one " +
				"that writes it"
		}
	}
	return ""
}
