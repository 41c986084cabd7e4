// Package describe gathers what is to be said of tables as they stand.
package describe

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Table is a table and what a person wants to know of it.
type Table struct {
	Table    *schema.Table
	Rows     int64
	Bytes    int64
	Nulls    []int64  // of each column; empty when it was not asked for
	NeededBy []string // foreign keys, views and triggers elsewhere, in words
	Views    []string // views that read it
	Users    []string // programs that have the database open
	Past     bool     // as a migration left it: there are no rows to count
	Open     []string // what goes of it when an overlap is settled, in words
	// Unenforced names columns whose type nothing enforces.
	Unenforced []string
}

// Tables counts the rows of every table, all at once where the database can.
func Tables(ctx context.Context, db engine.Database, s *schema.Schema) ([]*Table, error) {
	list := make([]*Table, len(s.Tables))
	names := make([]string, len(s.Tables))
	for i, t := range s.Tables {
		list[i], names[i] = &Table{Table: t}, t.Name
		list[i].depend(s)
	}
	if counter, ok := db.(engine.Counter); ok {
		rows, bytes, err := counter.CountAll(ctx, names)
		for _, d := range list {
			d.Rows, d.Bytes = rows[d.Table.Name], bytes[d.Table.Name]
		}
		return list, err
	}
	for _, d := range list {
		var err error
		if d.Rows, d.Bytes, err = db.Count(ctx, d.Table.Name, true); err != nil {
			return nil, fmt.Errorf("table %s: %w", d.Table.Name, err)
		}
	}
	return list, nil
}

// One gathers everything about one table as it stands; it reads every row once.
func One(ctx context.Context, db engine.Database, s *schema.Schema, t *schema.Table) (*Table, error) {
	t = s.Whole(t)
	d := &Table{Table: t}
	var err error
	if d.Rows, d.Bytes, err = db.Count(ctx, t.Name, true); err != nil {
		return nil, err
	}
	if d.Nulls, err = db.Nulls(ctx, t); err != nil {
		return nil, err
	}
	d.depend(s)
	return d, nil
}

// Then gives a table of the past: what is known of it without its rows.
func Then(s *schema.Schema, t *schema.Table) *Table {
	d := &Table{Table: s.Whole(t), Past: true}
	d.depend(s)
	return d
}

// depend finds what elsewhere uses the table.
func (d *Table) depend(s *schema.Schema) {
	for _, t := range s.Tables {
		for _, fk := range t.ForeignKeys {
			if schema.SameName(fk.Table, d.Table.Name) {
				d.NeededBy = append(d.NeededBy, "foreign key "+fk.Name+" of table "+t.Name)
			}
		}
		for _, tr := range t.Triggers {
			if t != d.Table && names(tr.SQL, d.Table.Name) {
				d.NeededBy = append(d.NeededBy, "trigger "+tr.Name+" of table "+t.Name)
			}
		}
	}
	for _, v := range s.Views {
		if names(v.Query, d.Table.Name) {
			d.Views = append(d.Views, v.Name)
			d.NeededBy = append(d.NeededBy, "view "+v.Name)
		}
	}
}

// names reports whether a text uses a name as a whole word.
func names(text, name string) bool {
	if !strings.Contains(strings.ToLower(text), strings.ToLower(name)) {
		return false
	}
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
	return slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return (t.Kind == sqltext.Word || t.Kind == sqltext.Quoted) && schema.SameName(t.Value, name)
	})
}

// SortedOptions lists the names of a table's options.
func SortedOptions(o map[string]string) []string { return slices.Sorted(maps.Keys(o)) }

// Range says what a type can hold, in words; "" for one without bounds.
func Range(t sqltext.Type) string {
	if t.Native {
		return ""
	}
	if r, ok := ranges[t.Name]; ok {
		if t.Unsigned {
			return r[1]
		}
		return r[0]
	}
	n := 0
	if len(t.Args) > 0 {
		n = t.Args[0]
	}
	switch {
	case t.Name == "numeric" && n > 0:
		scale := 0
		if len(t.Args) == 2 {
			scale = t.Args[1]
		}
		most := strings.Repeat("9", n-scale)
		if most == "" {
			most = "0"
		}
		if scale > 0 {
			most += "." + strings.Repeat("9", scale)
		}
		return "up to ±" + most
	case n > 0 && (t.Name == "varchar" || t.Name == "char"):
		return fmt.Sprintf("up to %d characters", n)
	case n > 0:
		return fmt.Sprintf("up to %d bytes", n)
	}
	return ""
}

// ranges are the bounds of the types of whole numbers, signed and unsigned.
var ranges = map[string][2]string{
	"tinyint": {"-128 to 127", "0 to 255"}, "smallint": {"-32,768 to 32,767", "0 to 65,535"},
	"integer": {"±2,147 million", "0 to 4,294 million"}, "bigint": {"±9.2 × 10^18", "0 to 9.2 × 10^18"},
}

// Unenforced lists the columns whose type nothing in the database enforces: any value
// can be in them.
func Unenforced(t *schema.Table, e engine.Planner) []string {
	var list []string
	for _, c := range t.Columns {
		if !e.Enforces(t, c) {
			list = append(list, c.Name)
		}
	}
	return list
}
