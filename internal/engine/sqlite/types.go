package sqlite

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
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
	switch {
	case t.Name == "char" && len(t.Args) == 1:
		return sqltext.Type{Name: "varchar", Args: t.Args}
	case t.Name == "binary" && len(t.Args) == 1:
		return sqltext.Type{Name: "varbinary", Args: t.Args}
	case t.Native, t.Name == "numeric" && len(t.Args) == 0, limit(t, "v") == "", strictEnforces(t):
		return readType(strictType(t))
	case t.Name == "numeric" && len(t.Args) == 1:
		return sqltext.Type{Name: "numeric", Args: []int{t.Args[0], 0}}
	}
	return t // told apart by its limit
}

// strictEnforces reports whether a strict table itself enforces all of a type.
func strictEnforces(t sqltext.Type) bool {
	return t.Name == "real" || t.Name == "double precision" || t.Name == "bigint" && !t.Unsigned
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
// "" for a type that needs none. A null passes every check. Times are text as the
// applications write them, and have none.
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
	case t.IsInteger():
		return "typeof(" + c + ") in ('integer', 'null')" + inRange(t, c)
	case t.Name == "numeric":
		return "typeof(" + c + ") in ('integer', 'real', 'null')" + digits(t, c)
	case t.Name == "real", t.Name == "double precision":
		return "typeof(" + c + ") in ('real', 'null')"
	case t.Name == "uuid":
		return "length(" + c + ") = 36 and " + c + " not glob '*[^0-9a-fA-F-]*'"
	case t.Name == "json":
		return "json_valid(" + c + ")"
	}
	return ""
}

// integerRange is the least and the greatest value of each integer type, signed
// and unsigned; "" where it is SQLite's own.
var integerRange = map[string][4]string{
	"tinyint": {"-128", "127", "0", "255"}, "smallint": {"-32768", "32767", "0", "65535"},
	"integer": {"-2147483648", "2147483647", "0", "4294967295"}, "bigint": {"", "", "0", ""},
}

func inRange(t sqltext.Type, c string) string {
	r := integerRange[t.Name]
	low, high := r[0], r[1]
	if t.Unsigned {
		low, high = r[2], r[3]
	}
	switch {
	case low == "":
		return ""
	case high == "":
		return " and " + c + " >= " + low
	}
	return " and " + c + " between " + low + " and " + high
}

// digits gives the condition that a number has no more digits than its type.
func digits(t sqltext.Type, c string) string {
	if len(t.Args) == 0 {
		return ""
	}
	scale := 0
	if len(t.Args) == 2 {
		scale = t.Args[1]
	}
	return fmt.Sprintf(" and round(%s, %d) = %s and abs(%s) < 1%s", c, scale, c, c, strings.Repeat("0", t.Args[0]-scale))
}

// fits gives the condition that a computed value can be stored in a column of the
// type just as it is; "" where every value can.
func fits(t sqltext.Type, v string) string {
	switch {
	case t.IsInteger():
		return "typeof(" + v + ") in ('integer', 'real', 'null') and " + v + " = cast(" + v + " as integer)" + inRange(t, v)
	case t.Name == "real", t.Name == "double precision":
		return "typeof(" + v + ") in ('integer', 'real', 'null')"
	case t.Native:
		return ""
	case t.Name == "date":
		return "case when " + v + " is not null then typeof(" + v + ") = 'text' and date(" + v + ") is " + v + " end"
	case t.Name == "timestamp", t.Name == "timestamp with time zone":
		return "case when " + v + " is not null then typeof(" + v + ") = 'text' and datetime(" + v + ") is not null end"
	case t.Name == "time":
		return "case when " + v + " is not null then typeof(" + v + ") = 'text' and time(" + v + ") is not null end"
	}
	return strings.ReplaceAll(limit(t, "v"), quote("v"), v)
}

const limitSuffix = "_limit"

// limited are the types that only their limits tell apart in a strict table.
var limited = func() []sqltext.Type {
	list := []sqltext.Type{{Name: "uuid"}, {Name: "json"}}
	for _, n := range []string{"tinyint", "smallint", "integer", "bigint"} {
		list = append(list, sqltext.Type{Name: n}, sqltext.Type{Name: n, Unsigned: true})
	}
	return list
}()

// lengthType gives the type of limited length that is stored as t.
func lengthType(t sqltext.Type) string {
	if t.Name == "blob" {
		return "varbinary"
	}
	return "varchar"
}

// readLimit recognises a check that limit made for the column, and gives the
// type that it stands for.
func readLimit(c *schema.Column, name, check string) (sqltext.Type, bool) {
	if !strings.HasSuffix(name, limitSuffix) {
		return c.Type, false
	}
	tokens, _ := sqltext.Scan(check, sqltext.Engine)
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
	unsigned := c.Type
	unsigned.Unsigned = true
	candidates := append([]sqltext.Type{c.Type, {Name: "boolean"}, unsigned}, limited...)
	if len(values) > 0 {
		candidates = append(candidates, sqltext.Type{Name: "enum", Values: values})
	}
	if len(numbers) == 1 {
		candidates = append(candidates, sqltext.Type{Name: lengthType(c.Type), Args: numbers})
	}
	if len(numbers) == 2 && numbers[0] >= 0 && numbers[1] > 0 {
		scale, precision := numbers[0], len(fmt.Sprint(numbers[1]))-1+numbers[0]
		candidates = append(candidates, sqltext.Type{Name: "numeric", Args: []int{precision, scale}})
	}
	for _, t := range candidates {
		if l := limit(t, c.Name); l != "" && schema.Words(l) == schema.Words(check) {
			return t, true
		}
	}
	return c.Type, false
}

// Holds implements engine.Planner: a column that numbers itself is INTEGER on
// SQLite, every type of a strict table is one of six, every column that is new or
// gets another type has what enforces its limits, and no column moves unless the
// table is copied.
func (Engine) Holds(change *schema.TableChange) *schema.Table {
	t := change.After
	held := *t
	held.Columns = nil
	strict := t.Options["strict"] != ""
	for _, c := range t.Columns {
		h := *c
		from, old := change.From[c.Name]
		if !old || !change.Before.Column(from).Type.Equal(c.Type) {
			if strict && h.Declared == "" {
				h.Type = holdsType(h.Type)
			}
			if needsLimit(t, &h, strict) && !instant(change, c, strict) {
				h.Limit = schema.ConstraintName(t, []string{c.Name}, strings.TrimPrefix(limitSuffix, "_"))
			}
		}
		var was *schema.Column
		if old {
			was = change.Before.Column(from)
		}
		if h.Identity != nil && was != nil && was.Identity != nil {
			h.Type, h.Limit, h.Declared = was.Type, was.Limit, was.Declared // whatever it is called, it is INTEGER
		} else if h.Identity != nil {
			h.Type, h.Limit, h.Declared = sqltext.Type{Name: "integer"}, "", ""
			h.Identity = &sqltext.Identity{}
			h.Options = map[string]string{"implied not null": "yes"}
		}
		held.Columns = append(held.Columns, &h)
	}
	for _, c := range held.Columns {
		settleNotNull(&held, c)
	}
	keepTexts(&held)
	if change.Before != nil && len(change.Placed) > 0 && !moves(change) {
		held.Columns = unmoved(change, held.Columns)
	}
	return &held
}

// keepTexts notes how expressions will stand in the schema, where that depends on the
// types of the columns in them.
func keepTexts(t *schema.Table) {
	text := func(e *schema.Expr) *schema.Expr {
		if e == nil || e.Native != "" || e.Tree == nil || render(t, e.Tree) == render(nil, e.Tree) {
			return e
		}
		return &schema.Expr{Tree: e.Tree, Native: render(t, e.Tree)}
	}
	for _, c := range t.Columns {
		if c.Generated != nil {
			c.Generated = &schema.Generated{Expr: *text(&c.Generated.Expr), Stored: c.Generated.Stored}
		}
	}
	t.Checks = slices.Clone(t.Checks)
	for i, k := range t.Checks {
		copied := *k
		copied.Expr = *text(&k.Expr)
		t.Checks[i] = &copied
	}
	t.Indexes = slices.Clone(t.Indexes)
	for i, x := range t.Indexes {
		copied := *x
		copied.Where = text(x.Where)
		copied.Parts = slices.Clone(x.Parts)
		for j := range copied.Parts {
			copied.Parts[j].Expr = text(copied.Parts[j].Expr)
		}
		t.Indexes[i] = &copied
	}
}

// settleNotNull leaves out what says more of a column's not null than there is any
// more to say.
func settleNotNull(t *schema.Table, c *schema.Column) {
	key := t.PrimaryKey != nil && schema.HasName(t.PrimaryKey.Columns, c.Name)
	implied := c.Identity != nil || key && (t.Options["without rowid"] != "" || alias(t) == c.Name)
	options := maps.Clone(c.Options)
	maps.DeleteFunc(options, func(k, _ string) bool {
		return k == "implied not null" && !implied || strings.HasPrefix(k, "not null ") && !c.NotNull
	})
	if len(options) < len(c.Options) {
		c.Options = options
	}
}

// instant reports whether a column can come without reading a row, if only nothing has
// to be checked: a plain number that rows have no value in. Its type is then enforced
// no more than SQLite does.
func instant(change *schema.TableChange, c *schema.Column, strict bool) bool {
	_, old := change.From[c.Name]
	_, filled := change.Fill[c.Name]
	plain := c.Type.Name == "integer" || c.Type.Name == "bigint" || c.Type.Name == "real" ||
		c.Type.Name == "double precision"
	return change.Before != nil && !old && !filled && !strict && !c.NotNull && c.Default == nil && plain &&
		!c.Type.Unsigned
}

// needsLimit reports whether a column needs a check for what its type promises: the
// row's own number and what is computed need none.
func needsLimit(t *schema.Table, c *schema.Column, strict bool) bool {
	switch {
	case c.Limit != "" || c.Declared != "" || limit(c.Type, c.Name) == "":
		return false
	case c.Generated != nil: // unless only the check tells the type
		return !readType(declaration(c, strict)).Equal(c.Type)
	case strict && (strictEnforces(c.Type) || c.Type.Name == "numeric" && len(c.Type.Args) == 0):
		return false
	}
	return alias(t) != c.Name
}

// moves reports whether columns stand where they were asked to.
func moves(change *schema.TableChange) bool {
	for _, p := range change.Placed {
		if p.Rebuild {
			return true
		}
	}
	return change.Rebuild
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
	if c.Generated != nil || c.Limit != "" || c.Type.Native || t.Opaque != "" {
		return true
	}
	bare := *c
	bare.Declared = ""
	return !needsLimit(t, &bare, t.Options["strict"] != "")
}

// sortedOptions lists the keys of options in a steady order.
func sortedOptions(o map[string]string) []string { return slices.Sorted(maps.Keys(o)) }
