package planning

import (
	"strings"

	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Kind tells what an expression gives, as far as it can be known: integer, real,
// numeric, text, boolean, date, timestamp, blob, or "".
func (s Scope) Kind(e sqltext.Expr) string {
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
		if c := s.SourceColumn(e); c != nil {
			return TypeKind(c.Type)
		}
		if s.Table != nil {
			if c := s.Table.Column(e.Column); c != nil {
				return TypeKind(c.Type)
			}
		}
	case *sqltext.Unary:
		return s.Kind(e.X)
	case *sqltext.Binary:
		return s.binaryKind(e)
	case *sqltext.Cast:
		return TypeKind(e.Type)
	case *sqltext.Substring, *sqltext.Trim:
		return "text"
	case *sqltext.Position, *sqltext.Extract:
		return "integer"
	case *sqltext.Call:
		return s.callKind(e)
	case *sqltext.Case:
		if len(e.Whens) > 0 {
			return s.Kind(e.Whens[0].Then)
		}
	}
	return ""
}

func (s Scope) binaryKind(e *sqltext.Binary) string {
	if _, ok := e.R.(*sqltext.Interval); ok {
		return s.Kind(e.L)
	}
	left, right := s.Kind(e.L), s.Kind(e.R)
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

func (s Scope) callKind(e *sqltext.Call) string {
	switch e.Name {
	case "upper", "lower", "replace", "concat", "ltrim", "rtrim", "left":
		return "text"
	case "char_length", "length", "count":
		return "integer"
	case "round", "floor", "ceiling", "power":
		return "real"
	case "abs", "coalesce", "nullif", "greatest", "least", "mod":
		if len(e.Args) > 0 {
			return s.Kind(e.Args[0])
		}
	}
	return ""
}

func TypeKind(t sqltext.Type) string {
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

// SourceColumn gives the column of the source that is meant; nil if none is.
func (s Scope) SourceColumn(e *sqltext.Ref) *schema.Column {
	if s.Source == nil || !schema.SameName(e.Table, s.Source.Alias) {
		return nil
	}
	return s.Source.Table.Column(e.Column)
}

// IsInteger reports whether an expression gives a whole number.
func (s Scope) IsInteger(e sqltext.Expr) bool { return s.Kind(e) == "integer" }

// IsNumber reports whether an expression gives a number.
func (s Scope) IsNumber(e sqltext.Expr) bool {
	k := s.Kind(e)
	return k == "integer" || k == "real" || k == "numeric"
}
