package mariadb

import (
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// While an overlap is open, a view stands for a renamed table under its old name. One statement gives
// both their names; the view has to be there before, and reads the new name, which another view has
// until then. What programs may with the old name they may with the view: rights stay with names, and
// it acts with those of who made it.

// standInName names a view while it has no other name.
func standInName(t *schema.Table, kind string) string {
	return schema.ConstraintName(&schema.Table{Name: engine.Prefix + t.Name}, nil, kind)
}

// standIn renames the table and lets a view stand for it.
func (p *planner) standIn(final *schema.Table) {
	columns, view, gone := quoteAll(p.Table.ColumnNames()), standInName(p.Table, "view"), standInName(p.Table, "gone")
	to := quote(final.Name)
	s := p.define(engine.Catalog, 0, "make a view that will stand for "+p.Table.Name, "",
		"drop view if exists "+quote(gone),
		"create or replace algorithm=merge sql security definer view "+to+" as select "+columns+" from "+p.table(),
		"create or replace algorithm=merge sql security definer view "+quote(view)+" as select "+columns+" from "+to)
	s.Lock, s.WritersWait, s.Strong = "none", engine.WaitNo, []string{}
	for _, n := range []string{quote(view), quote(gone), to} {
		s.Undo = append(s.Undo, "drop view if exists "+n)
	}
	s = p.define(engine.Catalog, 0, "rename table "+p.Table.Name+" to "+final.Name+", and let the view stand for it",
		hasTable(final.Name)+" and table_type <> 'VIEW'",
		"rename table "+to+" to "+quote(gone)+", "+p.table()+" to "+to+", "+quote(view)+" to "+p.table())
	s.Why = "programs of before use the old name until the overlap is settled"
	p.define(engine.Catalog, 0, "drop the view that had the new name until then", "", "drop view if exists "+quote(gone)).
		Strong = []string{}
}

// noStandIn takes the view away as the table takes its name.
func (p *planner) noStandIn(final *schema.Table) {
	gone, to := standInName(final, "gone"), quote(final.Name)
	p.define(engine.Catalog, 0, "rename table "+p.Table.Name+" to "+final.Name+", for which a view stood",
		hasTable(final.Name)+" and table_type <> 'VIEW'",
		"drop view if exists "+quote(gone), "rename table "+to+" to "+quote(gone)+", "+p.table()+" to "+to)
	p.define(engine.Catalog, 0, "drop the view that stood for "+final.Name, "", "drop view if exists "+quote(gone)).
		Strong = []string{}
}

// CannotStandIn implements engine.Planner.
func (Engine) CannotStandIn(*schema.Table) string { return "" }
