package sqltext

import "strings"

// ParseExpr reads an expression on its own. The text may be one that an engine
// has stored. The error is [Errors].
func ParseExpr(text string) (Expr, error) {
	p := newParser("expression", text, Engine)
	var e Expr
	if !p.try(func() { e = p.expr(); p.expectEnd() }) {
		return nil, p.errors
	}
	return e, nil
}

// expr = and { "or" and } .
func (p *parser) expr() Expr {
	p.depth++
	if p.depth > maxDepth {
		p.failf("", "the expression is nested more than %d deep", maxDepth)
	}
	defer func() { p.depth-- }()
	return p.chain([]string{"or"}, func() Expr { return p.chain([]string{"and"}, p.not) })
}

// chain = operand { operator operand }, grouped to the left. The length of a
// chain counts as depth, since the tree is as deep as the chain is long.
func (p *parser) chain(ops []string, operand func() Expr) Expr {
	x := operand()
	deep := 0
	defer func() { p.depth -= deep }()
	for {
		op := ""
		for _, o := range ops {
			if p.accept(o) {
				op = o
				break
			}
		}
		if op == "" {
			return x
		}
		deep++
		p.depth++
		if p.depth > 4*maxDepth {
			p.failf("", "the expression has too many parts")
		}
		x = &Binary{op, x, operand()}
	}
}

// not = "not" not | predicate .
func (p *parser) not() Expr {
	if p.tok.Is("not") {
		p.advance()
		p.depth++
		if p.depth > maxDepth {
			p.failf("", "the expression is nested more than %d deep", maxDepth)
		}
		x := p.not()
		p.depth--
		return &Unary{"not", x}
	}
	return p.predicate()
}

var comparisons = map[string]string{"=": "=", "==": "=", "<>": "<>", "!=": "<>", "<": "<", "<=": "<=", ">": ">",
	">=": ">="}

// predicate = sum { comparison sum | "is" … | [ "not" ] ( "in" … | "between" … | "like" … ) } .
func (p *parser) predicate() Expr {
	x := p.concat()
	deep := 0
	defer func() { p.depth -= deep }()
	for {
		deep++
		if p.depth++; p.depth > 4*maxDepth {
			p.failf("", "the expression has too many parts")
		}
		if op, ok := comparisons[p.tok.Value]; ok && p.tok.Kind == Op {
			p.advance()
			x = &Binary{op, x, p.concat()}
			continue
		}
		if p.accept("is") {
			x = p.is(x)
			continue
		}
		not := p.ahead("not", "in") || p.ahead("not", "between") || p.ahead("not", "like")
		if not {
			p.advance()
		}
		switch {
		case p.accept("in"):
			x = p.in(x, not)
		case p.accept("between"):
			low := p.concat()
			p.expect("and")
			x = &Between{x, low, p.concat(), not}
		case p.accept("like"):
			l := &Like{X: x, Pattern: p.concat(), Not: not}
			if p.accept("escape") {
				l.Escape = p.concat()
			}
			x = l
		default:
			return x
		}
	}
}

// is = [ "not" ] ( "null" | "distinct" "from" sum ) .
func (p *parser) is(x Expr) Expr {
	not := p.accept("not")
	switch {
	case p.accept("null"):
		return &IsNull{x, not}
	case p.accept("distinct", "from"):
		op := "is distinct from"
		if not {
			op = "is not distinct from"
		}
		return &Binary{op, x, p.concat()}
	}
	p.wanted("null", "not null", "distinct from", "not distinct from")
	return nil
}

func (p *parser) in(x Expr, not bool) Expr {
	p.expect("(")
	in := &In{X: x, Not: not}
	if p.tok.Is("select") || p.tok.Is("with") {
		q := p.query()
		in.Query = &q
	} else {
		in.List = p.exprList()
	}
	p.expect(")")
	return in
}

// concat = sum { "||" sum } .
func (p *parser) concat() Expr { return p.chain([]string{"||"}, p.sum) }

// sum = product { ( "+" | "-" ) product } .
func (p *parser) sum() Expr { return p.chain([]string{"+", "-"}, p.product) }

// product = signed { ( "*" | "/" | "%" ) signed } .
func (p *parser) product() Expr { return p.chain([]string{"*", "/", "%"}, p.signed) }

// signed = { "-" | "+" } postfix .
func (p *parser) signed() Expr { return p.signs(p.postfix) }

// signs reads the signs before an operand.
func (p *parser) signs(operand func() Expr) Expr {
	for _, op := range []string{"-", "+"} {
		if p.accept(op) {
			p.depth++
			if p.depth > maxDepth {
				p.failf("", "the expression is nested more than %d deep", maxDepth)
			}
			x := p.signs(operand)
			p.depth--
			return &Unary{op, x}
		}
	}
	return operand()
}

// postfix = primary [ "collate" name ] .
func (p *parser) postfix() Expr {
	x := p.primary()
	for p.accept("collate") {
		x = &Collate{x, p.identifier("a collation's name")}
	}
	return x
}

// primaryOrSigned = { "-" | "+" } primary: what may follow "default" without
// parentheses. A collation behind it is the column's.
func (p *parser) primaryOrSigned() Expr { return p.signs(p.primary) }

func (p *parser) inParentheses() Expr {
	p.expect("(")
	e := p.expr()
	if !p.tok.Is(")") {
		p.failf(p.nearWord(), `")" or an operator is expected here, not %s`, p.tok.shown())
	}
	p.advance()
	return e
}

func (p *parser) exprList() []Expr {
	list := []Expr{p.expr()}
	for p.accept(",") {
		list = append(list, p.expr())
	}
	return list
}

// primary = literal | "(" expr | query ")" | case | cast | function | name .
func (p *parser) primary() Expr {
	t := p.tok
	switch t.Kind {
	case Number:
		p.advance()
		return &Literal{NumberLiteral, t.Text}
	case String:
		p.advance()
		return &Literal{StringLiteral, t.Value}
	case Blob:
		p.advance()
		return &Literal{BlobLiteral, t.Value}
	case Quoted:
		return p.nameOrCall()
	case Op:
		if t.Is("(") {
			return p.parenthesis()
		}
	case Word:
		if e := p.keyword(); e != nil {
			return e
		}
		if !Reserved(t.Value) || (t.Value == "left" || t.Value == "right") && p.ahead(t.Value, "(") {
			return p.nameOrCall()
		}
	}
	cure := ""
	if t.Kind == Word {
		cure = `write "` + t.Value + `" in double quotes to use it as a name`
	}
	p.failf(cure, "an expression is expected here, not %s", t.shown())
	return nil
}

func (p *parser) parenthesis() Expr {
	if p.ahead("(", "select") || p.ahead("(", "with") {
		p.advance()
		q := p.query()
		p.expect(")")
		return &Subquery{Query: q}
	}
	return p.inParentheses()
}

// keyword reads the expressions that begin with a word of the language; nil if
// the look-ahead is not one.
func (p *parser) keyword() Expr {
	switch {
	case p.accept("null"):
		return &Literal{NullLiteral, ""}
	case p.tok.Is("true"), p.tok.Is("false"):
		v := p.tok.Value
		p.advance()
		return &Literal{BoolLiteral, v}
	case p.tok.Is("current_date"), p.tok.Is("current_time"), p.tok.Is("current_timestamp"):
		v := p.tok.Value
		p.advance()
		return &Now{v}
	case (p.tok.Is("date") || p.tok.Is("time") || p.tok.Is("timestamp")) && p.tokens[p.next+1].Kind == String:
		v := p.tok.Value
		p.advance()
		return &Typed{v, p.text("a date or time")}
	case p.accept("interval"):
		amount := p.text("the amount, as '1'")
		return &Interval{amount, p.word("a unit of time", timeUnits)}
	case p.accept("case"):
		return p.caseExpr()
	case p.accept("exists"):
		p.expect("(")
		q := p.query()
		p.expect(")")
		return &Subquery{Exists: true, Query: q}
	case p.accept("cast", "("):
		c := &Cast{X: p.expr()}
		p.expect("as")
		c.Type = p.parseType()
		p.expect(")")
		return c
	case p.ahead("substring", "("):
		return p.substring()
	case p.accept("position", "("):
		needle := p.concat()
		p.expect("in")
		e := &Position{needle, p.concat()}
		p.expect(")")
		return e
	case p.accept("trim", "("):
		return p.trim()
	case p.accept("extract", "("):
		e := &Extract{Field: p.word("a field of a date or time", append(timeUnits, "epoch"))}
		p.expect("from")
		e.X = p.expr()
		p.expect(")")
		return e
	}
	return nil
}

var timeUnits = []string{"year", "month", "day", "hour", "minute", "second"}

func (p *parser) word(what string, allowed []string) string {
	for _, w := range allowed {
		if p.accept(w) || p.accept(w+"s") {
			return w
		}
	}
	p.failf("one of "+strings.Join(allowed, ", "), "%s is expected here, not %s", what, p.tok.shown())
	return ""
}

// caseExpr = [ expr ] "when" expr "then" expr { … } [ "else" expr ] "end" .
func (p *parser) caseExpr() Expr {
	c := &Case{}
	if !p.tok.Is("when") {
		c.Operand = p.expr()
	}
	for p.accept("when") {
		w := When{If: p.expr()}
		p.expect("then")
		w.Then = p.expr()
		c.Whens = append(c.Whens, w)
	}
	if len(c.Whens) == 0 {
		p.wanted("when")
	}
	if p.accept("else") {
		c.Else = p.expr()
	}
	p.expect("end")
	return c
}

// substring = "(" expr "from" expr [ "for" expr ] | expr "," expr [ "," expr ] ")" .
func (p *parser) substring() Expr {
	p.expect("substring", "(")
	s := &Substring{X: p.expr()}
	comma := p.accept(",")
	if !comma && !p.accept("from") {
		p.wanted("from", ",")
	}
	s.From = p.expr()
	if comma && p.accept(",") || !comma && p.accept("for") {
		s.For = p.expr()
	}
	p.expect(")")
	return s
}

// trim = "(" [ side ] [ chars "from" ] expr ")" .
func (p *parser) trim() Expr {
	t := &Trim{}
	for _, side := range []string{"leading", "trailing", "both"} {
		if p.accept(side) {
			t.Side = side
			break
		}
	}
	if t.Side != "" && p.accept("from") {
		t.X = p.expr()
	} else {
		t.X = p.expr()
		if p.accept("from") {
			t.Chars, t.X = t.X, p.expr()
			if t.Side == "" {
				t.Side = "both"
			}
		}
	}
	p.expect(")")
	return t
}

// nameOrCall = name [ "." name ] | name "(" [ "*" | [ "distinct" ] expr { "," expr } ] ")" .
func (p *parser) nameOrCall() Expr {
	at := p.tok.Pos
	quoted := p.tok.Kind == Quoted
	name := p.tok.Value
	if quoted && name == "" {
		p.failf("", "a name cannot be empty")
	}
	p.advance()
	if p.accept(".") {
		return &Ref{Table: name, Column: p.identifier("a column's name"), Pos: at}
	}
	if quoted || !p.accept("(") {
		return &Ref{Column: name, Pos: at}
	}
	c := &Call{Name: name, Pos: at}
	switch {
	case p.accept(")"):
		return c
	case p.accept("*"):
		c.Star = true
	default:
		c.Distinct = p.accept("distinct")
		c.Args = p.exprList()
	}
	p.expect(")")
	return c
}
