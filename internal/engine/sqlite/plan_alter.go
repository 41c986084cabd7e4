package sqlite

import (
	"maps"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/engine"
)

// alter changes a table: what SQLite does in place is done in place, the rest by
// a rebuild in one transaction. Columns and the table get their new names last, by
// SQLite itself, which then rewrites views, triggers and foreign keys.
func (p *planner) alter() ([]*engine.Step, error) {
	c := p.change
	p.table, p.rows = c.Before, p.facts.Rows[c.Before.Name]
	p.after, p.renames = c.BeforeRenames()
	why := p.needsRebuild()
	p.off = why != "" // so that all of it is one transaction
	p.indexKept()
	p.alterProofs()
	p.proofsFirst()
	p.keepDropped()
	p.keepConverted()
	if why != "" {
		p.rebuild(why)
		p.standing = p.after
	} else {
		p.inPlace()
		p.standing = p.surviving()
	}
	p.putNullsBack()
	p.rename()
	p.comments()
	p.restart(c.After)
	p.followAfter()
	return p.steps, p.err
}

// proofsFirst puts the proofs that need no step before them in front, where they belong
// to the transaction before the change: what they refuse has touched nothing of it.
func (p *planner) proofsFirst() {
	var first, rest []*engine.Step
	for _, s := range p.steps {
		if s.Proof == nil || s.Proof.Late {
			rest = append(rest, s)
			continue
		}
		s.ForeignKeysOff = false
		first = append(first, s)
	}
	p.steps = append(first, rest...)
}

// from gives the column of before that a column of p.after was; nil if added.
func (p *planner) from(c *schema.Column) *schema.Column {
	name := c.Name
	if to, ok := p.renames[name]; ok {
		name = to
	}
	if from, ok := p.change.From[name]; ok {
		return p.table.Column(from)
	}
	return nil
}

// fill gives what existing rows get in a column of p.after.
func (p *planner) fill(c *schema.Column) (schema.Fill, bool) {
	name := c.Name
	if to, ok := p.renames[name]; ok {
		name = to
	}
	f, ok := p.change.Fill[name]
	if old := p.from(c); ok && old != nil && f.Cast && f.Kept == nil && old.Limit != "" && schema.Widens(old.Type, c.Type) {
		_, restored := p.change.Restore[old.Name]
		if !restored {
			return schema.Fill{}, false // every value can stay as it is: a check has seen to it
		}
	}
	return f, ok
}

func (p *planner) text(e schema.Expr) string { return (Engine{}).Text(e) }

func (p *planner) sameExpr(a, b *schema.Expr) bool {
	if a == nil || b == nil {
		return a == b
	}
	return p.text(*a) == p.text(*b)
}

// needsRebuild says why the table has to be copied; "" if SQLite can do all of
// it in place (engine facts for 3.54: alter table).
func (p *planner) needsRebuild() string {
	b, a := p.table, p.after
	if p.change.Rebuild {
		return "it was asked for"
	}
	if !maps.Equal(b.Options, a.Options) {
		return "the table's options change"
	}
	position := 0
	seen := false
	for _, c := range a.Columns {
		old := p.from(c)
		if old == nil {
			seen = true
			if why := p.addNeedsRebuild(c); why != "" {
				return why
			}
			continue
		}
		i := slices.Index(b.Columns, old)
		if seen || i < position {
			return "the columns' order changes"
		}
		position = i
		if why := p.changeNeedsRebuild(old, c); why != "" {
			return why
		}
	}
	if !sameNamedKey(b.PrimaryKey, a.PrimaryKey) {
		return "the primary key changes"
	}
	return p.constraintsNeedRebuild()
}

func (p *planner) addNeedsRebuild(c *schema.Column) string {
	switch {
	case p.table.Column(c.Name) != nil:
		return "a column of the same name is dropped"
	case c.Generated != nil && c.Generated.Stored:
		return "SQLite adds no stored generated column to a table"
	case c.Default != nil && (c.Default.Tree == nil || !schema.Constant(c.Default.Tree)) && !(c.Default.Tree == nil && plainConstant(c.Default.Native)):
		return "SQLite adds no column whose default is computed"
	case c.Identity != nil:
		return "SQLite adds no column that numbers itself"
	}
	return ""
}

func plainConstant(text string) bool {
	w := schema.Words(text)
	return plainDefault(text) && w != "current_timestamp" && w != "current_date" && w != "current_time"
}

func (p *planner) changeNeedsRebuild(old, c *schema.Column) string {
	sameGenerated := (old.Generated == nil) == (c.Generated == nil)
	if sameGenerated && old.Generated != nil {
		sameGenerated = old.Generated.Stored == c.Generated.Stored && p.sameExpr(&old.Generated.Expr, &c.Generated.Expr)
	}
	options := func(o map[string]string) map[string]string {
		o = maps.Clone(o)
		maps.DeleteFunc(o, func(k, _ string) bool { return strings.Contains(k, "not null") })
		return o
	}
	f, filled := p.fill(c)
	switch {
	case filled && !f.OnlyNull && !p.limitChanges(old, c):
		return "the values of " + c.Name + " change"
	case !p.limitChanges(old, c) && (!old.Type.Equal(c.Type) || old.Declared != c.Declared || (old.Limit == "") != (c.Limit == "")):
		return "the type of " + c.Name + " changes"
	case !p.sameExpr(old.Default, c.Default):
		return "SQLite changes no default"
	case !sameGenerated:
		return "the expression of " + c.Name + " changes"
	case (old.Identity == nil) != (c.Identity == nil) || old.Collate != c.Collate || !maps.Equal(options(old.Options), options(c.Options)):
		return "the definition of " + c.Name + " changes"
	case old.NotNull != c.NotNull && (c.Options["not null name"] != "" || c.Options["not null on conflict"] != ""):
		return "the named not null of " + c.Name + " comes back"
	}
	return ""
}

// limitChanges reports whether a column gets another type that SQLite stores in the
// same way: only the check that enforces it is another, as for an enum with one
// value more.
func (p *planner) limitChanges(old, c *schema.Column) bool {
	strict := p.table.Options["strict"] != ""
	f, filled := p.fill(c)
	return !old.Type.Equal(c.Type) && old.Limit != "" && c.Limit != "" && declaration(old, strict) == declaration(c, strict) &&
		(!filled || f.Cast && f.Kept == nil)
}

func sameKey(a, b *schema.Key) bool {
	if a == nil || b == nil {
		return a == b
	}
	return slices.EqualFunc(a.Columns, b.Columns, schema.SameName) && maps.Equal(a.Options, b.Options)
}

// sameNamedKey tells primary keys apart by their names, too, where they have one.
func sameNamedKey(a, b *schema.Key) bool {
	return sameKey(a, b) && (a == nil || a.Implied == b.Implied && (a.Implied || schema.SameName(a.Name, b.Name)))
}

// split compares two lists of named parts: which are gone, and which are new.
func split[T any](before, after []T, same func(a, b T) bool) (gone, added []T) {
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

func (p *planner) uniques() (gone, added []*schema.Key) {
	return split(p.table.Uniques, p.after.Uniques, func(a, b *schema.Key) bool {
		return schema.SameName(a.Name, b.Name) && sameKey(a, b) && a.AsIndex == b.AsIndex
	})
}

func (p *planner) checks() (gone, added []*schema.Check) {
	return split(p.table.Checks, p.after.Checks, func(a, b *schema.Check) bool {
		return schema.SameName(a.Name, b.Name) && p.sameExpr(&a.Expr, &b.Expr)
	})
}

func (p *planner) foreignKeys() (gone, added []*schema.ForeignKey) {
	return split(p.table.ForeignKeys, p.after.ForeignKeys, func(a, b *schema.ForeignKey) bool {
		return schema.SameName(a.Name, b.Name) && references(a) == references(b) && slices.EqualFunc(a.Columns, b.Columns, schema.SameName)
	})
}

func (p *planner) indexes() (gone, added []*schema.Index) {
	return split(p.table.Indexes, p.after.Indexes, func(a, b *schema.Index) bool {
		return a.Name == b.Name && schema.Words(createIndex(p.table, a)) == schema.Words(createIndex(p.table, b))
	})
}

func (p *planner) constraintsNeedRebuild() string {
	gone, added := p.uniques()
	for _, k := range append(gone, added...) {
		if !k.AsIndex {
			return "a unique constraint that is part of the table changes"
		}
	}
	goneChecks, addedChecks := p.checks()
	for _, k := range append(goneChecks, addedChecks...) {
		if k.Implied || len(k.Options) > 0 {
			return "a check without a name changes"
		}
	}
	goneKeys, addedKeys := p.foreignKeys()
	for _, k := range goneKeys {
		if k.Implied {
			return "a foreign key without a name changes"
		}
	}
	for _, k := range addedKeys {
		if !p.inline(k) {
			return "SQLite adds no foreign key to a table"
		}
	}
	for _, c := range p.dropped() {
		for _, k := range p.table.Uniques {
			if !k.AsIndex && schema.HasName(k.Columns, c.Name) {
				return "a unique constraint that is part of the table goes with column " + c.Name
			}
		}
	}
	return ""
}

// inline reports whether a foreign key can come with the column it is on.
func (p *planner) inline(k *schema.ForeignKey) bool {
	if len(k.Columns) != 1 {
		return false
	}
	c := p.after.Column(k.Columns[0])
	return p.from(c) == nil && c.Default == nil && !k.Implied && (!c.NotNull || p.filled(c))
}

func (p *planner) filled(c *schema.Column) bool {
	_, ok := p.fill(c)
	return ok
}

// dropped lists the columns of before that are gone, generated ones first.
func (p *planner) dropped() []*schema.Column {
	list := p.change.Dropped()
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
