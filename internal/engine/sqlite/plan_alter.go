package sqlite

import (
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// alter changes a table: what SQLite does in place is done in place, the rest by
// a rebuild in one transaction. Columns and the table get their new names last, by
// SQLite itself, which then rewrites views, triggers and foreign keys.
func (p *planner) alter() ([]*engine.Step, error) {
	c := p.Change
	p.Table, p.Rows = c.Before, p.Facts.Rows[c.Before.Name]
	p.After, p.Renames = c.BeforeRenames()
	why := p.needsRebuild()
	p.Off = why != "" // so that all of it is one transaction
	p.indexKept()
	p.AlterProofs()
	p.ProofsFirst()
	if why != "" {
		p.keepDropped()
		p.keepConverted()
		p.rebuild(why)
		p.Standing = p.After
	} else {
		p.inPlace()
		p.Standing = p.surviving()
	}
	p.PutNullsBack()
	p.rename()
	p.comments()
	p.restart(c.After)
	p.followAfter()
	return p.Steps, p.Err
}

// needsRebuild says why the table has to be copied; "" if SQLite can do all of
// it in place (engine facts for 3.54: alter table).
func (p *planner) needsRebuild() string {
	b, a := p.Table, p.After
	if p.Change.Rebuild {
		return "it was asked for"
	}
	if !maps.Equal(b.Options, a.Options) {
		return "the table's options change"
	}
	for _, c := range p.Dropped() {
		if schema.HasName(rowNames, c.Name) {
			return "SQLite drops no column called " + c.Name
		}
	}
	position := 0
	seen := false
	for _, c := range a.Columns {
		old := p.From(c)
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
	case p.Table.Column(c.Name) != nil:
		return "a column of the same name is dropped"
	case c.Generated != nil && c.Generated.Stored:
		return "SQLite adds no stored generated column to a table"
	case c.Default != nil && (c.Default.Tree == nil || !schema.Constant(c.Default.Tree)) &&
		!(c.Default.Tree == nil && plainConstant(c.Default.Native)):
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
		sameGenerated = old.Generated.Stored == c.Generated.Stored && p.SameExpr(&old.Generated.Expr, &c.Generated.Expr)
	}
	options := func(o map[string]string) map[string]string {
		o = maps.Clone(o)
		maps.DeleteFunc(o, func(k, _ string) bool { return strings.Contains(k, "not null") })
		return o
	}
	f, filled := p.FillOf(c)
	switch {
	case filled && !f.OnlyNull && !p.LimitChanges(old, c):
		return "the values of " + c.Name + " change"
	case !p.LimitChanges(old, c) && (!old.Type.Equal(c.Type) || old.Declared != c.Declared ||
		(old.Limit == "") != (c.Limit == "")):
		return "the type of " + c.Name + " changes"
	case !p.SameExpr(old.Default, c.Default):
		return "SQLite changes no default"
	case !sameGenerated:
		return "the expression of " + c.Name + " changes"
	case (old.Identity == nil) != (c.Identity == nil) || old.Collate != c.Collate ||
		!maps.Equal(options(old.Options), options(c.Options)):
		return "the definition of " + c.Name + " changes"
	case old.NotNull != c.NotNull && (c.Options["not null name"] != "" || c.Options["not null on conflict"] != ""):
		return "the named not null of " + c.Name + " comes back"
	}
	return ""
}

// sameNamedKey tells primary keys apart by their names, too, where they have one.
func sameNamedKey(a, b *schema.Key) bool {
	return planning.SameKey(a, b) && (a == nil || a.Implied == b.Implied && (a.Implied || schema.SameName(a.Name, b.Name)))
}

func (p *planner) constraintsNeedRebuild() string {
	gone, added := p.Uniques()
	for _, k := range append(gone, added...) {
		if !k.AsIndex {
			return "a unique constraint that is part of the table changes"
		}
	}
	goneChecks, addedChecks := p.Checks()
	for _, k := range append(goneChecks, addedChecks...) {
		if k.Implied || len(k.Options) > 0 {
			return "a check without a name changes"
		}
	}
	goneKeys, addedKeys := p.ForeignKeys()
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
	for _, c := range p.Dropped() {
		for _, k := range p.Table.Uniques {
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
	c := p.After.Column(k.Columns[0])
	return p.From(c) == nil && c.Default == nil && !k.Implied && (!c.NotNull || p.filled(c))
}

func (p *planner) filled(c *schema.Column) bool {
	_, ok := p.FillOf(c)
	return ok
}
