package sqlite

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Binding strengths of SQLite's operators, weakest first
// (https://sqlite.org/lang_expr.html, 2).
const (
	bindOr = iota + 1
	bindAnd
	bindNot
	bindEqual
	bindCompare
	bindSum
	bindProduct
	bindConcat
	bindCollate
	bindUnary
	bindPrimary
)

// renderer writes an expression of the language for SQLite so that it gives what
// it gives on every engine.
type renderer struct {
	table *schema.Table // whose columns are named; may be nil
	// source is read beside table: columns of both are then named with where they are.
	source *schema.Source
	now    string // stands for current_timestamp, when not ""
	// strict makes a cast of a text that is no number fail instead of giving
	// something: only in statements of Lastboard's own, since no other program has
	// the function that fails.
	strict bool
	// column gives the SQL for a column; nil means its name.
	column func(name string) string
	err    error
}

// Functions that Lastboard's own connections have: one makes a statement fail
// for a value that cannot be converted; one remembers such a value and gives
// null; one gives what was remembered while its argument was computed.
const (
	failFunction   = "lastboard_fail"
	markFunction   = "lastboard_mark"
	failedFunction = "lastboard_failed"
)

// render gives the text of e for the engine to keep: in a default, a check, a
// generated column or an index.
func render(t *schema.Table, e sqltext.Expr) string {
	r := renderer{table: t}
	return r.expr(e, bindOr)
}

// Text implements engine.Planner.
func (Engine) Text(e schema.Expr) string { return schema.Words(stored(nil, e)) }

// stored gives an expression as it stands, or will stand, in the schema.
func stored(t *schema.Table, e schema.Expr) string {
	if e.Native != "" {
		return e.Native
	}
	return render(t, e.Tree)
}

// Portable implements engine.Planner.
func (Engine) Portable(t *schema.Table, e sqltext.Expr) error {
	r := renderer{table: t, now: "'now'", strict: true}
	r.expr(e, bindOr)
	return r.err
}

func (r *renderer) fail(format string, args ...any) {
	if r.err == nil {
		r.err = fmt.Errorf(format, args...)
	}
}

func (r *renderer) expr(e sqltext.Expr, place int) string {
	switch e := e.(type) {
	case nil:
		return ""
	case *sqltext.Unary:
		if e.Op == "not" {
			return planning.Wrap("not "+r.expr(e.X, bindNot), bindNot, place)
		}
		x := r.expr(e.X, bindUnary)
		if strings.HasPrefix(x, "-") {
			x = "(" + x + ")"
		}
		return planning.Wrap(e.Op+x, bindUnary, place)
	case *sqltext.Binary:
		return r.binary(e, place)
	case *sqltext.IsNull:
		word := " is null"
		if e.Not {
			word = " is not null"
		}
		return planning.Wrap(r.expr(e.X, bindEqual)+word, bindEqual, place)
	case *sqltext.In:
		list := r.list(e.List)
		if e.Query != nil {
			list = e.Query.Text
		}
		return planning.Wrap(r.expr(e.X, bindEqual)+planning.Not(e.Not)+" in ("+list+")", bindEqual, place)
	case *sqltext.Between:
		text := r.expr(e.X, bindEqual) + planning.Not(e.Not) + " between " + r.expr(e.Low, bindEqual+1) + " and " +
			r.expr(e.High, bindEqual+1)
		return planning.Wrap(text, bindEqual, place)
	case *sqltext.Like:
		return planning.Wrap(r.like(e), bindEqual, place)
	case *sqltext.Collate:
		return planning.Wrap(r.expr(e.X, bindCollate)+" collate "+quote(e.Name), bindCollate, place)
	}
	return r.primary(e, place)
}

func (r *renderer) list(list []sqltext.Expr) string {
	parts := make([]string, len(list))
	for i, x := range list {
		parts[i] = r.expr(x, bindOr)
	}
	return strings.Join(parts, ", ")
}

var binaryStrength = map[string]int{
	"or": bindOr, "and": bindAnd, "=": bindEqual, "<>": bindEqual, "is distinct from": bindEqual,
	"is not distinct from": bindEqual,
	"<":                    bindCompare, "<=": bindCompare, ">": bindCompare, ">=": bindCompare,
	"+": bindSum, "-": bindSum, "*": bindProduct, "/": bindProduct, "%": bindProduct, "||": bindConcat,
}

func (r *renderer) binary(e *sqltext.Binary, place int) string {
	if i, ok := e.R.(*sqltext.Interval); ok && (e.Op == "+" || e.Op == "-") {
		return r.dateSum(e.L, e.Op, i)
	}
	r.computes(e)
	own := binaryStrength[e.Op]
	op := e.Op
	left, right := r.expr(e.L, own), r.expr(e.R, own+1)
	switch e.Op {
	case "is distinct from":
		op = "is not"
	case "is not distinct from":
		op = "is"
	case "/":
		if !r.scope().IsInteger(e.L) || !r.scope().IsInteger(e.R) {
			// A numeric column may hold whole numbers, which SQLite divides as such.
			if !isReal(e.L) && !isReal(e.R) && r.scope().IsNumber(e.L) && r.scope().IsNumber(e.R) {
				left = "cast(" + r.expr(e.L, bindOr) + " as real)"
			}
		}
	case "%":
		if r.scope().IsNumber(e.L) && r.scope().IsNumber(e.R) && (!r.scope().IsInteger(e.L) || !r.scope().IsInteger(e.R)) {
			return "mod(" + r.expr(e.L, bindOr) + ", " + r.expr(e.R, bindOr) + ")"
		}
	}
	return planning.Wrap(left+" "+op+" "+right, own, place)
}

// computes refuses to compute with a text: SQLite would take what it begins with for a number,
// or 0, where the other engines refuse it.
func (r *renderer) computes(e *sqltext.Binary) {
	if !r.strict || !strings.Contains("+-*/%", e.Op) {
		return
	}
	for _, x := range []sqltext.Expr{e.L, e.R} {
		if l, ok := x.(*sqltext.Literal); ok {
			if _, err := strconv.ParseFloat(l.Text, 64); err == nil {
				continue
			}
		}
		if r.scope().Kind(x) == "text" {
			r.fail("%s is a text, and no number to compute with: write cast(… as numeric)", sqltext.PrintExpr(x))
		}
	}
}

// dateSum renders date arithmetic. Months and years are not: engines differ in
// what a month after the 31st is.
func (r *renderer) dateSum(x sqltext.Expr, op string, i *sqltext.Interval) string {
	if i.Unit == "month" || i.Unit == "year" {
		r.fail("adding a %s gives another date on each engine at the end of a month; add days instead", i.Unit)
	}
	if _, err := strconv.ParseFloat(i.Amount, 64); err != nil {
		r.fail("interval '%s' is not a number of %ss", i.Amount, i.Unit)
	}
	function := "datetime"
	if r.scope().Kind(x) == "date" && i.Unit == "day" {
		function = "date"
	}
	return function + "(" + r.expr(x, bindOr) + ", " + literal(op+i.Amount+" "+i.Unit+"s") + ")"
}

// like renders a pattern with glob where it is known, since SQLite's like does
// not tell ASCII letters' case apart.
func (r *renderer) like(e *sqltext.Like) string {
	pattern, known := e.Pattern.(*sqltext.Literal)
	escape := ""
	if l, ok := e.Escape.(*sqltext.Literal); ok {
		escape = l.Text
	} else if e.Escape != nil {
		known = false
	}
	if !known || pattern.Kind != sqltext.StringLiteral {
		text := r.expr(e.X, bindEqual) + planning.Not(e.Not) + " like " + r.expr(e.Pattern, bindEqual+1)
		if e.Escape != nil {
			text += " escape " + r.expr(e.Escape, bindEqual+1)
		}
		return text
	}
	var glob strings.Builder
	escaped := false
	for _, c := range pattern.Text {
		switch {
		case !escaped && escape != "" && string(c) == escape:
			escaped = true
			continue
		case !escaped && c == '%':
			glob.WriteByte('*')
		case !escaped && c == '_':
			glob.WriteByte('?')
		case c == '*' || c == '?' || c == '[':
			glob.WriteString("[" + string(c) + "]")
		default:
			glob.WriteRune(c)
		}
		escaped = false
	}
	return r.expr(e.X, bindEqual) + planning.Not(e.Not) + " glob " + literal(glob.String())
}

func (r *renderer) primary(e sqltext.Expr, place int) string {
	switch e := e.(type) {
	case *sqltext.Literal:
		return e.String()
	case *sqltext.Typed:
		return literal(e.Text)
	case *sqltext.Ref:
		if c := r.scope().SourceColumn(e); c != nil {
			return quote(r.source.Alias) + "." + quote(c.Name)
		}
		if r.table != nil {
			c := r.table.Column(e.Column)
			switch {
			case c != nil && r.column != nil:
				return "(" + r.column(c.Name) + ")"
			case c != nil && r.source != nil:
				return quote(r.table.Name) + "." + quote(c.Name)
			case c != nil:
				return quote(c.Name)
			}
		}
		if e.Table != "" {
			return quote(e.Table) + "." + quote(e.Column)
		}
		return quote(e.Column)
	case *sqltext.Case:
		return r.caseExpr(e)
	case *sqltext.Cast:
		return r.cast(e, place)
	case *sqltext.Substring:
		return r.substring(e)
	case *sqltext.Position:
		return "instr(" + r.expr(e.X, bindOr) + ", " + r.expr(e.Needle, bindOr) + ")"
	case *sqltext.Trim:
		return r.trim(e)
	case *sqltext.Extract:
		return r.extract(e)
	case *sqltext.Now:
		return r.nowText(e)
	case *sqltext.Interval:
		r.fail("an interval can only be added to a date or time, or taken from one")
		return "null"
	case *sqltext.Call:
		return r.call(e, place)
	case *sqltext.Subquery:
		if e.Exists {
			return "exists (" + e.Query.Text + ")"
		}
		return "(" + e.Query.Text + ")"
	}
	panic(fmt.Sprintf("sqlite: no rendering for %T", e))
}

// scope is what kinds are told from.
func (r *renderer) scope() planning.Scope { return planning.Scope{Table: r.table, Source: r.source} }

// isReal reports whether SQLite itself is sure to treat e as a fraction.
func isReal(e sqltext.Expr) bool {
	l, ok := e.(*sqltext.Literal)
	return ok && l.Kind == sqltext.NumberLiteral && strings.ContainsAny(l.Text, ".eE")
}

func (r *renderer) nowText(e *sqltext.Now) string {
	if r.now == "" {
		return e.Name
	}
	switch e.Name {
	case "current_date":
		return "date(" + r.now + ")"
	case "current_time":
		return "time(" + r.now + ")"
	}
	return r.now
}

func (r *renderer) caseExpr(e *sqltext.Case) string { return planning.CaseSQL(e, r.plain) }

// plain writes an expression where everything binds more weakly.
func (r *renderer) plain(e sqltext.Expr) string { return r.expr(e, bindOr) }

// cast rounds a number that becomes a whole one, as the standard's engines do,
// and in Lastboard's own statements fails for a text that is no number.
func (r *renderer) cast(e *sqltext.Cast, place int) string {
	x := r.expr(e.X, bindOr)
	from := r.scope().Kind(e.X)
	t := e.Type
	switch {
	case t.IsInteger() && (from == "real" || from == "numeric"):
		return "cast(round(" + x + ") as integer)"
	case t.IsInteger():
		return r.checked(x, from, "cast("+x+" as integer)", t, `x not glob '*[^0-9]*' and x <> ''`)
	case t.Name == "numeric" && len(t.Args) == 2:
		return r.checked(x, from, fmt.Sprintf("round(%s, %d)", x, t.Args[1]), t, numberGlob)
	case t.Name == "numeric":
		return r.checked(x, from, "cast("+x+" as numeric)", t, numberGlob)
	case t.Name == "real", t.Name == "double precision":
		return r.checked(x, from, "cast("+x+" as real)", t, numberGlob)
	case t.IsText() && r.scale(e.X) > 0: // with all its digits, as elsewhere
		return fmt.Sprintf("case when %s is not null then printf('%%.%df', %s) end", x, r.scale(e.X), x)
	case t.IsText(), t.Name == "uuid", t.Name == "json":
		return "cast(" + x + " as text)"
	case t.Name == "date":
		return "date(" + x + ")"
	case t.Name == "time":
		return "time(" + x + ")"
	case t.Name == "timestamp", t.Name == "timestamp with time zone":
		return "datetime(" + x + ")"
	case t.Name == "boolean":
		return planning.Wrap("case lower("+x+") when 'true' then 1 when 'false' then 0 when '0' then 0 else "+x+" <> 0 end",
			bindPrimary, place)
	case t.Name == "blob", t.Name == "binary", t.Name == "varbinary":
		return "cast(" + x + " as blob)"
	}
	return "cast(" + x + " as " + t.String() + ")"
}

// scale gives how many digits a column's numbers have after the point; 0 for another
// expression.
func (r *renderer) scale(e sqltext.Expr) int {
	ref, ok := e.(*sqltext.Ref)
	if !ok || r.table == nil {
		return 0
	}
	c := r.table.Column(ref.Column)
	if c == nil || r.scope().SourceColumn(ref) != nil || c.Type.Name != "numeric" || len(c.Type.Args) < 2 {
		return 0
	}
	return c.Type.Args[1]
}

const numberGlob = `x not glob '*[^0-9.]*' and x glob '*[0-9]*' and x not glob '*.*.*'`

// checked guards a cast of text: condition is over x, the text without blanks
// around it and without its sign.
func (r *renderer) checked(x, from, cast string, t sqltext.Type, condition string) string {
	if !r.strict || from == "integer" || from == "real" || from == "numeric" || from == "boolean" {
		return cast
	}
	plain := "ltrim(trim(" + x + "), '+-')"
	return fmt.Sprintf("case when typeof(%s) <> 'text' or (%s) then %s else %s(%s, %s) end",
		x, strings.ReplaceAll(condition, "x ", plain+" "), cast, failFunction, x, literal(t.String()))
}

// substring gives the characters from position a, of which b at most: positions
// below 1 are before the text and count, as the standard has it.
func (r *renderer) substring(e *sqltext.Substring) string {
	x, from := r.expr(e.X, bindOr), r.expr(e.From, bindOr)
	start, known := planning.WholeNumber(e.From)
	if e.For == nil {
		if known && start >= 1 {
			return "substr(" + x + ", " + from + ")"
		}
		return "substr(" + x + ", max(" + from + ", 1))"
	}
	length := r.expr(e.For, bindOr)
	if n, ok := planning.WholeNumber(e.For); ok && known && start >= 1 && n >= 0 {
		return "substr(" + x + ", " + from + ", " + length + ")"
	}
	if known && start >= 1 {
		return "substr(" + x + ", " + from + ", max(" + length + ", 0))"
	}
	return fmt.Sprintf("substr(%s, max(%s, 1), max(%s + %s - max(%s, 1), 0))", x, from, r.expr(e.From, bindSum),
		r.expr(e.For, bindSum+1), from)
}

func (r *renderer) trim(e *sqltext.Trim) string {
	function := map[string]string{"leading": "ltrim", "trailing": "rtrim"}[e.Side]
	if function == "" {
		function = "trim"
	}
	if e.Chars == nil {
		return function + "(" + r.expr(e.X, bindOr) + ")"
	}
	return function + "(" + r.expr(e.X, bindOr) + ", " + r.expr(e.Chars, bindOr) + ")"
}

var strftime = map[string]string{"year": "%Y", "month": "%m", "day": "%d", "hour": "%H", "minute": "%M", "second": "%S",
	"epoch": "%s"}

func (r *renderer) extract(e *sqltext.Extract) string {
	return "cast(strftime(" + literal(strftime[e.Field]) + ", " + r.expr(e.X, bindOr) + ") as integer)"
}

// calls are functions that have another name on SQLite.
var calls = map[string]string{
	"char_length": "length", "character_length": "length", "power": "pow", "ceiling": "ceil", "greatest": "max",
	"least": "min",
}

func (r *renderer) call(e *sqltext.Call, place int) string {
	name := e.Name
	if n, ok := calls[name]; ok {
		name = n
	}
	switch {
	case e.Name == "concat":
		return r.concat(e, place)
	case (e.Name == "greatest" || e.Name == "least") && len(e.Args) == 1:
		return r.expr(e.Args[0], place)
	case e.Name == "left" && len(e.Args) == 2:
		return "substr(" + r.expr(e.Args[0], bindOr) + ", 1, max(" + r.expr(e.Args[1], bindOr) + ", 0))"
	case e.Name == "mod" && len(e.Args) == 2:
		return r.expr(&sqltext.Binary{Op: "%", L: e.Args[0], R: e.Args[1]}, place)
	case e.Star:
		return name + "(*)"
	case e.Distinct:
		return name + "(distinct " + r.list(e.Args) + ")"
	}
	return name + "(" + r.list(e.Args) + ")"
}

// concat leaves nulls out, as the function does elsewhere; older SQLite programs
// that read the file have no function of that name.
func (r *renderer) concat(e *sqltext.Call, place int) string {
	parts := make([]string, len(e.Args))
	for i, x := range e.Args {
		if l, ok := x.(*sqltext.Literal); ok && l.Kind != sqltext.NullLiteral {
			parts[i] = r.expr(x, bindConcat+1)
		} else {
			parts[i] = "coalesce(" + r.expr(x, bindOr) + ", '')"
		}
	}
	if len(parts) == 0 {
		return "''"
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return planning.Wrap(strings.Join(parts, " || "), bindConcat, place)
}

// portable gives the tree of a text that SQLite holds, if writing the tree again
// gives that text: only then do both mean the same.
func portable(t *schema.Table, text string) (sqltext.Expr, error) {
	tree, err := sqltext.ParseExpr(text)
	if err != nil {
		return nil, err
	}
	r := renderer{table: t}
	if again := r.expr(tree, bindOr); r.err != nil || schema.Words(again) != schema.Words(text) {
		return nil, errNotPortable
	}
	return tree, nil
}

var errNotPortable = errors.New("the text means something else in the language")
