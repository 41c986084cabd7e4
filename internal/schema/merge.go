package schema

import (
	"encoding/json"
	"slices"
)

// Merged gives the table that now leads to when a change is taken back that once led from before
// to after, where other changes have been made or taken back since: what the change did is
// undone, and all else stays as it is now. from gives for each column of after the one of before
// that it was; the result is given with such a map for the columns of now.
func Merged(now, after, before *Table, from map[string]string) (*Table, map[string]string) {
	renames, back := map[string]string{}, map[string]string{}
	for _, c := range now.Columns {
		name := c.Name
		if after.Column(name) != nil {
			name = from[c.Name] // "" for one that the change added
		}
		if name != "" {
			back[c.Name] = name
			if name != c.Name {
				renames[c.Name] = name
			}
		}
	}
	was := map[string]string{} // columns of after by their names before
	for _, c := range after.Columns {
		if n := from[c.Name]; n != "" {
			was[n] = c.Name
		}
	}
	m := now.copy()
	m.Columns = slices.DeleteFunc(m.Columns, func(c *Column) bool { return back[c.Name] == "" })
	m = m.Renamed(before.Name, renames)
	for i, c := range m.Columns {
		b := before.Column(c.Name)
		if b == nil || was[c.Name] == "" {
			continue
		}
		a := *after.Column(was[c.Name])
		if a.Name = b.Name; !sameText(&a, b) {
			m.Columns[i] = b
		}
	}
	for i, b := range before.Columns { // those that the change dropped, where they stood
		if was[b.Name] != "" || m.Column(b.Name) != nil {
			continue
		}
		at := len(m.Columns)
		if i > 0 {
			if p := m.Place(before.Columns[i-1].Name); p >= 0 {
				at = p + 1
			}
		}
		m.Columns = slices.Insert(m.Columns, at, b)
	}
	renamed := map[string]string{}
	for name, n := range from {
		if n != name && n != "" && after.Column(name) != nil && before.Column(n) != nil && after.Column(n) == nil {
			renamed[name] = n
		}
	}
	a := after.copy()
	a.Columns = slices.DeleteFunc(a.Columns, func(c *Column) bool { return from[c.Name] == "" })
	a = a.Renamed(before.Name, renamed)
	if !sameText(a.PrimaryKey, before.PrimaryKey) {
		m.PrimaryKey = before.PrimaryKey
	}
	has := func(names ...string) bool {
		return !slices.ContainsFunc(names, func(n string) bool { return m.Column(n) == nil })
	}
	m.Uniques = mergedParts(m.Uniques, a.Uniques, before.Uniques, func(k *Key) string { return k.Name },
		func(k *Key) bool { return has(k.Columns...) })
	m.Checks = mergedParts(m.Checks, a.Checks, before.Checks, func(k *Check) string { return k.Name },
		func(k *Check) bool { return has(before.Mentioned(k.Expr)...) })
	m.ForeignKeys = mergedParts(m.ForeignKeys, a.ForeignKeys, before.ForeignKeys,
		func(k *ForeignKey) string { return k.Name }, func(k *ForeignKey) bool { return has(k.Columns...) })
	m.Indexes = mergedParts(m.Indexes, a.Indexes, before.Indexes, func(x *Index) string { return x.Name },
		func(x *Index) bool {
			return !slices.ContainsFunc(before.Columns, func(c *Column) bool { return x.Uses(c.Name) && !has(c.Name) })
		})
	m.Triggers = mergedParts(m.Triggers, a.Triggers, before.Triggers, func(t *Trigger) string { return t.Name },
		func(*Trigger) bool { return true })
	if after.Comment != before.Comment {
		m.Comment = before.Comment
	}
	if !sameText(after.Options, before.Options) {
		m.Options = before.Options
	}
	return m, back
}

// mergedParts gives the parts of now with what a change from before to after did undone.
func mergedParts[P any](now, after, before []P, name func(P) string, can func(P) bool) []P {
	find := func(list []P, p P) int {
		return slices.IndexFunc(list, func(x P) bool { return SameName(name(x), name(p)) })
	}
	var list []P
	for _, p := range now {
		if find(after, p) < 0 || find(before, p) >= 0 {
			list = append(list, p)
		}
	}
	for _, b := range before {
		i := find(after, b)
		switch at := find(list, b); {
		case i >= 0 && sameText(after[i], b), !can(b):
		case at >= 0:
			list[at] = b
		default:
			list = append(list, b)
		}
	}
	return list
}

// sameText reports whether two parts of tables are written down alike.
func sameText(a, b any) bool {
	x, err := json.Marshal(a)
	y, e := json.Marshal(b)
	return err == nil && e == nil && string(x) == string(y)
}
