package planning

import (
	"slices"

	"lastboard/internal/schema"
)

// ServerWords gives the expressions of a table that was planned the words in which the
// server keeps them, where they are new or have changed: the two cannot be compared as
// text. got is the table as the server has it on a trial; nil where it has none.
func ServerWords(want, got *schema.Table) {
	if got == nil {
		return
	}
	words := func(w, g *schema.Expr) *schema.Expr {
		if w == nil || g == nil || w.Native != "" || w.Tree == nil {
			return w
		}
		if g.Tree == nil {
			g.Tree = w.Tree
		}
		return &schema.Expr{Tree: w.Tree, Native: g.Native}
	}
	// The server puts a column that comes at the end, wherever it was.
	slices.SortStableFunc(want.Columns, func(a, b *schema.Column) int { return got.Place(a.Name) - got.Place(b.Name) })
	for _, col := range want.Columns {
		g := got.Column(col.Name)
		if g == nil {
			continue
		}
		col.Default = words(col.Default, g.Default)
		if col.Generated != nil && g.Generated != nil {
			col.Generated = &schema.Generated{Expr: *words(&col.Generated.Expr, &g.Generated.Expr), Stored: col.Generated.Stored}
		}
	}
	want.Checks = slices.Clone(want.Checks)
	for i, k := range want.Checks {
		for _, g := range got.Checks {
			if schema.SameName(g.Name, k.Name) {
				copied := *k
				copied.Expr = *words(&k.Expr, &g.Expr)
				want.Checks[i] = &copied
			}
		}
	}
	want.Indexes = slices.Clone(want.Indexes)
	for i, x := range want.Indexes {
		g := got.Index(x.Name)
		if g == nil || len(g.Parts) != len(x.Parts) {
			continue
		}
		copied := *x
		copied.Where = words(x.Where, g.Where)
		copied.Parts = slices.Clone(x.Parts)
		for j := range copied.Parts {
			copied.Parts[j].Expr = words(x.Parts[j].Expr, g.Parts[j].Expr)
		}
		if x.Options["definition"] != "" {
			copied.Options = g.Options
		}
		want.Indexes[i] = &copied
	}
}
