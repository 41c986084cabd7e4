package sqlite

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
)

// quote gives a name as SQLite takes it whatever it holds.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// quoteAll quotes names and joins them with commas.
func quoteAll(names []string) string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = quote(n)
	}
	return strings.Join(list, ", ")
}

// literal gives a string as SQLite takes it.
func literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// declared are the portable types whose declaration differs from their name;
// each is chosen for the affinity that keeps every value as it is
// (https://sqlite.org/datatype3.html, 3.1).
var declared = map[string]string{"json": "json text", "uuid": "uuid text", "enum": "text"}

// declaration gives the type as it stands in a create table statement.
func declaration(c *schema.Column, strict bool) string {
	if c.Options["typeless"] != "" {
		return ""
	}
	if c.Declared != "" {
		return c.Declared
	}
	if strict {
		return strictType(c.Type)
	}
	if c.Type.Native {
		if len(c.Type.Args) > 0 {
			return c.Type.String()
		}
		return c.Type.Name
	}
	if d, ok := declared[c.Type.Name]; ok {
		return d
	}
	return c.Type.String()
}

// strictType gives the nearest of the six types of a strict table.
func strictType(t sqltext.Type) string {
	switch {
	case t.Native:
		return t.Name
	case t.IsInteger(), t.Name == "boolean":
		return "integer"
	case t.Name == "real", t.Name == "double precision":
		return "real"
	case t.Name == "blob", t.Name == "binary", t.Name == "varbinary":
		return "blob"
	case t.Name == "numeric":
		return "any"
	}
	return "text"
}

// holdsType gives the type that reading a strict table's column back gives.
func holdsType(t sqltext.Type) sqltext.Type {
	d := strictType(t)
	if t.Name == "varchar" || t.Name == "enum" || t.Name == "boolean" || t.Unsigned || t.Native {
		return t // told apart by their limit, or passed through
	}
	return readType(d)
}

// readType gives the type that a declaration stands for.
func readType(declaration string) sqltext.Type {
	text := strings.ToLower(strings.Join(strings.Fields(declaration), " "))
	for name, d := range declared {
		if text == d && name != "enum" {
			return sqltext.Type{Name: name}
		}
	}
	if t, ok := sqltext.ParseType(text); ok && !t.Native && len(t.Values) == 0 {
		return t
	}
	return sqltext.Type{Name: text, Native: true}
}

// limit gives the check that enforces what SQLite does not enforce for a type;
// "" for a type that needs none. A null passes every check.
func limit(t sqltext.Type, column string) string {
	c := quote(column)
	switch {
	case t.Native:
		return ""
	case t.Name == "boolean":
		return c + " in (0, 1)"
	case t.Name == "enum":
		values := make([]string, len(t.Values))
		for i, v := range t.Values {
			values[i] = literal(v)
		}
		return c + " in (" + strings.Join(values, ", ") + ")"
	case (t.Name == "varchar" || t.Name == "char" || t.Name == "varbinary" || t.Name == "binary") && len(t.Args) == 1:
		return fmt.Sprintf("length(%s) <= %d", c, t.Args[0])
	case t.Unsigned:
		return c + " >= 0"
	}
	return ""
}

const limitSuffix = "_limit"

// readLimit recognises a check that limit made for the column, and gives the
// type that it stands for.
func readLimit(c *schema.Column, name, check string) (sqltext.Type, bool) {
	if !strings.HasSuffix(name, limitSuffix) {
		return c.Type, false
	}
	tokens, _ := sqltext.Scan(check, sqltext.Engine)
	candidates := []sqltext.Type{c.Type, {Name: "boolean"}}
	var values []string
	var numbers []int
	for _, t := range tokens {
		switch t.Kind {
		case sqltext.String:
			values = append(values, t.Value)
		case sqltext.Number:
			var n int
			if _, err := fmt.Sscan(t.Text, &n); err == nil {
				numbers = append(numbers, n)
			}
		}
	}
	if len(values) > 0 {
		candidates = append(candidates, sqltext.Type{Name: "enum", Values: values})
	}
	if len(numbers) == 1 {
		candidates = append(candidates, sqltext.Type{Name: "varchar", Args: numbers})
	}
	unsigned := c.Type
	unsigned.Unsigned = true
	for _, t := range append(candidates, unsigned) {
		if l := limit(t, c.Name); l != "" && schema.Words(l) == schema.Words(check) {
			return t, true
		}
	}
	return c.Type, false
}

// Holds implements engine.Planner: a column that numbers itself is INTEGER on
// SQLite, every type of a strict table is one of six, and every added
// column whose type needs a limit has one.
func (Engine) Holds(change *schema.TableChange) *schema.Table {
	t := change.After
	held := *t
	held.Columns = nil
	strict := t.Options["strict"] != ""
	for _, c := range t.Columns {
		if _, old := change.From[c.Name]; old {
			held.Columns = append(held.Columns, c)
			continue
		}
		h := *c
		if h.Identity != nil {
			h.Type = sqltext.Type{Name: "integer"}
			h.Identity = &sqltext.Identity{}
			h.Options = map[string]string{"implied not null": "yes"}
		}
		if strict && h.Declared == "" {
			h.Type = holdsType(h.Type)
		}
		if h.Limit == "" && h.Declared == "" && limit(h.Type, h.Name) != "" {
			h.Limit = schema.ConstraintName(t, []string{c.Name}, strings.TrimPrefix(limitSuffix, "_"))
		}
		held.Columns = append(held.Columns, &h)
	}
	return &held
}

// sortedOptions lists the keys of options in a steady order.
func sortedOptions(o map[string]string) []string { return slices.Sorted(maps.Keys(o)) }
