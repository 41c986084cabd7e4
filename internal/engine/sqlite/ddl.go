package sqlite

import (
	"strconv"
	"strings"

	"lastboard/internal/schema"
)

// Place implements engine.Planner: a name's beginning is all that tells tables apart.
func (Engine) Place() []string { return nil }

// CreateSQL implements engine.Planner.
func (Engine) CreateSQL(t *schema.Table) []string {
	list := []string{createTable(t, t.Name)}
	for _, k := range t.Uniques {
		if k.AsIndex {
			list = append(list, createUnique(t, k), noteUnique(t, k))
		}
	}
	for _, x := range t.Indexes {
		list = append(list, createIndex(t, x))
	}
	for _, tr := range t.Triggers {
		list = append(list, tr.SQL)
	}
	for _, c := range t.Columns {
		if c.OnUpdateNow {
			list = append(list, onUpdateSQL(t, c))
		}
	}
	return append(list, noteComments(t)...)
}

// createTable gives the statement that makes the table under a name. A foreign
// key to the table itself keeps the table's own name.
func createTable(t *schema.Table, name string) string {
	strict := t.Options["strict"] != ""
	var lines []string
	for _, c := range t.Columns {
		lines = append(lines, "  "+columnSQL(t, c, strict))
	}
	if k := t.PrimaryKey; k != nil && !inlineKey(t) {
		lines = append(lines, "  "+named(k.Name, k.Implied)+"primary key ("+keyParts(k)+")"+conflict(k.Options))
	}
	for _, k := range t.Uniques {
		if !k.AsIndex {
			lines = append(lines, "  "+named(k.Name, k.Implied)+"unique ("+keyParts(k)+")"+conflict(k.Options))
		}
	}
	for _, k := range t.Checks {
		lines = append(lines, "  "+named(k.Name, k.Implied)+"check ("+stored(t, k.Expr)+")"+conflict(k.Options))
	}
	for _, k := range t.ForeignKeys {
		lines = append(lines, "  "+named(k.Name, k.Implied)+"foreign key ("+quoteAll(k.Columns)+") "+references(k))
	}
	sql := "create table " + quote(name) + " (\n" + strings.Join(lines, ",\n") + "\n)"
	if options := sortedOptions(t.Options); len(options) > 0 {
		sql += " " + strings.Join(options, ", ")
	}
	return sql
}

func named(name string, implied bool) string {
	if implied {
		return ""
	}
	return "constraint " + quote(name) + " "
}

func conflict(options map[string]string) string {
	if c := options["on conflict"]; c != "" {
		return " on conflict " + c
	}
	return ""
}

// keyParts lists a key's columns with what else the engine knows of them.
func keyParts(k *schema.Key) string {
	parts := make([]string, len(k.Columns))
	for i, c := range k.Columns {
		parts[i] = quote(c) + k.Options["part "+strconv.Itoa(i+1)]
	}
	return strings.Join(parts, ", ")
}

// inlineKey reports whether the primary key has to stand beside its column: only
// there can it number rows.
func inlineKey(t *schema.Table) bool {
	k := t.PrimaryKey
	return len(k.Columns) == 1 && t.Column(k.Columns[0]).Identity != nil
}

func columnSQL(t *schema.Table, c *schema.Column, strict bool) string {
	text := quote(c.Name)
	if d := declaration(c, strict); d != "" {
		text += " " + d
	}
	if c.Collate != "" {
		text += " collate " + quote(c.Collate)
	}
	if k := t.PrimaryKey; k != nil && inlineKey(t) && k.Columns[0] == c.Name {
		text += " " + named(k.Name, k.Implied) + "primary key" + k.Options["part 1"] + conflict(k.Options) + " autoincrement"
	}
	if c.NotNull && c.Options["implied not null"] == "" {
		if n := c.Options["not null name"]; n != "" {
			text += " constraint " + quote(n)
		}
		text += " not null"
		if o := c.Options["not null on conflict"]; o != "" {
			text += " on conflict " + o
		}
	}
	if c.Default != nil {
		text += " default " + defaultSQL(t, *c.Default)
	}
	if g := c.Generated; g != nil {
		text += " generated always as (" + stored(t, g.Expr) + ")"
		if g.Stored {
			text += " stored"
		}
	}
	if c.Limit != "" {
		text += " constraint " + quote(c.Limit) + " check (" + limit(c.Type, c.Name) + ")"
	}
	return text
}

// defaultSQL puts anything but a plain value in parentheses, as SQLite wants it.
func defaultSQL(t *schema.Table, e schema.Expr) string {
	text := stored(t, e)
	if e.Tree != nil && schema.Constant(e.Tree) || e.Tree == nil && plainDefault(text) {
		return text
	}
	return "(" + text + ")"
}

func references(k *schema.ForeignKey) string {
	text := "references " + quote(k.Table)
	if len(k.References) > 0 && k.Options["references"] != "implied" {
		text += " (" + quoteAll(k.References) + ")"
	}
	if m := k.Options["match"]; m != "" {
		text += " match " + m
	}
	if k.OnDelete != "" {
		text += " on delete " + k.OnDelete
	}
	if k.OnUpdate != "" {
		text += " on update " + k.OnUpdate
	}
	if d := k.Options["deferrable"]; d != "" {
		text += " " + d
	}
	return text
}

func createIndex(t *schema.Table, x *schema.Index) string {
	parts := make([]string, len(x.Parts))
	for i, p := range x.Parts {
		if p.Expr != nil {
			parts[i] = "(" + stored(t, *p.Expr) + ")"
		} else {
			parts[i] = quote(p.Column)
		}
		if p.Collate != "" {
			parts[i] += " collate " + quote(p.Collate)
		}
		if p.Desc {
			parts[i] += " desc"
		}
	}
	unique := ""
	if x.Unique {
		unique = "unique "
	}
	sql := "create " + unique + "index " + quote(x.Name) + " on " + quote(t.Name) + " (" + strings.Join(parts, ", ") + ")"
	if x.Where != nil {
		sql += " where " + stored(t, *x.Where)
	}
	return sql
}

func createUnique(t *schema.Table, k *schema.Key) string {
	return "create unique index " + quote(k.Name) + " on " + quote(t.Name) + " (" + keyParts(k) + ")"
}

// The notes: what SQLite has no place for.

func noteUnique(t *schema.Table, k *schema.Key) string {
	return note(t.Name, k.Name, "unique", "constraint")
}

func note(table, object, kind, text string) string {
	return "insert or replace into lastboard_note (table_name, object, kind, text) values (" +
		literal(table) + ", " + literal(object) + ", " + literal(kind) + ", " + literal(text) + ")"
}

func dropNote(table, object, kind string) string {
	return "delete from lastboard_note where table_name = " + literal(table) + " and object = " + literal(object) +
		" and kind = " + literal(kind)
}

func noteComments(t *schema.Table) []string {
	var list []string
	if t.Comment != "" {
		list = append(list, note(t.Name, "", "comment", t.Comment))
	}
	for _, c := range t.Columns {
		if c.Comment != "" {
			list = append(list, note(t.Name, c.Name, "comment", c.Comment))
		}
	}
	return list
}
