// Package describe gathers what is to be said of tables as they stand.
package describe

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine"
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
}

// Tables counts the rows of every table.
func Tables(ctx context.Context, db engine.Database, s *schema.Schema) ([]*Table, error) {
	var list []*Table
	for _, t := range s.Tables {
		rows, bytes, err := db.Count(ctx, t.Name, true)
		if err != nil {
			return nil, fmt.Errorf("table %s: %w", t.Name, err)
		}
		d := &Table{Table: t, Rows: rows, Bytes: bytes}
		d.depend(s)
		list = append(list, d)
	}
	return list, nil
}

// One gathers everything about one table as it stands; it reads every row once.
func One(ctx context.Context, db engine.Database, s *schema.Schema, t *schema.Table) (*Table, error) {
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
