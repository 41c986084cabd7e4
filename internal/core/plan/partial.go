package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// withOthers gives the table to go back to with what others have added to it since: what is
// of neither side of the change, and no column of Lastboard's own. It stays.
func (r *Record) withOthers(now, before *schema.Table, t *schema.TableChange) *schema.Table {
	if before == nil || r.Table.After == nil {
		return before
	}
	out, after := *before, r.Table.After
	out.Columns = slices.Clone(before.Columns)
	for _, c := range now.Columns {
		if _, taken := t.From[c.Name]; !taken && before.Column(c.Name) == nil && after.Column(c.Name) == nil &&
			!strings.HasPrefix(c.Name, engine.Prefix) {
			out.Columns = append(out.Columns, c)
			t.From[c.Name] = c.Name
		}
	}
	// A part that speaks of a column which goes, goes with it.
	stays := func(columns ...string) bool {
		return !slices.ContainsFunc(columns, func(c string) bool { return out.Column(c) == nil || now.Column(c) == nil })
	}
	out.Indexes = withParts(before.Indexes, after.Indexes, now.Indexes, func(x *schema.Index) string { return x.Name },
		func(x *schema.Index) bool {
			return !slices.ContainsFunc(x.Parts, func(p schema.IndexPart) bool { return p.Column != "" && !stays(p.Column) })
		})
	keyStays := func(k *schema.Key) bool { return stays(k.Columns...) }
	out.Uniques = withParts(before.Uniques, after.Uniques, now.Uniques, func(k *schema.Key) string { return k.Name },
		keyStays)
	out.Checks = withParts(before.Checks, after.Checks, now.Checks, func(k *schema.Check) string { return k.Name },
		func(*schema.Check) bool { return true })
	out.ForeignKeys = withParts(before.ForeignKeys, after.ForeignKeys, now.ForeignKeys,
		func(k *schema.ForeignKey) string { return k.Name }, func(k *schema.ForeignKey) bool { return stays(k.Columns...) })
	return &out
}

// withParts gives the parts of before and those of now that are of neither side of a change
// and can stay.
func withParts[T any](before, after, now []T, name func(T) string, stays func(T) bool) []T {
	out := slices.Clone(before)
	for _, x := range now {
		same := func(o T) bool { return schema.SameName(name(o), name(x)) }
		if !slices.ContainsFunc(before, same) && !slices.ContainsFunc(after, same) &&
			!strings.HasPrefix(name(x), engine.Prefix) && stays(x) {
			out = append(out, x)
		}
	}
	return out
}

// partial gives the change that takes back what had begun of a record and did not
// come to its end: the table as it is now becomes the one of before. kept reports whether a
// table of kept values is there; where those of an earlier way back have gone, the columns
// that came hold the only ones, and they are kept again.
func (r *Record) partial(current *schema.Schema, e engine.Engine, gone bool,
	kept func(table string) bool) (*schema.Change, error) {
	switch x := r.Table; {
	case x != nil && x.Before == nil && current.Table(x.After.Name) == nil:
		return nil, nil // it was not made
	case x != nil && x.Before != nil && x.After == nil && current.Table(x.Before.Name) != nil:
		// It is there still, with less than it had.
	case x == nil || x.Before == nil || x.After == nil:
		c, err := r.inverse(current, e)
		if c != nil && (c.Rows != nil && !kept(c.Rows.PutBack.Table) || c.Insert != nil && !kept(c.Insert.PutBack.Table)) {
			return nil, err // not even the place for what is kept was made
		}
		return c, err
	}
	now := current.Table(r.Table.Before.Name)
	if now == nil { // it may have its new name already
		now = current.Table(r.Table.After.Name)
	}
	if now == nil {
		return nil, fmt.Errorf("table %s is not there", r.Table.Before.Name)
	}
	t := &schema.TableChange{Before: now, From: map[string]string{}, Fill: map[string]schema.Fill{},
		Discard: map[string]bool{}, Back: true, NoStandIn: r.standsIn(current)}
	forward := &schema.TableChange{From: r.Table.From}
	for _, c := range r.Table.Before.Columns {
		name := c.Name
		if now.Column(name) == nil {
			name = newNames(forward, []string{name})[0] // it may have its new name already
		}
		found := now.Column(name)
		if found == nil {
			continue
		}
		t.From[c.Name] = name
		if !found.Type.Equal(c.Type) && found.Generated == nil && c.Generated == nil {
			t.Fill[c.Name] = schema.Fill{Expr: &sqltext.Cast{X: &sqltext.Ref{Column: name}, Type: c.Type}, Cast: true}
		}
	}
	t.After = r.withOthers(now, r.standing(now, r.Table.Before, t.From), t)
	for _, c := range now.Columns {
		if !slices.Contains(slices.Collect(maps.Values(t.From)), c.Name) {
			t.Discard[c.Name] = !gone
		}
	}
	for _, k := range r.Keeps {
		if !kept(k.Kept) {
			continue
		}
		for i, column := range k.Columns {
			back := &schema.Kept{Table: k.Kept, Keys: k.Keys, Column: fmt.Sprintf("o%d", i+1)}
			fill, converted := t.Fill[column]
			_, there := t.From[column]
			switch {
			case k.What == engine.KeptValues:
				if t.PutBack == nil {
					t.PutBack = map[string]*schema.Kept{}
				}
				t.PutBack[column] = back
			case k.What == engine.KeptColumn && !there:
				t.Fill[column] = schema.Fill{Kept: back}
			case k.What == engine.KeptConverted && converted:
				back.Wrote = "w1"
				fill.Kept = back
				t.Fill[column] = fill
			}
		}
	}
	return &schema.Change{What: "take back: " + r.What, Table: t}, nil
}
