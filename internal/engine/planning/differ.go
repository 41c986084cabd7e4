package planning

import (
	"maps"
	"slices"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// ProofsFirst puts the proofs that need no step before them in front, where they belong
// to the transaction before the change: what they refuse has touched nothing of it.
func (p *Planner) ProofsFirst() {
	var first, rest []*engine.Step
	for _, s := range p.Steps {
		if s.Proof == nil || s.Proof.Late {
			rest = append(rest, s)
			continue
		}
		s.ForeignKeysOff = false
		first = append(first, s)
	}
	p.Steps = append(first, rest...)
}

// From gives the column of before that a column of p.After was; nil if added.
func (p *Planner) From(c *schema.Column) *schema.Column {
	name := c.Name
	if to, ok := p.Renames[name]; ok {
		name = to
	}
	if from, ok := p.Change.From[name]; ok {
		return p.Table.Column(from)
	}
	return nil
}

// FillOf gives what existing rows get in a column of p.After.
func (p *Planner) FillOf(c *schema.Column) (schema.Fill, bool) {
	name := c.Name
	if to, ok := p.Renames[name]; ok {
		name = to
	}
	f, ok := p.Change.Fill[name]
	if old := p.From(c); ok && old != nil && f.Cast && f.Kept == nil && old.Limit != "" &&
		schema.Widens(old.Type, c.Type) {
		_, restored := p.Change.Restore[old.Name]
		if !restored {
			return schema.Fill{}, false // every value can stay as it is: a check has seen to it
		}
	}
	return f, ok
}

func (p *Planner) SameExpr(a, b *schema.Expr) bool {
	if a == nil || b == nil {
		return a == b
	}
	return p.Text(*a) == p.Text(*b) || a.Tree != nil && b.Tree != nil &&
		sqltext.PrintExpr(a.Tree) == sqltext.PrintExpr(b.Tree)
}

func SameKey(a, b *schema.Key) bool {
	if a == nil || b == nil {
		return a == b
	}
	return slices.EqualFunc(a.Columns, b.Columns, schema.SameName) && maps.Equal(a.Options, b.Options)
}

// Split compares two lists of named parts: which are gone, and which are new.
func Split[T any](before, after []T, same func(a, b T) bool) (gone, added []T) {
	for _, b := range before {
		if !slices.ContainsFunc(after, func(a T) bool { return same(a, b) }) {
			gone = append(gone, b)
		}
	}
	for _, a := range after {
		if !slices.ContainsFunc(before, func(b T) bool { return same(a, b) }) {
			added = append(added, a)
		}
	}
	return gone, added
}

func (p *Planner) Uniques() (gone, added []*schema.Key) {
	return Split(p.Table.Uniques, p.After.Uniques, func(a, b *schema.Key) bool {
		return schema.SameName(a.Name, b.Name) && SameKey(a, b) && a.AsIndex == b.AsIndex
	})
}

func (p *Planner) Checks() (gone, added []*schema.Check) {
	return Split(p.Table.Checks, p.After.Checks, func(a, b *schema.Check) bool {
		return schema.SameName(a.Name, b.Name) && p.SameExpr(&a.Expr, &b.Expr)
	})
}

func (p *Planner) ForeignKeys() (gone, added []*schema.ForeignKey) {
	return Split(p.Table.ForeignKeys, p.After.ForeignKeys, func(a, b *schema.ForeignKey) bool {
		return schema.SameName(a.Name, b.Name) && p.References(a) == p.References(b) &&
			slices.EqualFunc(a.Columns, b.Columns, schema.SameName)
	})
}

func (p *Planner) Indexes() (gone, added []*schema.Index) {
	return Split(p.Table.Indexes, p.After.Indexes, func(a, b *schema.Index) bool {
		return a.Name == b.Name && schema.Words(p.Index(p.Table, a)) == schema.Words(p.Index(p.Table, b))
	})
}

// Dropped lists the columns of before that are gone, generated ones first.
func (p *Planner) Dropped() []*schema.Column {
	list := p.Change.Dropped()
	slices.SortStableFunc(list, func(a, b *schema.Column) int {
		switch {
		case a.Generated != nil && b.Generated == nil:
			return -1
		case a.Generated == nil && b.Generated != nil:
			return 1
		}
		return 0
	})
	return list
}

// LimitChanges reports whether a column gets another type that the engine stores in
// the same way: only the check that enforces it is another, as for an enum with one
// value more.
func (p *Planner) LimitChanges(old, c *schema.Column) bool {
	f, filled := p.FillOf(c)
	return !old.Type.Equal(c.Type) && old.Limit != "" && c.Limit != "" &&
		p.Declaration(p.Table, old) == p.Declaration(p.Table, c) &&
		(!filled || f.Cast && f.Kept == nil)
}
