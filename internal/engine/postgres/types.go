package postgres

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// quote gives a name as PostgreSQL takes it whatever it holds.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// quoteAll quotes names and joins them with commas.
func quoteAll(names []string) string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = quote(n)
	}
	return strings.Join(list, ", ")
}

// name quotes a table's name: what stands before a dot is its schema, and Lastboard's
// own tables stand in theirs.
func name(table string) string {
	if s, t, ok := strings.Cut(table, "."); ok {
		return quote(s) + "." + quote(t)
	}
	if mine, ok := strings.CutPrefix(table, engine.Prefix); ok && !strings.HasPrefix(mine, "csv_") {
		return quote(own) + "." + quote(mine)
	}
	return quote(table)
}

// beside gives the name of something that stands in the schema of a table.
func beside(table, object string) string {
	if s, _, ok := strings.Cut(table, "."); ok {
		return quote(s) + "." + quote(object)
	}
	return quote(object)
}

// literal gives a string as PostgreSQL takes it.
func literal(s string) string { return planning.Literal(s) }

// dollar quotes the body of a function or of a block, between marks that are not in it: a name
// may be anything.
func dollar(body string) string {
	mark := "$lastboard$"
	for n := 1; strings.Contains(body, mark); n++ {
		mark = fmt.Sprintf("$lastboard%d$", n)
	}
	return mark + " " + body + " " + mark
}

// declared are the portable types that have another name on PostgreSQL.
var declared = map[string]string{"char": "character", "time": "time without time zone",
	"timestamp": "timestamp without time zone",
	"binary":    "bytea", "varbinary": "bytea", "blob": "bytea", "enum": "text", "tinyint": "smallint"}

// wider are the types that hold an unsigned one.
var wider = map[string]string{"tinyint": "smallint", "smallint": "integer", "integer": "bigint",
	"bigint": "numeric(20,0)"}

// declaration gives the type as it stands in a statement.
func declaration(c *schema.Column) string {
	if c.Declared != "" {
		return c.Declared
	}
	return typeSQL(c.Type)
}

func typeSQL(t sqltext.Type) string {
	if t.Native {
		text := t.Name
		if len(t.Args) > 0 {
			args := make([]string, len(t.Args))
			for i, a := range t.Args {
				args[i] = fmt.Sprint(a)
			}
			text += "(" + strings.Join(args, ",") + ")"
		}
		return text
	}
	if t.Unsigned {
		return wider[t.Name]
	}
	switch d, ok := declared[t.Name]; {
	case t.Name == "char":
		return fmt.Sprintf("character(%d)", append(t.Args, 1)[0])
	case ok:
		return d
	}
	return t.String()
}

// bare gives a type without its length and digits, for values that have not been
// proven to fit.
func bare(t sqltext.Type) string {
	switch {
	case t.Native:
		return typeSQL(t)
	case t.IsText():
		return "text"
	case t.IsInteger(), t.Name == "numeric":
		return "numeric"
	}
	return typeSQL(sqltext.Type{Name: t.Name})
}

// readTypes are PostgreSQL's names of portable types, as format_type gives them.
var readTypes = map[string]string{
	"character": "char", "time without time zone": "time", "timestamp without time zone": "timestamp", "bytea": "blob",
	"character varying": "varchar",
}

// readType gives the type that format_type's text stands for, and the text itself
// where the type would be written in another way.
func readType(text string) (t sqltext.Type, spelled string) {
	head, args, _ := strings.Cut(text, "(")
	if portable, ok := readTypes[head]; ok {
		head = portable
	}
	candidate := head
	if args != "" {
		candidate += "(" + args
	}
	if text == "character varying" {
		return sqltext.Type{Name: "text"}, text
	}
	if t, ok := sqltext.ParseType(candidate); ok && !t.Native &&
		typeSQL(t) == strings.Replace(text, "character varying", "varchar", 1) {
		return t, ""
	}
	return sqltext.Type{Name: text, Native: true}, ""
}

// limit gives the check that enforces what PostgreSQL does not enforce for a type; ""
// for a type that needs none. It is written so that it is read back as it is.
func limit(t sqltext.Type, column string) string {
	c := quote(column)
	switch {
	case t.Native:
		return ""
	case t.Name == "enum":
		values := make([]string, len(t.Values))
		for i, v := range t.Values {
			values[i] = literal(v)
		}
		if len(values) == 1 {
			return c + " = " + values[0]
		}
		return c + " in (" + strings.Join(values, ", ") + ")"
	case (t.Name == "varbinary" || t.Name == "binary") && len(t.Args) == 1:
		return fmt.Sprintf("octet_length(%s) <= %d", c, t.Args[0])
	case t.Unsigned && t.Name == "bigint":
		return c + " >= 0 and " + c + " <= 18446744073709551615"
	case t.Unsigned:
		return c + " >= 0 and " + c + " <= " + integerRange[t.Name][3]
	case t.Name == "tinyint":
		return c + " >= -128 and " + c + " <= 127"
	}
	return ""
}

// integerRange is the least and the greatest value of each integer type, signed and
// unsigned.
var integerRange = map[string][4]string{
	"tinyint": {"-128", "127", "0", "255"}, "smallint": {"-32768", "32767", "0", "65535"},
	"integer": {"-2147483648", "2147483647", "0", "4294967295"},
	"bigint":  {"-9223372036854775808", "9223372036854775807", "0", "18446744073709551615"},
}

// fits gives the condition that a computed value can be stored in a type just as it
// is; "" where the engine's own rules for an assignment see to it.
func fits(t sqltext.Type, kind, v string) string {
	switch {
	case t.Native:
		return ""
	case t.IsInteger() && kind == "integer":
		r := integerRange[t.Name]
		if t.Unsigned {
			return fmt.Sprintf("%s between %s and %s", v, r[2], r[3])
		}
		return fmt.Sprintf("%s between %s and %s", v, r[0], r[1])
	case t.IsInteger():
		r := integerRange[t.Name]
		low, high := r[0], r[1]
		if t.Unsigned {
			low, high = r[2], r[3]
		}
		return fmt.Sprintf("cast(%s as numeric) = trunc(cast(%s as numeric)) and cast(%s as numeric) between %s and %s", v, v,
			v, low, high)
	case t.Name == "numeric" && len(t.Args) > 0:
		scale := append(t.Args, 0)[1]
		return fmt.Sprintf("round(cast(%s as numeric), %d) = cast(%s as numeric) and abs(cast(%s as numeric)) < 1%s", v,
			scale, v, v, strings.Repeat("0", t.Args[0]-scale))
	case (t.Name == "varchar" || t.Name == "char") && len(t.Args) == 1:
		return fmt.Sprintf("char_length(cast(%s as text)) <= %d", v, t.Args[0])
	case t.Name == "date":
		return fmt.Sprintf("cast(%s as timestamp) = date_trunc('day', cast(%s as timestamp))", v, v)
	case t.Name == "enum", t.Name == "varbinary", t.Name == "binary":
		return strings.ReplaceAll(limit(t, "v"), quote("v"), v)
	}
	return ""
}

const limitSuffix = "_limit"

// readLimit recognises a check that limit made for the column, and gives the type that
// it stands for.
func readLimit(c *schema.Column, name string, check sqltext.Expr) (sqltext.Type, bool) {
	if !strings.HasSuffix(name, limitSuffix) || check == nil {
		return c.Type, false
	}
	shown := sqltext.PrintExpr(check)
	var candidates []sqltext.Type
	switch e := check.(type) {
	case *sqltext.In:
		candidates = append(candidates, sqltext.Type{Name: "enum", Values: texts(e.List)})
	case *sqltext.Binary:
		candidates = append(candidates, sqltext.Type{Name: "enum", Values: texts([]sqltext.Expr{e.R})},
			sqltext.Type{Name: "tinyint"})
		for n := range integerRange {
			candidates = append(candidates, sqltext.Type{Name: n, Unsigned: true})
		}
		if l, ok := e.R.(*sqltext.Literal); ok {
			var n int
			if _, err := fmt.Sscan(l.Text, &n); err == nil && n > 0 {
				candidates = append(candidates, sqltext.Type{Name: "varbinary", Args: []int{n}})
			}
		}
	}
	for _, t := range candidates {
		if tree, err := sqltext.ParseExpr(limit(t, c.Name)); err == nil && typeSQL(t) == declaration(c) &&
			sqltext.PrintExpr(tree) == shown {
			return t, true
		}
	}
	return c.Type, false
}

func texts(list []sqltext.Expr) []string {
	var values []string
	for _, x := range list {
		if l, ok := x.(*sqltext.Literal); ok && l.Kind == sqltext.StringLiteral {
			values = append(values, l.Text)
		}
	}
	return values
}

// Holds implements engine.Planner: types that PostgreSQL does not tell apart become
// one, what it does not enforce gets a check, what is computed is stored, a key is not
// null, and no column moves.
func (e Engine) Holds(change *schema.TableChange) *schema.Table {
	t := change.After
	held := *t
	held.Columns = nil
	for _, c := range t.Columns {
		h := *c
		from, old := change.From[c.Name]
		if !old || !change.Before.Column(from).Type.Equal(c.Type) {
			h.Type = heldType(h.Type)
			if h.Declared == "" && limit(h.Type, h.Name) != "" {
				h.Limit = schema.ConstraintName(tableOf(t), []string{c.Name}, strings.TrimPrefix(limitSuffix, "_"))
			} else if limit(h.Type, h.Name) != "" {
				h.Type, _ = readType(declaration(&h)) // nothing tells it apart
			} else {
				h.Limit = ""
			}
		}
		if h.Generated != nil && !h.Generated.Stored {
			g := *h.Generated
			g.Stored = true
			h.Generated = &g
		}
		if d := h.Default; d != nil && d.Tree != nil && sqltext.PrintExpr(d.Tree) == "null" {
			h.Default = nil
		}
		if h.Identity != nil {
			h.NotNull = true
			h.Identity = &sqltext.Identity{Always: h.Identity.Always}
		}
		if t.PrimaryKey != nil && schema.HasName(t.PrimaryKey.Columns, h.Name) {
			h.NotNull = true
		}
		held.Columns = append(held.Columns, &h)
	}
	if change.Before != nil && len(change.Placed) > 0 && !moves(change) {
		held.Columns = unmoved(change, held.Columns)
	}
	if t.Name != tableOf(t).Name || len(t.Uniques) > 0 {
		held.Uniques = slices.Clone(t.Uniques)
		for i, k := range held.Uniques {
			if k.AsIndex || k.Implied {
				c := *k
				c.AsIndex, c.Implied = false, false
				held.Uniques[i] = &c
			}
		}
	}
	return &held
}

// tableOf gives a table under its name without a schema, for naming what is on it.
func tableOf(t *schema.Table) *schema.Table {
	_, n, ok := strings.Cut(t.Name, ".")
	if !ok {
		return t
	}
	c := *t
	c.Name = n
	return &c
}

// heldType gives the type that reading a column back gives.
func heldType(t sqltext.Type) sqltext.Type {
	switch {
	case t.Name == "char" && len(t.Args) == 0 && !t.Native:
		return sqltext.Type{Name: "char", Args: []int{1}}
	case t.Name == "binary" && len(t.Args) == 1 && !t.Native:
		return sqltext.Type{Name: "varbinary", Args: t.Args}
	case t.Name == "binary" && !t.Native:
		return sqltext.Type{Name: "blob"}
	case t.Name == "numeric" && len(t.Args) == 1 && !t.Native:
		return sqltext.Type{Name: "numeric", Args: []int{t.Args[0], 0}}
	case t.Native:
		read, _ := readType(typeSQL(t))
		return read
	}
	return t
}

// unmoved gives the columns in the order that they have without copying the table:
// those of before, then those that are added.
func unmoved(change *schema.TableChange, columns []*schema.Column) []*schema.Column {
	var list []*schema.Column
	for _, b := range change.Before.Columns {
		for _, c := range columns {
			if change.From[c.Name] == b.Name {
				list = append(list, c)
			}
		}
	}
	for _, c := range columns {
		if _, old := change.From[c.Name]; !old {
			list = append(list, c)
		}
	}
	return list
}

// Enforces implements engine.Planner.
func (Engine) Enforces(t *schema.Table, c *schema.Column) bool { return dialect{}.Enforces(t, c) }

// Enforces implements planning.Dialect.
func (dialect) Enforces(t *schema.Table, c *schema.Column) bool {
	return c.Generated != nil || c.Limit != "" || c.Type.Native || t.Opaque != "" || limit(c.Type, c.Name) == ""
}
