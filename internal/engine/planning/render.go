package planning

import (
	"strconv"
	"strings"

	"lastboard/internal/sqltext"
)

// What the renderers of all engines share. place is how strongly the place binds in which
// a text will stand, own how strongly the text's own operator binds.

// Wrap puts text that binds with own into parentheses if its place wants more.
func Wrap(text string, own, place int) string {
	if own < place {
		return "(" + text + ")"
	}
	return text
}

// Not gives the word of a negated comparison.
func Not(n bool) string {
	if n {
		return " not"
	}
	return ""
}

// CaseSQL writes a case; render writes what is in it.
func CaseSQL(e *sqltext.Case, render func(sqltext.Expr) string) string {
	var b strings.Builder
	b.WriteString("case")
	if e.Operand != nil {
		b.WriteString(" " + render(e.Operand))
	}
	for _, w := range e.Whens {
		b.WriteString(" when " + render(w.If) + " then " + render(w.Then))
	}
	if e.Else != nil {
		b.WriteString(" else " + render(e.Else))
	}
	return b.String() + " end"
}

// WholeNumber gives the value of a literal that is a whole number.
func WholeNumber(e sqltext.Expr) (int64, bool) {
	l, ok := e.(*sqltext.Literal)
	if !ok || l.Kind != sqltext.NumberLiteral {
		return 0, false
	}
	n, err := strconv.ParseInt(l.Text, 10, 64)
	return n, err == nil
}

// FirstUnconverted writes what gives the first text that a cast in e would be given and
// cannot convert; "" where none can be. failed writes it for one cast alone; render writes
// an expression.
func FirstUnconverted(e sqltext.Expr, render func(sqltext.Expr) string, failed func(*sqltext.Cast) string) string {
	switch e := e.(type) {
	case *sqltext.Case: // only in the branch that is taken
		found := false
		branch := func(x sqltext.Expr) string {
			if f := FirstUnconverted(x, render, failed); f != "" {
				found = true
				return f
			}
			return "null"
		}
		text := "case"
		if e.Operand != nil {
			text += " " + render(e.Operand)
		}
		for _, w := range e.Whens {
			text += " when " + render(w.If) + " then " + branch(w.Then)
		}
		if e.Else != nil {
			text += " else " + branch(e.Else)
		}
		if !found {
			return ""
		}
		return text + " end"
	case *sqltext.Cast:
		inner, own := FirstUnconverted(e.X, render, failed), failed(e)
		switch {
		case own == "":
			return inner
		case inner == "":
			return own
		}
		return "coalesce(" + inner + ", " + own + ")"
	}
	var parts []string
	for _, child := range sqltext.Children(e) {
		if f := FirstUnconverted(child, render, failed); f != "" {
			parts = append(parts, f)
		}
	}
	switch len(parts) {
	case 0:
		return ""
	case 1:
		return parts[0]
	}
	return "coalesce(" + strings.Join(parts, ", ") + ")"
}
