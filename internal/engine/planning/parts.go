package planning

import (
	"slices"

	"lastboard/internal/schema"
)

// Parts are the constraints and indexes that go, and those that are new. What only gets
// another name is neither.
type Parts struct {
	GoneKeys, Keys             []*schema.Key
	GoneChecks, Checks         []*schema.Check
	GoneReferences, References []*schema.ForeignKey
	GoneIndexes, Indexes       []*schema.Index

	RenamedKeys       [][2]*schema.Key
	RenamedChecks     [][2]*schema.Check
	RenamedReferences [][2]*schema.ForeignKey
	RenamedIndexes    [][2]*schema.Index
}

// FindParts finds what goes and what is new.
func (p *Planner) FindParts() Parts {
	var s Parts
	goneKeys, keys := p.Uniques()
	s.GoneKeys, s.Keys, s.RenamedKeys = pairUp(goneKeys, keys, SameKey)
	goneChecks, checks := p.Checks()
	s.GoneChecks, s.Checks, s.RenamedChecks = pairUp(goneChecks, checks,
		func(a, b *schema.Check) bool { return p.SameExpr(&a.Expr, &b.Expr) })
	goneReferences, references := p.ForeignKeys()
	s.GoneReferences, s.References, s.RenamedReferences = pairUp(goneReferences, references,
		func(a, b *schema.ForeignKey) bool {
			return slices.EqualFunc(a.Columns, b.Columns, schema.SameName) && p.References(a) == p.References(b)
		})
	goneIndexes, indexes := p.Indexes()
	s.GoneIndexes, s.Indexes, s.RenamedIndexes = pairUp(goneIndexes, indexes, func(a, b *schema.Index) bool {
		other := *b
		other.Name = a.Name
		return schema.Words(p.Index(p.Table, a)) == schema.Words(p.Index(p.Table, &other))
	})
	return s
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
