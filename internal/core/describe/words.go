package describe

import (
	"slices"

	"lastboard/internal/schema"
)

// InWords gives tables as they stand with the expressions as migrations wrote them, wherever the
// engine, which spells them in its own way, means the same by both. written is the tables as the
// texts of the migrations that ran make them.
func InWords(live, written *schema.Schema, text schema.Text) *schema.Schema {
	out := *live
	out.Tables = slices.Clone(live.Tables)
	for i, t := range out.Tables {
		if was := written.Table(t.Name); was != nil {
			out.Tables[i] = inWords(t, was, text)
		}
	}
	return &out
}

func inWords(t, was *schema.Table, text schema.Text) *schema.Table {
	out := *t
	out.Columns, out.Checks = slices.Clone(t.Columns), slices.Clone(t.Checks)
	written := func(own, theirs *schema.Expr) *schema.Expr {
		if own == nil || theirs == nil || theirs.Tree == nil || !schema.SameExpr(own, theirs, text) {
			return own
		}
		return theirs
	}
	for i, c := range out.Columns {
		before := was.Column(c.Name)
		if before == nil {
			continue
		}
		col := *c
		col.Default = written(c.Default, before.Default)
		if c.Generated != nil && before.Generated != nil {
			g := *c.Generated
			g.Expr = *written(&c.Generated.Expr, &before.Generated.Expr)
			col.Generated = &g
		}
		out.Columns[i] = &col
	}
	for i, k := range out.Checks {
		for _, before := range was.Checks {
			if schema.SameName(k.Name, before.Name) {
				check := *k
				check.Expr = *written(&k.Expr, &before.Expr)
				out.Checks[i] = &check
			}
		}
	}
	return &out
}
