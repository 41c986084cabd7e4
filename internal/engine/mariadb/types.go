package mariadb

import (
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// quote gives a name as the server takes it in Lastboard's sessions, whatever it holds.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// quoteAll quotes names and joins them with commas.
func quoteAll(names []string) string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = quote(n)
	}
	return strings.Join(list, ", ")
}

func literal(s string) string { return planning.Literal(s) }

// spelled are the portable types as the server shows them, where that is another word.
var spelled = map[string]string{
	"tinyint": "tinyint(4)", "smallint": "smallint(6)", "integer": "int(11)", "bigint": "bigint(20)",
	"numeric": "decimal(65,30)", "real": "float", "double precision": "double",
	"boolean": "tinyint(1)", "text": "longtext", "time": "time(6)", "timestamp": "datetime(6)",
	"timestamp with time zone": "timestamp(6)", "blob": "longblob", "json": "longtext",
}

// unsigned are the types of whole numbers without a sign.
var unsigned = map[string]string{"tinyint": "tinyint(3) unsigned", "smallint": "smallint(5) unsigned",
	"integer": "int(10) unsigned", "bigint": "bigint(20) unsigned"}

// natives are types of the server's own that it shows with a width when none is given.
var natives = map[string]string{"mediumint": "mediumint(9)", "year": "year(4)", "bit": "bit(1)"}

// declaration gives the type as it stands in a statement, and as the server shows it.
func declaration(c *schema.Column) string {
	if c.Declared != "" {
		return c.Declared
	}
	return typeSQL(c.Type)
}

func typeSQL(t sqltext.Type) string {
	args := make([]string, len(t.Args))
	for i, a := range t.Args {
		args[i] = fmt.Sprint(a)
	}
	in := ""
	if len(args) > 0 {
		in = "(" + strings.Join(args, ",") + ")"
	}
	switch {
	case t.Native && in == "" && natives[t.Name] != "":
		return natives[t.Name]
	case t.Native:
		return t.Name + in
	case t.Unsigned:
		return unsigned[t.Name]
	case t.Name == "numeric" && len(args) == 1:
		return "decimal(" + args[0] + ",0)"
	case t.Name == "numeric" && in != "":
		return "decimal" + in
	case t.Name == "char" && in == "", t.Name == "binary" && in == "":
		return t.Name + "(1)"
	case t.Name == "enum":
		values := make([]string, len(t.Values))
		for i, v := range t.Values {
			values[i] = literal(v)
		}
		return "enum(" + strings.Join(values, ",") + ")"
	case spelled[t.Name] != "":
		return spelled[t.Name]
	}
	return t.Name + in
}

// nearest are types of the server's own that hold what a portable type holds, or part of
// it.
var nearest = map[string]string{
	"tinytext": "text", "text": "text", "mediumtext": "text", "tinyblob": "blob", "blob": "blob", "mediumblob": "blob",
	"datetime": "timestamp", "timestamp": "timestamp with time zone", "time": "time",
	"tinyint": "tinyint", "smallint": "smallint", "int": "integer", "bigint": "bigint", "binary": "varbinary",
}

// readType gives the type that a column's text stands for, and the text itself where
// the type would be written in another way.
func readType(text string) (t sqltext.Type, declared string) {
	for name, shown := range spelled {
		if shown == text && name != "json" {
			return sqltext.Type{Name: name}, ""
		}
	}
	for name, shown := range unsigned {
		if shown == text {
			return sqltext.Type{Name: name, Unsigned: true}, ""
		}
	}
	if t, ok := sqltext.ParseType(strings.Replace(text, "decimal", "numeric", 1)); ok && !t.Native && typeSQL(t) == text {
		held := heldType(t)
		if typeSQL(held) != text {
			return held, text
		}
		return held, ""
	}
	head := text
	if i := strings.IndexAny(head, "( "); i > 0 {
		head = head[:i]
	}
	_, rest, _ := strings.Cut(text, ")")
	if name, ok := nearest[head]; ok && (rest == "" || rest == " unsigned") && !strings.Contains(text, "/*") {
		t := sqltext.Type{Name: name, Unsigned: rest == " unsigned"}
		if name == "varbinary" {
			var n int
			if _, err := fmt.Sscanf(text, "binary(%d)", &n); err != nil {
				return sqltext.Type{Name: text, Native: true}, ""
			}
			t.Args = []int{n}
		}
		return t, text
	}
	return sqltext.Type{Name: text, Native: true}, ""
}

// heldType gives the type that reading a column back gives.
func heldType(t sqltext.Type) sqltext.Type {
	switch {
	case t.Native:
		read, _ := readType(typeSQL(t))
		return read
	case t.Name == "char" && len(t.Args) == 0:
		return sqltext.Type{Name: "char", Args: []int{1}}
	case t.Name == "binary" && len(t.Args) == 1:
		return sqltext.Type{Name: "varbinary", Args: t.Args}
	case t.Name == "binary":
		return sqltext.Type{Name: "blob"}
	case t.Name == "numeric" && len(t.Args) == 1:
		return sqltext.Type{Name: "numeric", Args: []int{t.Args[0], 0}}
	}
	return t
}

// limit gives the check that enforces what the server does not enforce for a type; ""
// for a type that needs none.
func limit(t sqltext.Type, column string) string {
	switch {
	case t.Name == "boolean" && !t.Native:
		return quote(column) + " in (0, 1)"
	case t.Name == "json" && !t.Native:
		return "json_valid(" + quote(column) + ")"
	}
	return ""
}

// isText reports whether a column has a collation.
func isText(c *schema.Column) bool {
	if c.Type.Native {
		return strings.Contains(c.Type.Name, "text") || strings.HasPrefix(c.Type.Name, "set(") ||
			strings.HasPrefix(c.Type.Name, "varchar") || strings.HasPrefix(c.Type.Name, "char")
	}
	return c.Type.IsText()
}

// integerRange is the least and the greatest value of each integer type, signed and
// unsigned.
var integerRange = map[string][4]string{
	"tinyint": {"-128", "127", "0", "255"}, "smallint": {"-32768", "32767", "0", "65535"},
	"integer": {"-2147483648", "2147483647", "0", "4294967295"},
	"bigint":  {"-9223372036854775808", "9223372036854775807", "0", "18446744073709551615"},
}

// exact is the type in which numbers are compared: every digit of what a portable type
// holds.
const exact = "decimal(65,15)"

// fits gives the condition that a computed value can be stored in a type just as it is;
// "" where every value can.
func fits(t sqltext.Type, kind, v string) string {
	switch {
	case t.Native:
		return ""
	case t.IsInteger():
		r := integerRange[t.Name]
		low, high := r[0], r[1]
		if t.Unsigned {
			low, high = r[2], r[3]
		}
		if kind == "integer" {
			return fmt.Sprintf("%s between %s and %s", v, low, high)
		}
		return fmt.Sprintf("cast(%s as %s) = truncate(cast(%s as %s), 0) and cast(%s as %s) between %s and %s", v, exact, v,
			exact, v, exact, low, high)
	case t.Name == "numeric" && len(t.Args) > 0:
		scale := append(t.Args, 0)[1]
		return fmt.Sprintf("round(cast(%s as %s), %d) = cast(%s as %s) and abs(cast(%s as %s)) < 1%s", v, exact, scale, v,
			exact, v, exact, strings.Repeat("0", t.Args[0]-scale))
	case (t.Name == "varchar" || t.Name == "char") && len(t.Args) == 1:
		return fmt.Sprintf("char_length(%s) <= %d", v, t.Args[0])
	case (t.Name == "varbinary" || t.Name == "binary") && len(t.Args) == 1:
		return fmt.Sprintf("octet_length(%s) <= %d", v, t.Args[0])
	case t.Name == "date":
		return fmt.Sprintf("cast(%s as datetime(6)) = cast(cast(%s as date) as datetime(6))", v, v)
	case t.Name == "enum":
		values := make([]string, len(t.Values))
		for i, x := range t.Values {
			values[i] = literal(x)
		}
		return v + " in (" + strings.Join(values, ", ") + ")"
	}
	return ""
}

// Holds implements engine.Planner: types that the server does not tell apart become one,
// a key is not null and has no name of its own, numbers may always be given.
func (e Engine) Holds(change *schema.TableChange) *schema.Table {
	t := change.After
	held := *t
	held.Columns = nil
	for _, c := range t.Columns {
		h := *c
		from, old := change.From[c.Name]
		if !old || !change.Before.Column(from).Type.Equal(c.Type) {
			h.Type = heldType(h.Type)
			h.Limit = ""
			if h.Declared == "" && limit(h.Type, h.Name) != "" {
				h.Limit = h.Name
			}
		}
		if h.Limit != "" {
			h.Limit = h.Name
		}
		if h.Collate == bytewise {
			h.Collate = ""
		}
		if d := h.Default; d != nil && d.Tree != nil && sqltext.PrintExpr(d.Tree) == "null" {
			h.Default = nil
		}
		supply(&h, change)
		if h.Identity != nil {
			h.NotNull = true
			h.Identity = &sqltext.Identity{}
		}
		if t.PrimaryKey != nil && schema.HasName(t.PrimaryKey.Columns, h.Name) {
			h.NotNull = true
		}
		held.Columns = append(held.Columns, &h)
	}
	held.ForeignKeys = slices.Clone(t.ForeignKeys)
	for i, k := range held.ForeignKeys {
		copied := *k
		copied.OnDelete, copied.OnUpdate = idle(k.OnDelete), idle(k.OnUpdate)
		held.ForeignKeys[i] = &copied
	}
	held.Indexes = slices.Clone(t.Indexes)
	for i, x := range held.Indexes {
		if x.Unique && slices.ContainsFunc(x.Parts, func(
			p schema.IndexPart) bool {
			c := t.Column(p.Column)
			return c != nil && unbounded(c)
		}) {
			copied := *x // which is held by sums of its values, in no order
			copied.Parts = slices.Clone(x.Parts)
			for j := range copied.Parts {
				copied.Parts[j].Desc = false
			}
			held.Indexes[i] = &copied
		}
	}
	if k := t.PrimaryKey; k != nil {
		copied := *k
		copied.Implied = true
		copied.Name = schema.ConstraintName(&schema.Table{Name: t.Name}, k.Columns, "primary")
		held.PrimaryKey = &copied
	}
	held.Uniques = slices.Clone(t.Uniques)
	for i, k := range held.Uniques {
		if k.AsIndex || k.Implied {
			c := *k
			c.AsIndex, c.Implied = false, false
			held.Uniques[i] = &c
		}
	}
	return &held
}

// idle gives what a foreign key does, where restrict is nothing of its own.
func idle(act string) string {
	if act == "restrict" {
		return ""
	}
	return act
}

// Enforces implements engine.Planner.
func (Engine) Enforces(t *schema.Table, c *schema.Column) bool { return dialect{}.Enforces(t, c) }

// Enforces implements planning.Dialect.
func (dialect) Enforces(t *schema.Table, c *schema.Column) bool {
	return c.Generated != nil || c.Limit != "" || c.Type.Native || t.Opaque != "" || limit(c.Type, c.Name) == ""
}
