package sqltext

import "slices"

// Functions are those of the language; others are the engine's own.
var Functions = []string{
	"abs", "ceiling", "char_length", "coalesce", "concat", "floor", "greatest", "least", "left", "length", "lower",
	"ltrim", "mod", "nullif", "power", "replace", "round", "rtrim", "trim", "upper", "count", "sum", "min", "max", "avg",
}

// OnlyKnown reports whether all functions that an expression calls are of the language: to compute it
// does nothing else.
func OnlyKnown(e Expr) bool {
	return Walk(e, func(x Expr) bool {
		c, calls := x.(*Call)
		return !calls || slices.Contains(Functions, c.Name)
	})
}

// Walk calls visit for e and every expression within it, parents first, until
// visit gives false.
func Walk(e Expr, visit func(Expr) bool) bool {
	if e == nil {
		return true
	}
	if !visit(e) {
		return false
	}
	for _, c := range children(e) {
		if c != nil && *c != nil && !Walk(*c, visit) {
			return false
		}
	}
	return true
}

// Rewrite gives a copy of e in which replace has been applied to every
// expression, innermost first. replace may give its argument back, or change it:
// it is a copy.
func Rewrite(e Expr, replace func(Expr) Expr) Expr {
	if e == nil {
		return nil
	}
	c := clone(e)
	for _, child := range children(c) {
		if *child != nil {
			*child = Rewrite(*child, replace)
		}
	}
	return replace(c)
}

// Refs gives the column references of e, without those inside subqueries.
func Refs(e Expr) []*Ref {
	var refs []*Ref
	Walk(e, func(x Expr) bool {
		if r, ok := x.(*Ref); ok {
			refs = append(refs, r)
		}
		return true
	})
	return refs
}

// HasSubquery reports whether e reads other rows.
func HasSubquery(e Expr) bool {
	return !Walk(e, func(x Expr) bool {
		switch x := x.(type) {
		case *Subquery:
			return false
		case *In:
			return x.Query == nil
		}
		return true
	})
}

// children gives the places of the direct operands of e.
func children(e Expr) []*Expr {
	list := func(l []Expr) []*Expr {
		out := make([]*Expr, len(l))
		for i := range l {
			out[i] = &l[i]
		}
		return out
	}
	switch e := e.(type) {
	case *Unary:
		return []*Expr{&e.X}
	case *Binary:
		return []*Expr{&e.L, &e.R}
	case *IsNull:
		return []*Expr{&e.X}
	case *In:
		return append([]*Expr{&e.X}, list(e.List)...)
	case *Between:
		return []*Expr{&e.X, &e.Low, &e.High}
	case *Like:
		return []*Expr{&e.X, &e.Pattern, &e.Escape}
	case *Case:
		out := []*Expr{&e.Operand}
		for i := range e.Whens {
			out = append(out, &e.Whens[i].If, &e.Whens[i].Then)
		}
		return append(out, &e.Else)
	case *Cast:
		return []*Expr{&e.X}
	case *Substring:
		return []*Expr{&e.X, &e.From, &e.For}
	case *Position:
		return []*Expr{&e.Needle, &e.X}
	case *Trim:
		return []*Expr{&e.Chars, &e.X}
	case *Extract:
		return []*Expr{&e.X}
	case *Call:
		return list(e.Args)
	case *Collate:
		return []*Expr{&e.X}
	}
	return nil
}

// clone copies one node; its operands are shared, its lists are not.
func clone(e Expr) Expr {
	switch e := e.(type) {
	case *Literal:
		c := *e
		return &c
	case *Typed:
		c := *e
		return &c
	case *Ref:
		c := *e
		return &c
	case *Unary:
		c := *e
		return &c
	case *Binary:
		c := *e
		return &c
	case *IsNull:
		c := *e
		return &c
	case *In:
		c := *e
		c.List = append([]Expr(nil), e.List...)
		return &c
	case *Between:
		c := *e
		return &c
	case *Like:
		c := *e
		return &c
	case *Case:
		c := *e
		c.Whens = append([]When(nil), e.Whens...)
		return &c
	case *Cast:
		c := *e
		return &c
	case *Substring:
		c := *e
		return &c
	case *Position:
		c := *e
		return &c
	case *Trim:
		c := *e
		return &c
	case *Extract:
		c := *e
		return &c
	case *Now:
		c := *e
		return &c
	case *Interval:
		c := *e
		return &c
	case *Call:
		c := *e
		c.Args = append([]Expr(nil), e.Args...)
		return &c
	case *Subquery:
		c := *e
		return &c
	case *Collate:
		c := *e
		return &c
	}
	return e
}

// Children lists the expressions that e is directly made of.
func Children(e Expr) []Expr {
	var list []Expr
	for _, c := range children(e) {
		if *c != nil {
			list = append(list, *c)
		}
	}
	return list
}
