package cli

import (
	"context"
	"slices"

	"lastboard/internal/core/describe"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/view"
)

// showChanges shows each table that a plan changed, before and after, and some
// rows with the changed columns.
func (s *session) showChanges(ctx context.Context, p *plan.Plan) error {
	if s.JSON || s.Quiet || p == nil {
		return nil
	}
	now, err := s.db.Schema(ctx)
	if err != nil {
		return err
	}
	if err := s.showRows(ctx, p); err != nil {
		return err
	}
	origins := plan.Origins(p.Records)
	apart := false // a line stands between a table and the next
	for _, name := range p.Touched() {
		after := now.Table(name)
		origin, known := origins[name]
		if !known {
			origin.Table = name
		}
		before := p.Before.Table(origin.Table)
		if after == nil && movedAway(origins, name) {
			continue // shown under its new name
		}
		switch {
		case before == nil && after == nil, after != nil && after.PartOf != "":
			continue
		case after == nil:
			s.Title("%s is dropped", name)
			continue
		case before == nil:
			s.Title("%s is new", name)
			d, err := describe.One(ctx, s.db, now, after)
			if err != nil {
				return err
			}
			s.OneTable(d)
			continue
		}
		differences := origin.Changes(before, after, s.engine.Text)
		columns := changedColumns(p, after, differences)
		if len(differences) == 0 && len(columns) == 0 {
			continue
		}
		if apart {
			s.Line("")
		}
		apart = true
		s.Title("%s", name)
		if len(differences) > 0 {
			s.Differences(before, after, differences)
		}
		if err := s.showSome(ctx, p, after, columns); err != nil {
			return err
		}
	}
	return nil
}

// someRows is how many rows are shown of each change.
const someRows = 3

// showSome shows some rows of a table that has changed: of what was written over the values before and after,
// of other columns what they hold.
func (s *session) showSome(ctx context.Context, p *plan.Plan, t *schema.Table, columns []string) error {
	for _, r := range p.Records {
		for _, k := range r.Keeps {
			if k.What != engine.KeptValues || !schema.SameName(k.Table, t.Name) || !describe.HasAll(t, k) {
				continue
			}
			rows, as, err := describe.Written(ctx, s.db, t, k, someRows)
			if err != nil {
				return err
			}
			if len(rows.Values) > 0 {
				s.Line("")
				s.RowsOf(as, rows)
				columns = slices.DeleteFunc(columns, func(c string) bool { return schema.HasName(k.Columns, c) })
			}
		}
	}
	if len(columns) == 0 {
		return nil
	}
	rows, err := s.db.Sample(ctx, t, columns, describe.OddOf)
	if err == nil && len(rows.Values) > 0 {
		s.Line("")
		s.RowsOf(t, describe.Odd(rows, len(t.Key()), someRows))
	}
	return err
}

// movedAway reports whether a table has another name now.
func movedAway(origins map[string]plan.Origin, name string) bool {
	for now, o := range origins {
		if o.Table == name && now != name {
			return true
		}
	}
	return false
}

// showRows says how many rows came or went.
func (s *session) showRows(ctx context.Context, p *plan.Plan) error {
	for _, r := range p.Records {
		word := ""
		switch {
		case r.Insert != nil:
			word = "inserted"
		case r.Delete != nil:
			word = "deleted"
		}
		if word == "" || len(r.Keeps) == 0 {
			continue
		}
		rows, _, err := s.db.Count(ctx, r.Keeps[0].Kept, false)
		if err != nil {
			return err
		}
		s.Line("%s: %s %s", r.Keeps[0].Table, view.Plural(int(rows), "row", "rows"), word)
	}
	return nil
}

// changedColumns lists the columns of a table that are new, or filled.
func changedColumns(p *plan.Plan, t *schema.Table, differences []schema.Difference) []string {
	var list []string
	for _, d := range differences {
		if d.Object == "column" && t.Column(d.Name) != nil && !slices.Contains(list, d.Name) {
			list = append(list, d.Name)
		}
	}
	for _, r := range p.Records {
		if r.Rows != nil && schema.SameName(r.Rows.Table, t.Name) {
			for _, c := range r.Rows.Columns {
				if !slices.Contains(list, c) && t.Column(c) != nil {
					list = append(list, c)
				}
			}
		}
	}
	return list
}
