package sqlite

import (
	"strings"

	"lastboard/internal/core/sqltext"
)

// kind tells what an expression gives, as far as it can be known: integer, real,
// numeric, text, boolean, date, timestamp, blob, or "".
func (r *renderer) kind(e sqltext.Expr) string {
	switch e := e.(type) {
	case *sqltext.Literal:
		switch {
		case e.Kind == sqltext.NumberLiteral && strings.ContainsAny(e.Text, ".eE"):
			return "real"
		case e.Kind == sqltext.NumberLiteral:
			return "integer"
		case e.Kind == sqltext.StringLiteral:
			return "text"
		}
	case *sqltext.Typed:
		return e.Type
	case *sqltext.Ref:
		if c := r.sourceColumn(e); c != nil {
			return typeKind(c.Type)
		}
		if r.table != nil {
			if c := r.table.Column(e.Column); c != nil {
				return typeKind(c.Type)
			}
		}
	case *sqltext.Unary:
		return r.kind(e.X)
	case *sqltext.Binary:
		return r.binaryKind(e)
	case *sqltext.Cast:
		return typeKind(e.Type)
	case *sqltext.Substring, *sqltext.Trim:
		return "text"
	case *sqltext.Position, *sqltext.Extract:
		return "integer"
	case *sqltext.Call:
		return r.callKind(e)
	case *sqltext.Case:
		if len(e.Whens) > 0 {
			return r.kind(e.Whens[0].Then)
		}
	}
	return ""
}

func (r *renderer) binaryKind(e *sqltext.Binary) string {
	if _, ok := e.R.(*sqltext.Interval); ok {
		return r.kind(e.L)
	}
	left, right := r.kind(e.L), r.kind(e.R)
	switch e.Op {
	case "+", "-", "*", "/", "%":
		switch {
		case left == "integer" && right == "integer":
			return "integer"
		case left == "" || right == "":
			return ""
		}
		return "real"
	case "||":
		return "text"
	}
	return "boolean"
}

func (r *renderer) callKind(e *sqltext.Call) string {
	switch e.Name {
	case "upper", "lower", "replace", "concat", "ltrim", "rtrim", "left":
		return "text"
	case "char_length", "length", "count":
		return "integer"
	case "round", "floor", "ceiling", "power":
		return "real"
	case "abs", "coalesce", "nullif", "greatest", "least", "mod":
		if len(e.Args) > 0 {
			return r.kind(e.Args[0])
		}
	}
	return ""
}

func typeKind(t sqltext.Type) string {
	switch {
	case t.IsInteger():
		return "integer"
	case t.IsText():
		return "text"
	case t.Name == "real", t.Name == "double precision":
		return "real"
	case t.Native:
		return ""
	}
	return t.Name
}

func (r *renderer) isInteger(e sqltext.Expr) bool { return r.kind(e) == "integer" }

func (r *renderer) isNumber(e sqltext.Expr) bool {
	k := r.kind(e)
	return k == "integer" || k == "real" || k == "numeric"
}

// isReal reports whether SQLite itself is sure to treat e as a fraction.
func isReal(e sqltext.Expr) bool {
	l, ok := e.(*sqltext.Literal)
	return ok && l.Kind == sqltext.NumberLiteral && strings.ContainsAny(l.Text, ".eE")
}
