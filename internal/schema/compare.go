package schema

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/sqltext"
)

// Difference is one attribute in which two models differ.
type Difference struct {
	Table     string `json:"table"`
	Object    string `json:"object"` // table, column, primary key, unique, check, foreign key, index, trigger, view
	Name      string `json:"name"`
	Attribute string `json:"attribute"` // "exists" for a thing that one side lacks
	Expected  string `json:"expected"`
	Found     string `json:"found"`
}

func (d Difference) String() string {
	what := d.Object + " " + d.Name
	if d.Object != "table" && d.Object != "view" {
		what += " of table " + d.Table
	}
	if d.Attribute == "exists" {
		if d.Found == "no" {
			return what + " is missing"
		}
		return what + " is there and should not be"
	}
	return fmt.Sprintf("%s: %s is %s and should be %s", what, d.Attribute, shown(d.Found), shown(d.Expected))
}

func shown(v string) string {
	if v == "" {
		return "nothing"
	}
	return v
}

// Text gives the text by which two expressions are compared: the same for two
// that an engine holds alike.
type Text func(Expr) string

// Compare lists every attribute in which got differs from want.
func Compare(want, got *Schema, text Text) []Difference {
	var list []Difference
	for _, w := range want.Tables {
		if w.PartOf != "" {
			continue
		}
		if g := got.Table(w.Name); g != nil && g.PartOf == "" {
			list = append(list, CompareTables(w, g, text)...)
		} else if g == nil {
			list = append(list, Difference{w.Name, "table", w.Name, "exists", "yes", "no"})
		}
	}
	for _, g := range got.Tables {
		if want.Table(g.Name) == nil && g.PartOf == "" {
			list = append(list, Difference{g.Name, "table", g.Name, "exists", "no", "yes"})
		}
	}
	c := comparison{list: list, text: text}
	views := func(s *Schema) []object {
		return objects(s.Views, func(v *View) object {
			return object{"view", v.Name, []attribute{{name: "query", value: Words(v.Query)}}}
		})
	}
	c.objects("", views(want), views(got))
	return c.list
}

// partedBefore is why programs of before could not change a table whose rows stand in parts.
const partedBefore = "it is partitioned"

// CompareTables lists every attribute in which table got differs from want.
func CompareTables(want, got *Table, text Text) []Difference {
	if want.Opaque == partedBefore { // a ledger of before does not say by what its rows are parted
		w := *want
		w.Options = maps.Clone(got.Options)
		want = &w
	}
	c := comparison{table: want.Name, text: text}
	c.attributes(object{"table", want.Name, tableAttributes(want)}, object{"table", want.Name, tableAttributes(got)})
	c.objects(want.Name, c.parts(want, got), c.parts(got, want))
	return c.list
}

// attribute is one thing that is compared. Two are equal when their values are, or when
// they are alike: an expression can be one in the language and have several spellings.
type attribute struct{ name, value, alike string }

// object is a part of a table, flattened for comparison.
type object struct {
	kind, name string
	attributes []attribute
}

type comparison struct {
	table string
	text  Text
	list  []Difference
}

func (c *comparison) objects(table string, want, got []object) {
	find := func(list []object, o object) (object, bool) {
		i := slices.IndexFunc(list, func(x object) bool { return x.kind == o.kind && SameName(x.name, o.name) })
		if i < 0 {
			return o, false
		}
		return list[i], true
	}
	for _, w := range want {
		if g, ok := find(got, w); ok {
			c.attributes(w, g)
		} else {
			c.list = append(c.list, Difference{table, w.kind, w.name, "exists", "yes", "no"})
		}
	}
	for _, g := range got {
		if _, ok := find(want, g); !ok {
			c.list = append(c.list, Difference{table, g.kind, g.name, "exists", "no", "yes"})
		}
	}
}

func (c *comparison) attributes(want, got object) {
	if want.name != got.name {
		c.list = append(c.list, Difference{c.table, want.kind, want.name, "name", want.name, got.name})
	}
	for i, w := range want.attributes {
		if g := got.attributes[i]; w.value != g.value && (w.alike == "" || w.alike != g.alike) {
			c.list = append(c.list, Difference{c.table, want.kind, want.name, w.name, w.value, g.value})
		}
	}
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func optionsText(o map[string]string) string {
	var list []string
	for _, k := range slices.Sorted(maps.Keys(o)) {
		list = append(list, k+"="+o[k])
	}
	return strings.Join(list, " ")
}

func tableAttributes(t *Table) []attribute {
	return []attribute{
		{name: "name", value: t.Name}, {name: "comment", value: t.Comment}, {name: "options", value: optionsText(t.Options)},
	}
}

// parts flattens what a table is made of. A column's position counts the columns
// that both tables have, so that one that comes or goes does not move the others.
func (c *comparison) parts(t, other *Table) []object {
	var list []object
	position := 0
	for _, col := range t.Columns {
		if other.Column(col.Name) != nil {
			position++
		}
		list = append(list, object{"column", col.Name, c.columnAttributes(col, position)})
	}
	if k := t.PrimaryKey; k != nil {
		list = append(list, object{"primary key", "", keyAttributes(k)})
	}
	list = append(list, objects(t.Uniques, func(k *Key) object { return object{"unique", k.Name, keyAttributes(k)} })...)
	list = append(list, objects(t.Checks, func(k *Check) object {
		return object{"check", k.Name, []attribute{{"expression", c.text(k.Expr), alike(&k.Expr)},
			{name: "options", value: optionsText(k.Options)}}}
	})...)
	list = append(list, objects(t.ForeignKeys, func(k *ForeignKey) object {
		return object{"foreign key", k.Name, []attribute{
			{name: "columns", value: joined(k.Columns)}, {name: "table", value: strings.ToLower(k.Table)},
			{name: "references", value: joined(k.References)},
			{name: "on delete", value: act(k.OnDelete)}, {name: "on update", value: act(k.OnUpdate)},
			{name: "options", value: optionsText(k.Options)},
		}}
	})...)
	list = append(list, objects(t.Indexes, func(k *Index) object {
		return object{"index", k.Name, []attribute{{name: "unique", value: yes(k.Unique)},
			{"columns", c.indexParts(k, c.expr), c.indexParts(k, alike)}, {"where", c.expr(k.Where), alike(k.Where)},
			{name: "options", value: Words(optionsText(k.Options))}}}
	})...)
	return append(list, objects(t.Triggers, func(k *Trigger) object {
		return object{"trigger", k.Name, []attribute{{name: "text", value: Words(k.SQL)}}}
	})...)
}

func objects[T any](list []T, flatten func(T) object) []object {
	out := make([]object, len(list))
	for i, x := range list {
		out[i] = flatten(x)
	}
	return out
}

func (c *comparison) columnAttributes(col *Column, position int) []attribute {
	generated, computed, stored, identity := "", "", "", ""
	if g := col.Generated; g != nil {
		generated, computed, stored = c.text(g.Expr), alike(&g.Expr), yes(g.Stored)
	}
	if col.Identity != nil {
		identity = "by default"
		if col.Identity.Always {
			identity = "always"
		}
	}
	return []attribute{
		{name: "position", value: fmt.Sprint(position)}, {name: "type", value: col.Type.Whole()},
		{name: "declared type", value: strings.ToLower(col.Declared)},
		{name: "not null", value: yes(col.NotNull)}, {"default", c.expr(col.Default), alike(col.Default)},
		{"generated", generated, computed}, {name: "stored", value: stored},
		{name: "identity", value: identity}, {name: "collate", value: strings.ToLower(col.Collate)},
		{name: "on update", value: yes(col.OnUpdateNow)},
		{name: "comment", value: col.Comment}, {name: "options", value: optionsText(col.Options)},
	}
}

func keyAttributes(k *Key) []attribute {
	return []attribute{{name: "columns", value: joined(k.Columns)}, {name: "options", value: optionsText(k.Options)}}
}

func joined(names []string) string { return strings.ToLower(strings.Join(names, ", ")) }

// act gives what an empty action means.
func act(a string) string {
	if a == "" {
		return "no action"
	}
	return a
}

// SameExpr reports whether two expressions are one to the engine, or one in the language: an engine
// spells in its own way what it was told in ours.
func SameExpr(a, b *Expr, text Text) bool {
	return a == b || a != nil && b != nil && (text(*a) == text(*b) || alike(a) != "" && alike(a) == alike(b))
}

// alike gives an expression in the language; "" where there is none that it stands for.
func alike(e *Expr) string {
	if e == nil || e.Tree == nil {
		return ""
	}
	return sqltext.PrintExpr(e.Tree)
}

func (c *comparison) expr(e *Expr) string {
	if e == nil {
		return ""
	}
	return c.text(*e)
}

func (c *comparison) indexParts(x *Index, text func(*Expr) string) string {
	parts := make([]string, len(x.Parts))
	for i, p := range x.Parts {
		parts[i] = strings.ToLower(p.Column)
		if p.Expr != nil {
			parts[i] = "(" + text(p.Expr) + ")"
		}
		if p.Collate != "" {
			parts[i] += " collate " + strings.ToLower(p.Collate)
		}
		if p.Desc {
			parts[i] += " desc"
		}
	}
	return strings.Join(parts, ", ")
}

// Words gives the tokens of an engine's text one blank apart; names lose their
// quotes and their case, so that two spellings of one thing are equal.
func Words(text string) string {
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
	var list []string
	for _, t := range tokens {
		switch t.Kind {
		case sqltext.EOF:
		case sqltext.Quoted:
			list = append(list, strings.ToLower(t.Value))
		case sqltext.Word:
			list = append(list, t.Value)
		default:
			list = append(list, t.Text)
		}
	}
	return strings.Join(list, " ")
}
