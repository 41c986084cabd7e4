package plan

import (
	"slices"

	"lastboard/internal/schema"
)

// Origin is what a table and its columns were called before some records.
type Origin struct {
	Table   string
	Columns map[string]string // by their names now; a column that is new is not in it
}

// Origins follows the names of tables and columns through records, and gives for each
// table that they change what it was called before the first of them.
func Origins(records []*Record) map[string]Origin {
	now := map[string]Origin{}
	for _, r := range records {
		t := r.Table
		if t == nil || t.Before == nil || t.After == nil {
			continue
		}
		old, known := now[t.Before.Name]
		if !known {
			old = Origin{t.Before.Name, map[string]string{}}
			for _, c := range t.Before.Columns {
				old.Columns[c.Name] = c.Name
			}
		}
		o := Origin{old.Table, map[string]string{}}
		for to, from := range t.From {
			if first, ok := old.Columns[from]; ok {
				o.Columns[to] = first
			}
		}
		delete(now, t.Before.Name)
		now[t.After.Name] = o
	}
	return now
}

// Changes lists the attributes in which a table has changed. Columns with another name
// are compared as what they were, and their name is one of the differences. before and
// now are the schemas of which the tables are part; the table may be missing in either.
func (o Origin) Changes(before, now *schema.Table, text schema.Text) []schema.Difference {
	before = schema.Unmirrored(before, o.mirrors(before, now))
	renames := map[string]string{}
	for to, from := range o.Columns {
		if to != from && before.Column(from) != nil && now.Column(to) != nil && before.Column(to) == nil {
			renames[from] = to
		}
	}
	var list []schema.Difference
	for _, c := range before.Columns {
		if to, ok := renames[c.Name]; ok {
			list = append(list, schema.Difference{Table: now.Name, Object: "column", Name: to, Attribute: "name",
				Expected: c.Name, Found: to})
		}
	}
	rest := schema.CompareTables(before.Renamed(now.Name, renames), now, text)
	if before.Name != now.Name {
		list = slices.Insert(list, 0, schema.Difference{Table: now.Name, Object: "table", Name: now.Name, Attribute: "name",
			Expected: before.Name, Found: now.Name})
	}
	return append(list, rest...)
}

// mirrors lists the columns that had the name which they have now beside their own: the other column
// of that name has gone.
func (o Origin) mirrors(before, now *schema.Table) (pairs []schema.Mirror) {
	stays := map[string]bool{}
	for _, from := range o.Columns {
		stays[from] = true
	}
	for _, c := range now.Columns {
		from, known := o.Columns[c.Name]
		if known && from != c.Name && before.Column(from) != nil && before.Column(c.Name) != nil && !stays[c.Name] {
			pairs = append(pairs, schema.Mirror{Column: from, Name: c.Name})
		}
	}
	return pairs
}
