package postgres

import (
	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
)

// renameParts finds what goes and what is new, and gives constraints and indexes their
// new names.
func (p *planner) renameParts() {
	p.parts = p.FindParts()
	var names [][2]string
	for _, k := range p.parts.RenamedKeys {
		names = append(names, [2]string{k[0].Name, k[1].Name})
	}
	if a, b := p.Table.PrimaryKey, p.After.PrimaryKey; a != nil && planning.SameKey(a, b) &&
		!schema.SameName(a.Name, b.Name) {
		names = append(names, [2]string{a.Name, b.Name})
	}
	for _, k := range p.parts.RenamedChecks {
		names = append(names, [2]string{k[0].Name, k[1].Name})
	}
	for _, k := range p.parts.RenamedReferences {
		names = append(names, [2]string{k[0].Name, k[1].Name})
	}
	for _, n := range names {
		p.alterTable(engine.Catalog, 0, "rename constraint "+n[0]+" to "+n[1],
			"rename constraint "+quote(n[0])+" to "+quote(n[1]))
	}
	for _, x := range p.parts.RenamedIndexes {
		s := p.Add(engine.Catalog, 0, "rename index "+x[0].Name+" to "+x[1].Name,
			"alter index "+beside(p.Table.Name, x[0].Name)+" rename to "+quote(x[1].Name))
		s.Lock, s.WritersWait, s.Strong = "none", engine.WaitNo, []string{}
	}
}
