package sqltext

import (
	"strings"
	"unicode"
)

// Binding strengths, weakest first: an operand that binds weaker than its place
// wants is printed in parentheses.
const (
	bindOr = iota + 1
	bindAnd
	bindNot
	bindPredicate
	bindConcat
	bindSum
	bindProduct
	bindSigned
	bindPrimary
)

// PrintExpr gives the canonical text of an expression.
func PrintExpr(e Expr) string {
	var p exprPrinter
	p.print(e, bindOr)
	return p.String()
}

// Strength tells how strongly the operator at the root of e binds.
func strength(e Expr) int {
	switch e := e.(type) {
	case *Unary:
		if e.Op == "not" {
			return bindNot
		}
		return bindSigned
	case *Binary:
		switch e.Op {
		case "or":
			return bindOr
		case "and":
			return bindAnd
		case "||":
			return bindConcat
		case "+", "-":
			return bindSum
		case "*", "/", "%":
			return bindProduct
		}
		return bindPredicate
	case *IsNull, *In, *Between, *Like:
		return bindPredicate
	}
	return bindPrimary
}

type exprPrinter struct{ strings.Builder }

func (p *exprPrinter) print(e Expr, place int) {
	own := strength(e)
	if own < place {
		p.WriteByte('(')
		defer p.WriteByte(')')
	}
	switch e := e.(type) {
	case *Unary:
		p.unary(e)
	case *Binary:
		p.print(e.L, own)
		p.WriteString(" " + e.Op + " ")
		p.print(e.R, own+1)
	case *IsNull:
		p.print(e.X, own)
		p.WriteString(choose(e.Not, " is not null", " is null"))
	case *In:
		p.print(e.X, own)
		p.WriteString(choose(e.Not, " not in (", " in ("))
		if e.Query != nil {
			p.WriteString(e.Query.Text)
		} else {
			p.list(e.List)
		}
		p.WriteByte(')')
	case *Between:
		p.print(e.X, own)
		p.WriteString(choose(e.Not, " not between ", " between "))
		p.print(e.Low, own+1)
		p.WriteString(" and ")
		p.print(e.High, own+1)
	case *Like:
		p.print(e.X, own)
		p.WriteString(choose(e.Not, " not like ", " like "))
		p.print(e.Pattern, own+1)
		if e.Escape != nil {
			p.WriteString(" escape ")
			p.print(e.Escape, own+1)
		}
	default:
		p.primary(e)
	}
}

func choose(cond bool, yes, no string) string {
	if cond {
		return yes
	}
	return no
}

// unary keeps "- -x" from becoming the beginning of a comment.
func (p *exprPrinter) unary(e *Unary) {
	if e.Op == "not" {
		p.WriteString("not ")
		p.print(e.X, bindNot)
		return
	}
	var x exprPrinter
	x.print(e.X, bindSigned)
	p.WriteString(e.Op)
	if strings.HasPrefix(x.String(), "-") {
		p.WriteString("(" + x.String() + ")")
		return
	}
	p.WriteString(x.String())
}

func (p *exprPrinter) list(list []Expr) {
	for i, x := range list {
		if i > 0 {
			p.WriteString(", ")
		}
		p.print(x, bindOr)
	}
}

func (p *exprPrinter) primary(e Expr) {
	switch e := e.(type) {
	case *Literal:
		p.WriteString(e.String())
	case *Typed:
		p.WriteString(e.Type + " " + quoteString(e.Text))
	case *Ref:
		if e.Table != "" {
			p.WriteString(printName(e.Table) + ".")
		}
		p.WriteString(printName(e.Column))
	case *Case:
		p.caseExpr(e)
	case *Cast:
		p.WriteString("cast(")
		p.print(e.X, bindOr)
		p.WriteString(" as " + e.Type.String() + ")")
	case *Substring:
		p.WriteString("substring(")
		p.print(e.X, bindOr)
		p.WriteString(" from ")
		p.print(e.From, bindOr)
		if e.For != nil {
			p.WriteString(" for ")
			p.print(e.For, bindOr)
		}
		p.WriteByte(')')
	case *Position:
		p.WriteString("position(")
		p.print(e.Needle, bindConcat)
		p.WriteString(" in ")
		p.print(e.X, bindConcat)
		p.WriteByte(')')
	case *Trim:
		p.trim(e)
	case *Extract:
		p.WriteString("extract(" + e.Field + " from ")
		p.print(e.X, bindOr)
		p.WriteByte(')')
	case *Now:
		p.WriteString(e.Name)
	case *Interval:
		p.WriteString("interval " + quoteString(e.Amount) + " " + e.Unit)
	case *Call:
		p.WriteString(e.Name + "(" + choose(e.Distinct, "distinct ", "") + choose(e.Star, "*", ""))
		p.list(e.Args)
		p.WriteByte(')')
	case *Subquery:
		p.WriteString(choose(e.Exists, "exists ", "") + "(" + e.Query.Text + ")")
	case *Collate:
		p.print(e.X, bindPrimary)
		p.WriteString(" collate " + printName(e.Name))
	}
}

func (p *exprPrinter) caseExpr(e *Case) {
	p.WriteString("case")
	if e.Operand != nil {
		p.WriteByte(' ')
		p.print(e.Operand, bindOr)
	}
	for _, w := range e.Whens {
		p.WriteString(" when ")
		p.print(w.If, bindOr)
		p.WriteString(" then ")
		p.print(w.Then, bindOr)
	}
	if e.Else != nil {
		p.WriteString(" else ")
		p.print(e.Else, bindOr)
	}
	p.WriteString(" end")
}

func (p *exprPrinter) trim(e *Trim) {
	p.WriteString("trim(")
	if e.Side != "" {
		p.WriteString(e.Side + " ")
		if e.Chars != nil {
			p.print(e.Chars, bindOr)
			p.WriteByte(' ')
		}
		p.WriteString("from ")
	}
	p.print(e.X, bindOr)
	p.WriteByte(')')
}

// String gives the literal as it is written in the language.
func (l *Literal) String() string {
	switch l.Kind {
	case NullLiteral:
		return "null"
	case StringLiteral:
		return quoteString(l.Text)
	case BlobLiteral:
		return "x'" + l.Text + "'"
	}
	return l.Text
}

func quoteString(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// printName gives a name as it has to be written: in quotes if it would
// otherwise be folded, or be taken for something else.
func printName(n string) string {
	plain := n != "" && n == strings.ToLower(n) && !Reserved(n)
	for i, r := range n {
		switch {
		case r == '_' || unicode.IsLetter(r):
		case i > 0 && (r == '$' || unicode.IsDigit(r) || unicode.Is(unicode.Mn, r)):
		default:
			plain = false
		}
	}
	if plain {
		return n
	}
	return `"` + strings.ReplaceAll(n, `"`, `""`) + `"`
}
