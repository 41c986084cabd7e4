package mariadb

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Binding strengths of MariaDB's operators, weakest first (the manual, operator
// precedence; with PIPES_AS_CONCAT).
const (
	bindOr = iota + 1
	bindAnd
	bindNot
	bindBetween
	bindCompare
	bindSum
	bindProduct
	bindConcat
	bindUnary
	bindCollate
	bindPrimary
)

// renderer writes an expression of the language for MariaDB so that it gives what it
// gives on every engine.
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
		return planning.Wrap(r.expr(e.X, bindCompare+1)+word, bindCompare, place)
	case *sqltext.In:
		list := r.list(e.List)
		for _, x := range e.List {
			r.comparable(e.X, x)
		}
		if e.Query != nil {
			list = e.Query.Text
		}
		return planning.Wrap(r.expr(e.X, bindCompare+1)+planning.Not(e.Not)+" in ("+list+")", bindCompare, place)
	case *sqltext.Between:
		r.comparable(e.X, e.Low)
		r.comparable(e.X, e.High)
		text := r.expr(e.X, bindCompare+1) + planning.Not(e.Not) + " between " + r.expr(e.Low, bindCompare+1) + " and " +
			r.expr(e.High, bindCompare+1)
		return planning.Wrap(text, bindBetween, place)
	case *sqltext.Like:
		pattern, escape := r.pattern(e)
		return planning.Wrap(r.expr(e.X, bindCompare+1)+planning.Not(e.Not)+" like "+pattern+" escape "+escape, bindCompare,
			place)
	case *sqltext.Collate:
		return planning.Wrap(r.expr(e.X, bindCollate)+" collate "+quote(e.Name), bindCollate, place)
	}
	return r.primary(e, place)
}

// pattern gives a pattern and its escape character: the server would take a backslash for
// one where none is named, so one is named that the pattern does not have.
func (r *renderer) pattern(e *sqltext.Like) (pattern, escape string) {
	pattern = r.expr(e.Pattern, bindCompare+1)
	if e.Escape != nil {
		return pattern, r.expr(e.Escape, bindPrimary)
	}
	if l, ok := e.Pattern.(*sqltext.Literal); ok {
		for _, c := range unlikely {
			if !strings.ContainsRune(l.Text, c) {
				return pattern, literal(string(c))
			}
		}
	}
	return "replace(" + r.expr(e.Pattern, bindOr) + ", '|', '||')", "'|'"
}

// unlikely are characters that hardly any pattern has.
const unlikely = "|!~^#@"

var binaryStrength = map[string]int{
	"or": bindOr, "and": bindAnd, "is distinct from": bindCompare, "is not distinct from": bindCompare,
	"=": bindCompare, "<>": bindCompare, "<": bindCompare, "<=": bindCompare, ">": bindCompare, ">=": bindCompare,
	"||": bindConcat, "+": bindSum, "-": bindSum, "*": bindProduct, "/": bindProduct, "%": bindProduct,
}

func (r *renderer) binary(e *sqltext.Binary, place int) string {
	if i, ok := e.R.(*sqltext.Interval); ok && (e.Op == "+" || e.Op == "-") {
		return r.dateSum(e.L, e.Op, i, place)
	}
	own, op := binaryStrength[e.Op], e.Op
	left, right := r.expr(e.L, own), r.expr(e.R, own+1)
	if own == bindCompare {
		left = r.expr(e.L, own+1)
		r.comparable(e.L, e.R)
		r.comparable(e.R, e.L)
	}
	switch e.Op {
	case "is distinct from":
		return planning.Wrap("not ("+left+" <=> "+right+")", bindNot, place)
	case "is not distinct from":
		op = "<=>"
	case "/", "%":
		// Dividing by nothing gives nothing, whatever the mode of who computes it.
		if mayBeZero(e.R) && r.Mode == planning.Stored {
			right = "nullif(" + r.expr(e.R, bindOr) + ", 0)"
		}
		if e.Op == "/" && r.IsInteger(e.L) && r.IsInteger(e.R) {
			op = "div"
		}
	}
	return planning.Wrap(left+" "+op+" "+right, own, place)
}

// comparable refuses to compare a number with a text that is none: the server takes what it
// can of it, and refuses the row once it writes it.
func (r *renderer) comparable(number, text sqltext.Expr) {
	l, ok := text.(*sqltext.Literal)
	if !ok || l.Kind != sqltext.StringLiteral || !r.IsNumber(number) {
		return
	}
	if _, err := strconv.ParseFloat(strings.TrimSpace(l.Text), 64); err != nil {
		r.fail("MariaDB would read '%s' as a number, and it is none", l.Text)
	}
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
	amount, unit := i.Amount, i.Unit
	if n != math.Trunc(n) {
		microseconds := map[string]float64{"day": 86400e6, "hour": 3600e6, "minute": 60e6, "second": 1e6}[i.Unit] * n
		amount, unit = strconv.FormatInt(int64(math.Round(microseconds)), 10), "microsecond"
	}
	return planning.Wrap(r.expr(x, bindSum)+" "+op+" interval "+strings.TrimPrefix(amount, "+")+" "+unit, bindSum, place)
}

func (r *renderer) primary(e sqltext.Expr, place int) string {
	switch e := e.(type) {
	case *sqltext.Literal:
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
		return "locate(" + r.expr(e.Needle, bindOr) + ", " + r.expr(e.X, bindOr) + ")"
	case *sqltext.Trim:
		return r.trim(e)
	case *sqltext.Extract:
		if e.Field == "epoch" {
			return "timestampdiff(second, timestamp '1970-01-01 00:00:00', " + r.expr(e.X, bindOr) + ")"
		}
		return "extract(" + e.Field + " from " + r.expr(e.X, bindOr) + ")"
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
	panic(fmt.Sprintf("mariadb: no rendering for %T", e))
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
			return quote(r.Table.Name) + "." + quote(c.Name)
		case c != nil:
			return quote(c.Name)
		}
	}
	if e.Table != "" {
		return quote(e.Table) + "." + quote(e.Column)
	}
	return quote(e.Column)
}

func (r *renderer) nowText(e *sqltext.Now) string {
	if r.Now == "" {
		if e.Name == "current_date" {
			return e.Name
		}
		return e.Name + "(6)"
	}
	switch e.Name {
	case "current_date":
		return "cast(" + r.Now + " as date)"
	case "current_time":
		return "cast(" + r.Now + " as time(6))"
	}
	return "cast(" + r.Now + " as datetime(6))"
}

func (r *renderer) caseExpr(e *sqltext.Case) string { return planning.CaseSQL(e, r.plain) }

// plain writes an expression where everything binds more weakly.
func (r *renderer) plain(e sqltext.Expr) string { return r.expr(e, bindOr) }

// substring gives the characters from position a, of which b at most: positions below 1
// are before the text and count, as the standard has it.
func (r *renderer) substring(e *sqltext.Substring) string {
	x, from := r.expr(e.X, bindOr), r.expr(e.From, bindOr)
	start, known := planning.WholeNumber(e.From)
	if !known || start < 1 {
		from = "greatest(" + from + ", 1)"
	}
	if e.For == nil {
		return "substr(" + x + ", " + from + ")"
	}
	length := r.expr(e.For, bindOr)
	switch n, ok := planning.WholeNumber(e.For); {
	case ok && known && start >= 1 && n >= 0:
	case known && start >= 1:
		length = "greatest(" + length + ", 0)"
	default:
		length = "greatest(" + r.expr(e.From, bindSum) + " + " + r.expr(e.For, bindSum+1) + " - " + from + ", 0)"
	}
	return "substr(" + x + ", " + from + ", " + length + ")"
}

// trim takes characters away: the server itself would take a text of several away as one.
func (r *renderer) trim(e *sqltext.Trim) string {
	side := e.Side
	if side == "" {
		side = "both"
	}
	if e.Chars == nil {
		return "trim(" + side + " ' ' from " + r.expr(e.X, bindOr) + ")"
	}
	if l, ok := e.Chars.(*sqltext.Literal); !ok || l.Kind != sqltext.StringLiteral || len([]rune(l.Text)) != 1 {
		r.fail("MariaDB trims one character alone")
	}
	return "trim(" + side + " " + r.expr(e.Chars, bindOr) + " from " + r.expr(e.X, bindOr) + ")"
}

// mayBeZero reports whether a divisor could be nothing.
func mayBeZero(e sqltext.Expr) bool {
	if c, ok := e.(*sqltext.Call); ok && c.Name == "nullif" {
		return false
	}
	l, ok := e.(*sqltext.Literal)
	return !ok || l.Kind != sqltext.NumberLiteral || strings.Trim(l.Text, "0.") == ""
}

func (r *renderer) call(e *sqltext.Call, place int) string {
	switch {
	case e.Name == "concat":
		return r.concat(e)
	case (e.Name == "greatest" || e.Name == "least") && len(e.Args) == 1:
		return r.expr(e.Args[0], place)
	case e.Name == "mod" && len(e.Args) == 2:
		return r.expr(&sqltext.Binary{Op: "%", L: e.Args[0], R: e.Args[1]}, place)
	case e.Name == "round" && len(e.Args) > 0 && r.Kind(e.Args[0]) == "real":
		return "round(" + strings.Join(append([]string{"cast(" + r.expr(e.Args[0], bindOr) + " as " + exact + ")"},
			r.rest(e.Args)...), ", ") + ")"
	case e.Name == "length" || e.Name == "character_length":
		return "char_length(" + r.list(e.Args) + ")"
	case e.Star:
		return e.Name + "(*)"
	case e.Distinct:
		return e.Name + "(distinct " + r.list(e.Args) + ")"
	}
	return e.Name + "(" + r.list(e.Args) + ")"
}

// concat leaves nulls out, as on the other engines.
func (r *renderer) concat(e *sqltext.Call) string {
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
	return "concat(" + strings.Join(parts, ", ") + ")"
}

// rest renders the arguments behind the first.
func (r *renderer) rest(args []sqltext.Expr) []string {
	var list []string
	for _, x := range args[1:] {
		list = append(list, r.expr(x, bindOr))
	}
	return list
}
