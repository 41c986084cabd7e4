package schema

import "slices"

// Delta is what one schema has that another has not: enough to make the second
// out of the first.
type Delta struct {
	Tables    []*Table `json:"tables,omitempty"` // new or changed
	Views     []*View  `json:"views,omitempty"`  // new or changed
	Gone      []string `json:"gone,omitempty"`   // tables
	ViewsGone []string `json:"views_gone,omitempty"`
}

// Since gives what has changed from before to after. What is the same object in
// both has not.
func Since(before, after *Schema) *Delta {
	d := &Delta{}
	for _, t := range after.Tables {
		if before.Table(t.Name) != t {
			d.Tables = append(d.Tables, t)
		}
	}
	for _, v := range after.Views {
		if before.View(v.Name) != v {
			d.Views = append(d.Views, v)
		}
	}
	for _, t := range before.Tables {
		if after.Table(t.Name) == nil {
			d.Gone = append(d.Gone, t.Name)
		}
	}
	for _, v := range before.Views {
		if after.View(v.Name) == nil {
			d.ViewsGone = append(d.ViewsGone, v.Name)
		}
	}
	return d
}

// Without gives what the delta says of other tables than these.
func (d *Delta) Without(tables []string) *Delta {
	out := *d
	out.Tables = slices.DeleteFunc(slices.Clone(d.Tables), func(t *Table) bool { return HasName(tables, t.Name) })
	out.Gone = slices.DeleteFunc(slices.Clone(d.Gone), func(n string) bool { return HasName(tables, n) })
	return &out
}

// On gives the schema that the delta makes of s, which stays as it is; no delta makes nothing.
func (d *Delta) On(s *Schema) *Schema {
	out := s.Copy()
	if d == nil {
		return out
	}
	for _, name := range d.Gone {
		if out.Table(name) != nil {
			out.put(name, nil)
		}
	}
	for _, name := range d.ViewsGone {
		if out.View(name) != nil {
			out.putView(name, nil)
		}
	}
	for _, t := range d.Tables {
		out.put(t.Name, t)
	}
	for _, v := range d.Views {
		out.putView(v.Name, v)
	}
	return out
}

// Mismatch lists every attribute in which s differs from what the delta makes:
// what the delta does not speak of does not count.
func (d *Delta) Mismatch(s *Schema, text Text) []Difference {
	found := &Schema{}
	wanted := &Schema{Tables: d.Tables, Views: d.Views}
	for _, t := range d.Tables {
		if f := s.Table(t.Name); f != nil {
			found.Tables = append(found.Tables, f)
		}
	}
	for _, v := range d.Views {
		if f := s.View(v.Name); f != nil {
			found.Views = append(found.Views, f)
		}
	}
	for _, name := range d.Gone {
		if f := s.Table(name); f != nil {
			found.Tables = append(found.Tables, f)
		}
	}
	for _, name := range d.ViewsGone {
		if f := s.View(name); f != nil {
			found.Views = append(found.Views, f)
		}
	}
	return Compare(wanted, found, text)
}
