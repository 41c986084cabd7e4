package plan

import (
	"context"

	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// watch plans that the writes are counted, while an overlap is open, by which programs of before would
// be told by what is left of a statement. What takes the columns away, or ends that they are supplied,
// ends it.
func (p *Planner) watch(ctx context.Context, out *Plan, st *sqltext.AlterTable) error {
	t := p.current.Table(p.tableOf(st))
	if t == nil || !p.in.Engine.About().Watches {
		return nil
	}
	list := watched(t, out.Later[len(out.Later)-1])
	if len(list) == 0 {
		return nil
	}
	return p.change(ctx, out, &schema.Change{At: st.Start(), What: "count who still writes as before to " + t.Name,
		Watch: &schema.WatchChange{Table: t, Columns: list}})
}

// Watched gives what programs of before alone write while the overlap is open, of the tables of a
// database, as far as that can be told.
func (o Opened) Watched(tables *schema.Schema) (list []*schema.WatchChange) {
	add := func(name string, columns func(t *schema.Table) []schema.Watched) {
		if t := tables.Table(name); t != nil {
			list = append(list, &schema.WatchChange{Table: t, Columns: columns(t)})
		}
	}
	for _, st := range o.Later {
		switch st := st.(type) {
		case *sqltext.DropTable:
			add(st.Table.String(), func(*schema.Table) []schema.Watched { return []schema.Watched{{}} })
		case *sqltext.AlterTable:
			add(st.Table.String(), func(t *schema.Table) []schema.Watched { return watched(t, st) })
		}
	}
	return list
}

// watched lists the columns of a table by which programs of before can be told while what is left of
// a statement is still to be done.
func watched(t *schema.Table, later sqltext.Statement) (list []schema.Watched) {
	alter, ok := later.(*sqltext.AlterTable)
	if !ok {
		return nil
	}
	for _, a := range alter.Actions {
		var w schema.Watched
		switch a := a.(type) {
		case *sqltext.DropColumn:
			w.Column = a.Column
		case *sqltext.RenameColumn:
			if w.Column = a.Column; !Linked(alter) {
				w.Mirror = a.To
			}
		case *sqltext.AddColumn:
			if Linked(alter) {
				continue
			}
			w.Column, w.Supplied = a.Column.Name, true
		}
		if c := t.Column(w.Column); c != nil && c.Generated == nil && c.Identity == nil {
			w.Column = c.Name
			list = append(list, w)
		}
	}
	return list
}
