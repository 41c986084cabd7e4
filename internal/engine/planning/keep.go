package planning

import (
	"fmt"
	"slices"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// NoKey refuses a change whose old values could not be found again by their rows.
func (p *Planner) NoKey(columns string) {
	if p.Table.Key() != nil {
		p.Fail(&engine.Refused{
			Message: fmt.Sprintf("the key of table %s goes in the same statement, so that the values of %s could not be "+
				"put back to the right rows", p.Table.Name, columns),
			Cure: "change the key in a migration of its own, or write discard to give the values up",
		})
		return
	}
	p.Fail(&engine.Refused{
		Message: fmt.Sprintf("table %s has no primary key, so that the values of %s could not be put back to the right rows",
			p.Table.Name, columns),
		Cure: "add a primary key first, or write discard to give the values up",
	})
}

// Goes reports whether any of the columns is dropped.
func (p *Planner) Goes(columns []string) bool {
	return slices.ContainsFunc(p.Dropped(), func(c *schema.Column) bool { return schema.HasName(columns, c.Name) })
}

// WidestKey gives a column of a key as it is kept: rows may get greater numbers once the key has another type.
func WidestKey(c *schema.Column) *schema.Column {
	if !c.Type.IsInteger() {
		return c
	}
	k := *c
	k.Type.Name, k.Declared = "bigint", ""
	return &k
}

// KeyValue gives what a column of the key is after the change, by which kept rows
// are found on the way back.
func (p *Planner) KeyValue(name string) string {
	if c := p.After.Column(name); c != nil {
		if f, ok := p.FillOf(c); ok && !f.OnlyNull && p.From(c) != nil {
			value, _ := p.Value(c, Computed)
			return value
		}
	}
	return p.Column(name)
}

// Losing lists the columns whose values the change destroys, and which are kept: those
// that are dropped, and those that are computed from now on.
func (p *Planner) Losing() []string {
	var columns []string
	for _, c := range p.Dropped() {
		if c.Generated == nil && !p.Change.Discard[c.Name] {
			columns = append(columns, c.Name)
		}
	}
	for _, c := range p.After.Columns {
		if old := p.From(c); old != nil && old.Generated == nil && c.Generated != nil {
			columns = append(columns, old.Name)
		}
	}
	return columns
}

// KeepsBeside reports whether the values of columns that are dropped are kept beside applications:
// where that takes longer than they may wait, and the change does nothing else to rows.
func (p *Planner) KeepsBeside(rate float64) bool {
	c := p.Change
	return p.Facts.Live && !p.Short(rate) && len(p.Cursor(p.Table)) > 0 && len(c.Added()) == 0 && len(c.Fill) == 0 &&
		len(c.Renamed()) == 0 && c.After.Name == c.Before.Name && !c.Rebuild && !p.Goes(p.Table.Key())
}

// Reads lists the columns that stay and from which those are made again that go as a link ends: what
// is kept is right while these are what they were.
func (p *Planner) Reads() (list []string) {
	if p.Change.Unlinked == nil {
		return nil
	}
	for _, c := range p.Dropped() {
		for _, r := range sqltext.Refs(p.Change.Restore[c.Name]) {
			if p.Table.Column(r.Column) != nil && p.Change.From[r.Column] == r.Column && !slices.Contains(list, r.Column) {
				list = append(list, r.Column)
			}
		}
	}
	return list
}

// FillNulls adds the steps that fill the nulls of a column: the rows are locked as it is kept
// which they are, and those alone are filled. Beside applications it is noted which rows get another
// key, perhaps behind the walk, and those are filled at the end. A table whose rows cannot be told
// apart keeps none.
func (p *Planner) FillNulls(c *schema.Column, value string) {
	where := " where " + engine.Range + " and " + p.Column(c.Name) + " is null"
	what, n := "fill "+c.Name+" where it is null", Noting{Keys: p.Table.Key()}
	if n.Keys == nil {
		p.Update(what, "update "+p.Name(p.Table.Name)+" set "+p.Column(c.Name)+" = "+value+where)
		return
	}
	f, _ := p.FillOf(c)
	p.ReadsOthers = p.ReadsOthers || sqltext.HasSubquery(f.Expr)
	n.Kept = p.placeForNulls(c, n.Keys)
	if !p.Beside() {
		p.Update(what, p.fillNulls(c, value, where, p.undone(n), n)...)
		return
	}
	p.Dialect.Note(p, p.Add(engine.Sync, 0, "note rows of "+p.Table.Name+" whose key changes"), n)
	p.Faster(p.Update(what, p.fillNulls(c, value, where, p.undone(n), n)...), p.Rates.Nulls)
	p.last(what+", in rows whose key changed meanwhile", n, func(n Noting) []string {
		return p.fillNulls(c, value, " where "+p.Among(n)+" and "+p.Column(c.Name)+" is null", p.undone(n), n)
	})
}

// fillNulls gives the statements that keep which rows have null and are not kept already, and fill those
// that are.
func (p *Planner) fillNulls(c *schema.Column, value, where, undone string, n Noting) []string {
	return []string{p.rememberNulls(c, value, where+undone, n.Kept), "update " + p.Name(p.Table.Name) + " set " +
		p.Column(c.Name) + " = " + value + where + " and (select 1" + p.keptRow(n) + ") = 1"}
}

// RememberNulls gives the statement that keeps which rows have null in a column and what
// they get, and adds the step that makes room for it; "" where rows cannot be told apart.
func (p *Planner) RememberNulls(c *schema.Column, value, where string) (insert string) {
	keys := p.Table.Key()
	if keys == nil {
		return ""
	}
	return p.rememberNulls(c, value, where, p.placeForNulls(c, keys))
}

func (p *Planner) rememberNulls(c *schema.Column, value, where, kept string) string {
	return "insert into " + p.Name(kept) + " select " + p.Columns(p.Table.Key()) + ", " + p.Column(c.Name) + ", " + value +
		" from " + p.Name(p.Table.Name) + where + p.Locked(p.Table, false)
}

// placeForNulls adds the step that makes room for which rows have null in a column.
func (p *Planner) placeForNulls(c *schema.Column, keys []string) (kept string) {
	kept = p.Facts.KeptTable()
	place := p.Add(engine.Catalog, 0, "make a place to remember which rows were null",
		p.CreateKept(p.Table, kept, keys, []string{p.From(c).Name}, false))
	place.Keeps = []*engine.Keeping{{Table: p.Table.Name, Kept: kept, Keys: keys, Columns: []string{c.Name},
		What: engine.KeptValues}}
	p.Dialect.Follow(p, place, true)
	return kept
}

// Follows refuses to fill an added column in batches beside applications with what no trigger can
// compute: rows that come, and those whose key moves behind the fill, would be left without it.
// steady is set for an engine whose triggers compute nothing that differs each time.
func (p *Planner) Follows(c *schema.Column, f schema.Fill, steady bool) {
	why := ""
	switch {
	case f.Expr == nil || p.Change.Back || !p.Facts.Live || p.Short(p.Rates.Update):
	case sqltext.HasSubquery(f.Expr):
		why = "they read other rows"
	case steady && schema.Unsteady(f.Expr) != "":
		why = "they differ each time"
	}
	if why != "" {
		p.Fail(&engine.Refused{
			Message: "the values of " + c.Name + " cannot be followed while applications write: " + why,
			Cure: "add the column without using, and fill it with a backfill, which does each row exactly once; " +
				"or do it while the database is not live",
		})
	}
}
