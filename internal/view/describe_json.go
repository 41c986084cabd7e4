package view

import (
	"fmt"
	"lastboard/internal/core/describe"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"math"
)

// The JSON of describe.

type databaseJSON struct {
	Name          string `json:"name"`
	Engine        string `json:"engine"`
	EngineVersion string `json:"engine_version"`
	Live          bool   `json:"live"`
}

type columnJSON struct {
	Name        string         `json:"name"`
	Type        string         `json:"type"`
	Nullable    bool           `json:"nullable"`
	Default     *string        `json:"default"`
	Generated   *generatedJSON `json:"generated"`
	Identity    *string        `json:"identity"`
	OnUpdateNow bool           `json:"on_update_now"`
	Comment     string         `json:"comment"`
	Collate     string         `json:"collate,omitempty"`
	Range       string         `json:"range,omitempty"`
	Nulls       *int64         `json:"nulls,omitempty"`
}

type generatedJSON struct {
	Expression string `json:"expression"`
	Stored     bool   `json:"stored"`
}

type keyJSON struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
}

type checkJSON struct {
	Name       string `json:"name"`
	Expression string `json:"expression"`
}

type foreignKeyJSON struct {
	Name       string   `json:"name"`
	Columns    []string `json:"columns"`
	Table      string   `json:"table"`
	References []string `json:"references"`
	OnDelete   string   `json:"on_delete"`
	OnUpdate   string   `json:"on_update"`
}

type indexJSON struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
	Unique  bool     `json:"unique"`
	Where   *string  `json:"where"`
}

type tableJSON struct {
	Name        string           `json:"name"`
	Comment     string           `json:"comment"`
	Rows        *int64           `json:"rows"` // null for a table of the past
	Columns     []columnJSON     `json:"columns"`
	PrimaryKey  []string         `json:"primary_key"`
	Unique      []keyJSON        `json:"unique"`
	Checks      []checkJSON      `json:"checks"`
	ForeignKeys []foreignKeyJSON `json:"foreign_keys"`
	Indexes     []indexJSON      `json:"indexes"`
	Triggers    []string         `json:"triggers"`
	Views       []string         `json:"views"`
	Sample      *sampleJSON      `json:"sample,omitempty"`
}

type sampleJSON struct {
	Columns []string `json:"columns"`
	Rows    [][]any  `json:"rows"`
}

// DescribeJSON gives the document of describe; sample is rows of the one table, or nil.
func DescribeJSON(tables []*describe.Table, sample *engine.Rows) map[string]any {
	list := make([]tableJSON, len(tables))
	for i, t := range tables {
		list[i] = toJSON(t)
		if sample != nil {
			list[i].Sample = &sampleJSON{sample.Columns, written(t.Table, sample)}
		}
	}
	return map[string]any{"tables": list}
}

// written gives the values of rows as JSON has them; what it has no word for is text.
func written(t *schema.Table, r *engine.Rows) [][]any {
	rows := make([][]any, len(r.Values))
	for i, values := range r.Values {
		rows[i] = make([]any, len(values))
		for n, v := range values {
			switch c := t.Column(r.Columns[n]); v := v.(type) {
			case []byte:
				rows[i][n] = fmt.Sprintf("x'%x'", v)
			case int64:
				rows[i][n] = v
				if c != nil && c.Type.Name == "boolean" && (v == 0 || v == 1) {
					rows[i][n] = v == 1
				}
			case float64:
				rows[i][n] = v
				if math.IsNaN(v) || math.IsInf(v, 0) {
					rows[i][n] = fmt.Sprint(v)
				}
			default:
				rows[i][n] = v
			}
		}
	}
	return rows
}

func toJSON(d *describe.Table) tableJSON {
	t := d.Table
	out := tableJSON{
		Name: t.Name, Comment: t.Comment, Columns: []columnJSON{}, PrimaryKey: []string{}, Unique: []keyJSON{},
		Checks:      []checkJSON{},
		ForeignKeys: []foreignKeyJSON{}, Indexes: []indexJSON{}, Triggers: []string{}, Views: append([]string{}, d.Views...),
	}
	if !d.Past {
		out.Rows = &d.Rows
	}
	if t.PrimaryKey != nil {
		out.PrimaryKey = t.PrimaryKey.Columns
	}
	for i, c := range t.Columns {
		j := columnJSON{Range: describe.Range(c.Type), Name: c.Name, Type: c.Type.String(), Nullable: !c.NotNull,
			Default: optional(c.Default), OnUpdateNow: c.OnUpdateNow, Comment: c.Comment, Collate: c.Collate}
		if c.Generated != nil {
			j.Generated = &generatedJSON{c.Generated.Expr.String(), c.Generated.Stored}
		}
		if c.Identity != nil {
			kind := "by default"
			if c.Identity.Always {
				kind = "always"
			}
			j.Identity = &kind
		}
		if i < len(d.Nulls) {
			j.Nulls = &d.Nulls[i]
		}
		out.Columns = append(out.Columns, j)
	}
	for _, k := range t.Uniques {
		out.Unique = append(out.Unique, keyJSON{k.Name, k.Columns})
	}
	for _, k := range t.Checks {
		out.Checks = append(out.Checks, checkJSON{k.Name, k.Expr.String()})
	}
	for _, k := range t.ForeignKeys {
		out.ForeignKeys = append(out.ForeignKeys, foreignKeyJSON{k.Name, k.Columns, k.Table, k.References, k.OnDelete,
			k.OnUpdate})
	}
	for _, x := range t.Indexes {
		j := indexJSON{Name: x.Name, Unique: x.Unique, Where: optional(x.Where)}
		for _, part := range x.Parts {
			if part.Expr != nil {
				j.Columns = append(j.Columns, "("+part.Expr.String()+")")
			} else {
				j.Columns = append(j.Columns, part.Column)
			}
		}
		out.Indexes = append(out.Indexes, j)
	}
	for _, tr := range t.Triggers {
		out.Triggers = append(out.Triggers, tr.Name)
	}
	return out
}

func optional(e *schema.Expr) *string {
	if e == nil {
		return nil
	}
	s := e.String()
	return &s
}
