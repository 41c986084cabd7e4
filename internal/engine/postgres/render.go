package postgres

import (
	"fmt"
	"strconv"
	"strings"

	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Binding strengths of PostgreSQL's operators, weakest first (the manual, 4.1.6).
const (
	bindOr = iota + 1
	bindAnd
	bindNot
	bindIs
	bindCompare
	bindLike
	bindOther
	bindSum
	bindProduct
	bindCollate
	bindUnary
	bindPrimary
)

// renderer writes an expression of the language for PostgreSQL so that it gives what
// it gives on every engine.
type renderer struct {
	planning.Scope
	err error
}

// Text implements engine.Planner.
func (Engine) Text(e schema.Expr) string { return schema.Words(stored(nil, e)) }

// stored gives an expression as it stands, or will stand, in the database.
func stored(t *schema.Table, e schema.Expr) string {
	if e.Native != "" {
		return e.Native
	}
	r := renderer{Scope: planning.Scope{Table: t}}
	return r.expr(e.Tree, bindOr)
}

// Portable implements engine.Planner.
func (Engine) Portable(t *schema.Table, e sqltext.Expr) error {
	r := renderer{Scope: planning.Scope{Table: t, Now: "'now'", Mode: planning.Computed}}
	r.expr(e, bindOr)
	return r.err
}

func (r *renderer) fail(format string, args ...any) {
	if r.err == nil {
		r.err = fmt.Errorf(format, args...)
	}
}

func (r *renderer) list(list []sqltext.Expr) string {
	parts := make([]string, len(list))
	for i, x := range list {
		parts[i] = r.expr(x, bindOr)
	}
	return strings.Join(parts, ", ")
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
		return planning.Wrap(r.expr(e.X, bindIs+1)+word, bindIs, place)
	case *sqltext.In:
		list := r.list(e.List)
		if e.Query != nil {
			list = e.Query.Text
		}
		return planning.Wrap(r.expr(e.X, bindOther)+planning.Not(e.Not)+" in ("+list+")", bindLike, place)
	case *sqltext.Between:
		text := r.expr(e.X, bindOther) + planning.Not(e.Not) + " between " + r.expr(e.Low, bindOther) + " and " +
			r.expr(e.High, bindOther)
		return planning.Wrap(text, bindLike, place)
	case *sqltext.Like:
		escape := "''"
		if e.Escape != nil {
			escape = r.expr(e.Escape, bindOther)
		}
		return planning.Wrap(r.expr(e.X, bindOther)+planning.Not(e.Not)+" like "+r.expr(e.Pattern, bindOther)+" escape "+
			escape, bindLike, place)
	case *sqltext.Collate:
		return planning.Wrap(r.expr(e.X, bindCollate)+" collate "+quote(e.Name), bindCollate, place)
	}
	return r.primary(e, place)
}

var binaryStrength = map[string]int{
	"or": bindOr, "and": bindAnd, "is distinct from": bindIs, "is not distinct from": bindIs,
	"=": bindCompare, "<>": bindCompare, "<": bindCompare, "<=": bindCompare, ">": bindCompare, ">=": bindCompare,
	"||": bindOther, "+": bindSum, "-": bindSum, "*": bindProduct, "/": bindProduct, "%": bindProduct,
}

func (r *renderer) binary(e *sqltext.Binary, place int) string {
	if i, ok := e.R.(*sqltext.Interval); ok && (e.Op == "+" || e.Op == "-") {
		return r.dateSum(e.L, e.Op, i, place)
	}
	own := binaryStrength[e.Op]
	left, right := r.expr(e.L, own), r.expr(e.R, own+1)
	if own == bindCompare || own == bindIs {
		left = r.expr(e.L, own+1) // none of these can follow another
	}
	switch e.Op {
	case "/":
		// Dividing by nothing gives nothing, here as on the other engines.
		if mayBeZero(e.R) {
			right = "nullif(" + r.expr(e.R, bindOr) + ", 0)"
		}
		if r.Mode == planning.Proven && r.IsInteger(e.L) && r.IsInteger(e.R) {
			return "div(" + r.numeric(e.L) + ", " + right + ")"
		}
	case "%":
		if mayBeZero(e.R) {
			right = "nullif(" + r.expr(e.R, bindOr) + ", 0)"
		}
		if !r.IsInteger(e.L) || !r.IsInteger(e.R) {
			return "mod(" + r.numeric(e.L) + ", cast(" + right + " as numeric))"
		}
	case "+", "-", "*":
		switch {
		case r.Mode != planning.Proven || !r.IsInteger(e.L) || !r.IsInteger(e.R):
		case r.narrow(e.L) && r.narrow(e.R): // which then cannot overflow
			left = "cast(" + r.expr(e.L, bindOr) + " as bigint)"
		default:
			left = r.numeric(e.L)
		}
	case "||":
		if r.Kind(e.L) != "text" && r.Kind(e.R) != "text" {
			left = "cast(" + r.expr(e.L, bindOr) + " as text)"
		}
	}
	return planning.Wrap(left+" "+e.Op+" "+right, own, place)
}

// narrow reports whether an expression is a plain value that takes four bytes at most.
func (r *renderer) narrow(e sqltext.Expr) bool {
	switch e := e.(type) {
	case *sqltext.Literal:
		n, ok := planning.WholeNumber(e)
		return ok && n <= 1<<31-1
	case *sqltext.Ref:
		if r.Table == nil || r.SourceColumn(e) != nil {
			return false
		}
		c := r.Table.Column(e.Column)
		return c != nil && r.Value == nil && (c.Type.Name == "integer" && !c.Type.Unsigned || c.Type.Name == "smallint" ||
			c.Type.Name == "tinyint")
	}
	return false
}

func (r *renderer) numeric(e sqltext.Expr) string {
	return "cast(" + r.expr(e, bindOr) + " as numeric)"
}

// dateSum renders date arithmetic. Months and years are not: engines differ in what a
// month after the 31st is.
func (r *renderer) dateSum(x sqltext.Expr, op string, i *sqltext.Interval, place int) string {
	if i.Unit == "month" || i.Unit == "year" {
		r.fail("adding a %s gives another date on each engine at the end of a month; add days instead", i.Unit)
	}
	n, err := strconv.ParseFloat(i.Amount, 64)
	if err != nil {
		r.fail("interval '%s' is not a number of %ss", i.Amount, i.Unit)
	}
	left := r.expr(x, bindSum)
	if r.Kind(x) == "date" && i.Unit == "day" && n == float64(int64(n)) {
		return planning.Wrap(fmt.Sprintf("%s %s %d", left, op, int64(n)), bindSum, place)
	}
	return planning.Wrap(left+" "+op+" interval "+literal(i.Amount+" "+i.Unit), bindSum, place)
}

func (r *renderer) primary(e sqltext.Expr, place int) string {
	switch e := e.(type) {
	case *sqltext.Literal:
		if e.Kind == sqltext.BlobLiteral {
			return `cast('\x` + e.Text + `' as bytea)`
		}
		return e.String()
	case *sqltext.Typed:
		return e.Type + " " + literal(e.Text)
	case *sqltext.Ref:
		return r.ref(e)
	case *sqltext.Case:
		return r.caseExpr(e)
	case *sqltext.Cast:
		return r.cast(e)
	case *sqltext.Substring:
		return r.substring(e)
	case *sqltext.Position:
		return "position(" + r.expr(e.Needle, bindOther) + " in " + r.expr(e.X, bindOther) + ")"
	case *sqltext.Trim:
		side := e.Side
		if side == "" {
			side = "both"
		}
		chars := ""
		if e.Chars != nil {
			chars = r.expr(e.Chars, bindOther) + " "
		}
		return "trim(" + side + " " + chars + "from " + r.expr(e.X, bindOther) + ")"
	case *sqltext.Extract:
		whole := "integer"
		if e.Field == "epoch" {
			whole = "bigint"
		}
		return "cast(floor(extract(" + e.Field + " from " + r.expr(e.X, bindOther) + ")) as " + whole + ")"
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
	panic(fmt.Sprintf("postgres: no rendering for %T", e))
}

func (r *renderer) ref(e *sqltext.Ref) string {
	if c := r.SourceColumn(e); c != nil {
		return quote(r.Source.Alias) + "." + quote(c.Name)
	}
	if r.Table != nil {
		c := r.Table.Column(e.Column)
		switch {
		case c != nil && r.Value != nil:
			return "(" + r.Value(c.Name) + ")"
		case c != nil && r.Source != nil:
			return name(r.Table.Name) + "." + quote(c.Name)
		case c != nil:
			return quote(c.Name)
		}
	}
	if e.Table != "" {
		return name(e.Table) + "." + quote(e.Column)
	}
	return quote(e.Column)
}

func (r *renderer) nowText(e *sqltext.Now) string {
	if r.Now == "" {
		return e.Name
	}
	switch e.Name {
	case "current_date":
		return "cast(" + r.Now + " as date)"
	case "current_time":
		return "cast(" + r.Now + " as time)"
	}
	return "cast(" + r.Now + " as timestamp)"
}

func (r *renderer) caseExpr(e *sqltext.Case) string { return planning.CaseSQL(e, r.plain) }

// plain writes an expression where everything binds more weakly.
func (r *renderer) plain(e sqltext.Expr) string { return r.expr(e, bindOr) }

// substring gives the characters from position a, of which b at most: a length below
// 0 counts as 0.
func (r *renderer) substring(e *sqltext.Substring) string {
	text := "substring(" + r.expr(e.X, bindOther) + " from " + r.place(e.From)
	if e.For != nil {
		length := r.place(e.For)
		if n, ok := planning.WholeNumber(e.For); !ok || n < 0 {
			length = "greatest(" + length + ", 0)"
		}
		text += " for " + length
	}
	return text + ")"
}

// place writes a position in a text, which the server takes as an integer alone.
func (r *renderer) place(e sqltext.Expr) string {
	switch e.(type) {
	case *sqltext.Literal, *sqltext.Position:
		return r.expr(e, bindOther)
	}
	return "cast(" + r.expr(e, bindOr) + " as integer)"
}

// mayBeZero reports whether a divisor could be nothing.
func mayBeZero(e sqltext.Expr) bool {
	l, ok := e.(*sqltext.Literal)
	return !ok || l.Kind != sqltext.NumberLiteral || strings.Trim(l.Text, "0.") == ""
}

func (r *renderer) call(e *sqltext.Call, place int) string {
	switch {
	case e.Name == "concat":
		return r.concat(e, place)
	case (e.Name == "greatest" || e.Name == "least") && len(e.Args) == 1:
		return r.expr(e.Args[0], place)
	case e.Name == "greatest" || e.Name == "least":
		return r.extreme(e)
	case e.Name == "left" && len(e.Args) == 2:
		return "left(" + r.expr(e.Args[0], bindOr) + ", greatest(" + r.place(e.Args[1]) + ", 0))"
	case e.Name == "mod" && len(e.Args) == 2:
		return r.expr(&sqltext.Binary{Op: "%", L: e.Args[0], R: e.Args[1]}, place)
	case e.Name == "round" && len(e.Args) == 2:
		return "round(" + r.numeric(e.Args[0]) + ", " + r.expr(e.Args[1], bindOr) + ")"
	case e.Name == "round" && len(e.Args) == 1:
		return "round(" + r.numeric(e.Args[0]) + ")"
	case e.Star:
		return e.Name + "(*)"
	case e.Distinct:
		return e.Name + "(distinct " + r.list(e.Args) + ")"
	}
	return e.Name + "(" + r.list(e.Args) + ")"
}

// extreme gives null when any argument is null, as the standard has it.
func (r *renderer) extreme(e *sqltext.Call) string {
	var null []string
	for _, x := range e.Args {
		if l, ok := x.(*sqltext.Literal); ok && l.Kind != sqltext.NullLiteral {
			continue
		}
		null = append(null, r.expr(x, bindIs+1)+" is null")
	}
	text := e.Name + "(" + r.list(e.Args) + ")"
	if len(null) == 0 {
		return text
	}
	return "case when not (" + strings.Join(null, " or ") + ") then " + text + " end"
}

// concat leaves nulls out. The engine's own function cannot stand in a generated
// column or an index, since it is not immutable.
func (r *renderer) concat(e *sqltext.Call, place int) string {
	parts := make([]string, len(e.Args))
	for i, x := range e.Args {
		text := r.expr(x, bindOr)
		if r.Kind(x) != "text" {
			text = r.cast(&sqltext.Cast{X: x, Type: sqltext.Type{Name: "text"}})
		}
		if l, ok := x.(*sqltext.Literal); ok && l.Kind != sqltext.NullLiteral {
			parts[i] = text
		} else {
			parts[i] = "coalesce(" + text + ", '')"
		}
	}
	switch len(parts) {
	case 0:
		return "''"
	case 1:
		return parts[0]
	}
	return planning.Wrap(strings.Join(parts, " || "), bindOther, place)
}
