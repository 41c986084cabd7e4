package planning

import (
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// Mirrors are the parts of statements about columns that are kept under two names: the columns and
// their other names as a person reads them, what lets the triggers compute the others, and the
// condition that a row differs by the two.
type Mirrors struct{ Columns, Names, Fills, Differ string }

// MirrorsOf gives them; differs gives the condition that two values are not the same.
func (p *Planner) MirrorsOf(pairs []schema.Mirror, differs func(a, b string) string) Mirrors {
	var columns, names, fills, differ []string
	for _, x := range pairs {
		columns, names = append(columns, x.Column), append(names, x.Name)
		fills = append(fills, p.Column(x.Column)+" = "+p.Column(x.Column))
		differ = append(differ, differs(p.Column(x.Column), p.Column(x.Name)))
	}
	return Mirrors{strings.Join(columns, ", "), strings.Join(names, ", "), strings.Join(fills, ", "),
		strings.Join(differ, " or ")}
}

// MendMirrors gives the statement that lets the triggers compute the mirrors of rows that differ.
func (p *Planner) MendMirrors(x Mirrors) string {
	return "update " + p.Name(p.Table.Name) + " set " + x.Fills + " where " + x.Differ
}

// FillMirrors does so for all rows.
func (p *Planner) FillMirrors(x Mirrors) {
	p.Update("fill "+x.Names, "update "+p.Name(p.Table.Name)+" set "+x.Fills+" where "+engine.Range+" and ("+x.Differ+
		")").Why = "the triggers compute it: to write it would look as if a program had"
}

// MirrorsAgree gives the select that gives a row where one differs.
func (p *Planner) MirrorsAgree(x Mirrors) string {
	return "select 'a row differs by its two names' from " + p.Name(p.Table.Name) + " where " + x.Differ + " limit 1"
}

// ProveMirrors asserts, before mirrors go, that no row differs.
func (p *Planner) ProveMirrors(x Mirrors) {
	keys, source := p.Sample(p.Table), " from "+p.Name(p.Table.Name)+" where "+x.Differ
	p.AddProof("prove that each row has the same in "+x.Names, engine.Proof{
		SQL:   "select " + strings.Join(keys, ", ") + source + " limit 5",
		Count: "select count(*)" + source, Keys: len(keys), Rule: "mirror-differs",
		Message: "%d rows have another value by the new name than by the old one: somebody wrote past the triggers",
		Cure:    "write what they should have by one of the names",
	})
}
