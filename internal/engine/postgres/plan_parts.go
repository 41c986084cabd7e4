package postgres

import (
	"slices"

	"lastboard/internal/core/schema"
	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
)

// parts are the constraints and indexes that go, and those that are new. What only gets
// another name is neither.
type parts struct {
	goneKeys, keys             []*schema.Key
	goneChecks, checks         []*schema.Check
	goneReferences, references []*schema.ForeignKey
	goneIndexes, indexes       []*schema.Index
}

// pairUp takes out of what goes and what is new the pairs that differ in their names
// alone.
func pairUp[T any](gone, added []T, same func(a, b T) bool) (restGone, restAdded []T, pairs [][2]T) {
	rest := slices.Clone(added)
	for _, g := range gone {
		i := slices.IndexFunc(rest, func(a T) bool { return same(g, a) })
		if i < 0 {
			restGone = append(restGone, g)
			continue
		}
		pairs = append(pairs, [2]T{g, rest[i]})
		rest = slices.Delete(rest, i, i+1)
	}
	return restGone, rest, pairs
}

// renameParts finds what goes and what is new, and gives constraints and indexes their
// new names.
func (p *planner) renameParts() {
	var names [][2]string
	gone, added := p.Uniques()
	keys, newKeys, renamed := pairUp(gone, added, planning.SameKey)
	p.parts.goneKeys, p.parts.keys = keys, newKeys
	for _, k := range renamed {
		names = append(names, [2]string{k[0].Name, k[1].Name})
	}
	if a, b := p.Table.PrimaryKey, p.After.PrimaryKey; a != nil && planning.SameKey(a, b) && !schema.SameName(a.Name, b.Name) {
		names = append(names, [2]string{a.Name, b.Name})
	}
	goneChecks, addedChecks := p.Checks()
	checks, newChecks, renamedChecks := pairUp(goneChecks, addedChecks, func(a, b *schema.Check) bool { return p.SameExpr(&a.Expr, &b.Expr) })
	p.parts.goneChecks, p.parts.checks = checks, newChecks
	for _, k := range renamedChecks {
		names = append(names, [2]string{k[0].Name, k[1].Name})
	}
	goneReferences, addedReferences := p.ForeignKeys()
	references, newReferences, renamedReferences := pairUp(goneReferences, addedReferences, func(a, b *schema.ForeignKey) bool {
		return slices.EqualFunc(a.Columns, b.Columns, schema.SameName) && p.References(a) == p.References(b)
	})
	p.parts.goneReferences, p.parts.references = references, newReferences
	for _, k := range renamedReferences {
		names = append(names, [2]string{k[0].Name, k[1].Name})
	}
	for _, n := range names {
		p.alterTable(engine.Catalog, 0, "rename constraint "+n[0]+" to "+n[1], "rename constraint "+quote(n[0])+" to "+quote(n[1]))
	}
	goneIndexes, addedIndexes := p.Indexes()
	var renamedIndexes [][2]*schema.Index
	p.parts.goneIndexes, p.parts.indexes, renamedIndexes = pairUp(goneIndexes, addedIndexes, func(a, b *schema.Index) bool {
		other := *b
		other.Name = a.Name
		return schema.Words(createIndex(p.Table, a)) == schema.Words(createIndex(p.Table, &other))
	})
	for _, x := range renamedIndexes {
		s := p.Add(engine.Catalog, 0, "rename index "+x[0].Name+" to "+x[1].Name, "alter index "+beside(p.Table.Name, x[0].Name)+" rename to "+quote(x[1].Name))
		s.Lock, s.WritersWait, s.Strong = "none", engine.WaitNo, []string{}
	}
}
