package view

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"

	"lastboard/internal/core/describe"
	"lastboard/internal/schema"
)

// Overview writes a line for each table.
func (p *Printer) Overview(tables []*describe.Table, views []*schema.View) {
	var rows [][]string
	for _, t := range tables {
		rows = append(rows, []string{t.Table.Name, Count(t.Rows), Size(t.Bytes),
			fmt.Sprint(len(t.Table.Columns)), t.Table.Comment})
	}
	for _, v := range views {
		rows = append(rows, []string{v.Name, "", "", fmt.Sprint(len(v.Columns)), "a view"})
	}
	if len(rows) == 0 {
		p.Line("there are no tables")
		return
	}
	p.Table([]string{"table", "rows", "size", "columns", ""}, rows)
}

// OneTable writes a table as it stands.
func (p *Printer) OneTable(t *describe.Table) {
	head := bold.Render(t.Table.Name)
	if !t.Past {
		head += faint.Render(fmt.Sprintf("  %s, %s", rowCount(t.Rows), Size(t.Bytes)))
	}
	p.Line("%s", head)
	if t.Table.Comment != "" {
		p.Line("%s", t.Table.Comment)
	}
	if t.Table.Opaque != "" {
		p.Line("%s %s", warn.Render("cannot be changed:"), t.Table.Opaque)
	}
	var rows [][]string
	for i, c := range t.Table.Columns {
		rows = append(rows, []string{c.Name, typeText(c), describe.Range(c.Type), nullText(c), exprText(c.Default),
			share(t, i), more(t.Table, c)})
	}
	p.styledTable([]string{"column", "type", "holds", "nullable", "default", "nulls", ""}, rows,
		func(col int, _ string) (lipgloss.Style, bool) { return faint, col == 2 })
	for _, f := range facts(t) {
		p.Hanging("  "+faint.Render(fmt.Sprintf("%-12s", f.what)), f.text)
	}
}

func typeText(c *schema.Column) string {
	if c.Options["typeless"] != "" {
		return "any"
	}
	text := c.Type.String()
	if c.Declared != "" && !strings.EqualFold(c.Declared, text) && !c.Type.Native {
		text += " (" + c.Declared + ")"
	}
	return text
}

func nullText(c *schema.Column) string {
	if c.NotNull {
		return "no"
	}
	return "yes"
}

func exprText(e *schema.Expr) string {
	if e == nil {
		return ""
	}
	return e.String()
}

func share(t *describe.Table, column int) string {
	if column >= len(t.Nulls) || t.Rows == 0 || t.Nulls[column] == 0 {
		return ""
	}
	percent := float64(t.Nulls[column]) * 100 / float64(t.Rows)
	if percent < 0.1 {
		return Count(t.Nulls[column])
	}
	return fmt.Sprintf("%.1f %%", percent)
}

func more(t *schema.Table, c *schema.Column) string {
	var list []string
	if t.PrimaryKey != nil && schema.HasName(t.PrimaryKey.Columns, c.Name) {
		list = append(list, "primary key")
	}
	if c.Identity != nil {
		list = append(list, "numbers itself")
	}
	if c.Generated != nil {
		list = append(list, "computed "+whenComputed(c))
	}
	if c.OnUpdateNow {
		list = append(list, "takes the time of each update")
	}
	if c.Collate != "" {
		list = append(list, "collate "+c.Collate)
	}
	if c.Comment != "" {
		list = append(list, c.Comment)
	}
	return strings.Join(list, "; ")
}

func whenComputed(c *schema.Column) string {
	if c.Generated.Stored {
		return "and stored"
	}
	return "when read"
}

// fact is what stands below a table's columns.
type fact struct{ what, text string }

func facts(t *describe.Table) []fact {
	var list []fact
	add := func(what, format string, args ...any) { list = append(list, fact{what, fmt.Sprintf(format, args...)}) }
	for _, c := range t.Table.Columns {
		if c.Generated != nil {
			add("computed", "%s = %s", c.Name, c.Generated.Expr.String())
		}
	}
	for _, k := range t.Table.Uniques {
		add("unique", "(%s)  %s", strings.Join(k.Columns, ", "), faint.Render(k.Name))
	}
	for _, k := range t.Table.Checks {
		add("check", "%s  %s", k.Expr, faint.Render(k.Name))
	}
	for _, k := range t.Table.ForeignKeys {
		add("refers to", "%s  %s", foreignKeyText(k), faint.Render(k.Name))
	}
	for _, x := range t.Table.Indexes {
		add("index", "%s  %s", indexText(x), faint.Render(x.Name))
	}
	for _, tr := range t.Table.Triggers {
		add("trigger", "%s", tr.Name)
	}
	for _, o := range describe.SortedOptions(t.Table.Options) {
		switch v := t.Table.Options[o]; {
		case o == "partition by":
			add("in parts", "by %s", v)
		case o != "definition":
			add("table", "%s", o)
		}
	}
	for _, u := range t.NeededBy {
		add("needed by", "%s", u)
	}
	for _, o := range t.Open {
		add("open", "%s", o)
	}
	if len(t.Unenforced) > 0 {
		add("note", "nothing enforces the type of %s: other programs can store any value", strings.Join(t.Unenforced, ", "))
	}
	for _, u := range t.Users {
		add("open in", "%s", u)
	}
	return list
}

func foreignKeyText(k *schema.ForeignKey) string {
	text := fmt.Sprintf("(%s) → %s (%s)", strings.Join(k.Columns, ", "), k.Table, strings.Join(k.References, ", "))
	if k.OnDelete != "" {
		text += " on delete " + k.OnDelete
	}
	if k.OnUpdate != "" {
		text += " on update " + k.OnUpdate
	}
	return text
}

func indexText(x *schema.Index) string {
	parts := make([]string, len(x.Parts))
	for i, p := range x.Parts {
		parts[i] = p.Column
		if p.Expr != nil {
			parts[i] = "(" + p.Expr.String() + ")"
		}
		if p.Desc {
			parts[i] += " desc"
		}
	}
	text := "(" + strings.Join(parts, ", ") + ")"
	if x.Unique {
		text = "unique " + text
	}
	if x.Where != nil {
		text += " where " + x.Where.String()
	}
	return text
}

// Differences writes what changed of a table, before beside after: what came or went is
// shown as it is defined. Either table may be nil.
func (p *Printer) Differences(was, is *schema.Table, list []schema.Difference) {
	var rows [][]string
	for _, d := range list {
		before, after := d.Expected, d.Found
		switch d.Attribute {
		case "exists", "expression":
			before, after = definition(was, d), definition(is, d)
		case "generated", "default":
			before, after = formula(was, d), formula(is, d)
		}
		mark := lostOrGained(before, after)
		if before == "" {
			before = "-"
		}
		if after == "" {
			after = "-"
		}
		what := strings.TrimSpace(d.Object + " " + d.Name)
		if d.Attribute != "exists" {
			what += ": " + d.Attribute
		}
		rows = append(rows, []string{what, before, after, mark})
	}
	p.styledTable([]string{"", "before", "after", ""}, rows, func(col int, v string) (lipgloss.Style, bool) {
		switch {
		case col == 3 && v == "lost":
			return warn, true
		case col == 3:
			return good, true
		}
		return bold, false
	})
}

// lostOrGained says of an attribute that one side has and the other has not which it
// is.
func lostOrGained(before, after string) string {
	absent := func(v string) bool { return v == "" || v == "no" }
	switch {
	case absent(after) && !absent(before):
		return "lost"
	case absent(before) && !absent(after):
		return "gained"
	}
	return ""
}

// formula writes a column's expression as people write it.
func formula(t *schema.Table, d schema.Difference) string {
	if t == nil || t.Column(d.Name) == nil {
		return ""
	}
	c := t.Column(d.Name)
	if d.Attribute == "default" {
		return exprText(c.Default)
	}
	if c.Generated == nil {
		return ""
	}
	return c.Generated.Expr.String()
}

// definition writes a part of a table in short; "" where the table has none.
func definition(t *schema.Table, d schema.Difference) string {
	if t == nil {
		return ""
	}
	find := func(keys []*schema.Key) string {
		for _, k := range keys {
			if schema.SameName(k.Name, d.Name) {
				return "(" + strings.Join(k.Columns, ", ") + ")"
			}
		}
		return ""
	}
	switch d.Object {
	case "table":
		return "there"
	case "column":
		return columnText(t.Column(d.Name))
	case "unique":
		return find(t.Uniques)
	case "primary key":
		if t.PrimaryKey != nil {
			return find([]*schema.Key{{Name: d.Name, Columns: t.PrimaryKey.Columns}})
		}
	case "check":
		for _, k := range t.Checks {
			if schema.SameName(k.Name, d.Name) {
				return k.Expr.String()
			}
		}
	case "foreign key":
		for _, k := range t.ForeignKeys {
			if schema.SameName(k.Name, d.Name) {
				return foreignKeyText(k)
			}
		}
	case "index":
		if x := t.Index(d.Name); x != nil {
			return indexText(x)
		}
	}
	return ""
}

func columnText(c *schema.Column) string {
	if c == nil {
		return ""
	}
	text := typeText(c)
	if c.NotNull {
		text += " not null"
	}
	if c.Default != nil {
		text += " default " + c.Default.String()
	}
	if c.Generated != nil {
		text += " = " + c.Generated.Expr.String()
	}
	if c.OnUpdateNow {
		text += " on update current_timestamp"
	}
	return text
}
