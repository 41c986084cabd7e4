package mariadb

import (
	"slices"
	"strings"

	"lastboard/internal/engine/planning"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// ansi gives a text that the server shows in the spelling of Lastboard's sessions: names
// in double quotes, and a backslash in a text that stands for itself.
func ansi(text string) string {
	if !strings.ContainsAny(text, "`'") {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '`', '"':
			name, end := quotedName(text, i)
			b.WriteString(quote(name))
			i = end
		case '\'':
			value, end := escaped(text, i)
			b.WriteString(literal(value))
			i = end
		default:
			b.WriteByte(text[i])
		}
	}
	return b.String()
}

// quotedName reads a name in quotes that begins at a place, and gives the place of its
// last quote.
func quotedName(text string, at int) (string, int) {
	mark := text[at]
	var b strings.Builder
	for i := at + 1; i < len(text); i++ {
		if text[i] != mark {
			b.WriteByte(text[i])
			continue
		}
		if i+1 < len(text) && text[i+1] == mark {
			b.WriteByte(mark)
			i++
			continue
		}
		return b.String(), i
	}
	return b.String(), len(text)
}

var escapes = map[byte]byte{'n': '\n', 't': '\t', 'r': '\r', '0': 0, 'Z': 26, 'b': '\b'}

// escaped reads a text with backslashes that begins at a place, and gives the place of
// its last quote.
func escaped(text string, at int) (string, int) {
	var b strings.Builder
	for i := at + 1; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\' && i+1 < len(text):
			i++
			if e, ok := escapes[text[i]]; ok {
				b.WriteByte(e)
			} else {
				b.WriteByte(text[i])
			}
		case c == '\'' && i+1 < len(text) && text[i+1] == '\'':
			b.WriteByte(c)
			i++
		case c == '\'':
			return b.String(), i
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), len(text)
}

// tree gives the language's tree of an expression as the server stores it, over a
// table; nil where the language has no words for all of it.
func tree(text string, t *schema.Table) sqltext.Expr {
	tokens, _ := sqltext.Scan(text, sqltext.Migration)
	s := spelling{tokens: tokens, compared: []int{0}}
	plain, ok := s.words()
	if !ok {
		return nil
	}
	e, err := sqltext.ParseExpr(plain)
	if err != nil || sqltext.HasSubquery(e) {
		return nil
	}
	return sqltext.Rewrite(e, func(x sqltext.Expr) sqltext.Expr { return reworded(x, t) })
}

// spelling rewrites the server's text in the words of the language.
type spelling struct {
	tokens []sqltext.Token
	at     int
	// compared counts the comparisons since the last and, or or comma, at each depth of
	// parentheses: the server and the language bind several of them differently.
	compared []int
	between  int
}

func (s *spelling) next() sqltext.Token { return s.tokens[min(s.at, len(s.tokens)-1)] }

// ahead reports whether the next tokens are these.
func (s *spelling) ahead(words ...string) bool {
	for i, w := range words {
		if s.at+i >= len(s.tokens) || !strings.EqualFold(s.tokens[s.at+i].Text, w) {
			return false
		}
	}
	return true
}

// plainWords are those that the language has another word for.
var plainWords = map[string]string{"div": "/", "ucase": "upper", "lcase": "lower", "pow": "power", "ifnull": "coalesce",
	"ceil": "ceiling", "signed": "bigint", "decimal": "numeric", "double": "double precision", "float": "real"}

func (s *spelling) words() (string, bool) {
	var parts []string
	for {
		t := s.next()
		if t.Kind == sqltext.EOF {
			return strings.Join(parts, " "), true
		}
		if !s.compare(t) {
			return "", false
		}
		switch {
		case s.ahead("<=", ">") && !s.tokens[s.at+1].Spaced:
			s.at++
			parts = append(parts, "is not distinct from")
		case t.Text == "!":
			parts = append(parts, "not")
		case s.ahead("interval"):
			s.at++
			sign := ""
			if s.next().Text == "-" {
				sign = "-"
				s.at++
			}
			parts = append(parts, "interval '"+sign+s.next().Text+"'")
		case s.ahead("char", "charset"):
			s.at += 2
			if s.at+1 < len(s.tokens) && s.tokens[s.at+1].Is("binary") {
				s.at++
			}
			parts = append(parts, "text")
		case s.ahead("char", "(") || s.ahead("unsigned") || s.ahead("binary"):
			return "", false
		case s.ahead("datetime", "(", "6", ")"):
			s.at += 3
			parts = append(parts, "timestamp")
		case s.ahead("time", "(", "6", ")"):
			s.at += 3
			parts = append(parts, "time")
		case s.ahead("current_timestamp", "(", ")"), s.ahead("curdate", "(", ")"), s.ahead("curtime", "(", ")"):
			s.at += 2
			parts = append(parts, now[strings.ToLower(t.Text)])
		case s.ahead("current_timestamp", "("), s.ahead("curtime", "("):
			s.at += 3
			parts = append(parts, now[strings.ToLower(t.Text)])
		case s.ahead("mod") && !s.ahead("mod", "("):
			parts = append(parts, "%")
		case s.ahead("timestampdiff", "(", "second", ",", "timestamp", "'1970-01-01 00:00:00'", ","):
			s.at += 6
			s.compared = append(s.compared, 0)
			parts = append(parts, "extract ( epoch from")
		case s.ahead("trim", "(", "both", "' '", "from"):
			s.at += 4
			s.compared = append(s.compared, 0)
			parts = append(parts, "trim (")
		case t.Kind == sqltext.Word && plainWords[t.Value] != "":
			parts = append(parts, plainWords[t.Value])
		default:
			parts = append(parts, t.Text)
		}
		s.at++
	}
}

var now = map[string]string{"current_timestamp": "current_timestamp", "curdate": "current_date",
	"curtime": "current_time"}

// compare counts comparisons, and reports whether what is met so far binds alike.
func (s *spelling) compare(t sqltext.Token) bool {
	top := len(s.compared) - 1
	switch {
	case t.Text == "(":
		s.compared = append(s.compared, 0)
	case t.Text == ")":
		if top == 0 {
			return false
		}
		s.compared = s.compared[:top]
	case t.Is("and") && s.between > 0:
		s.between--
	case t.Is("and"), t.Is("or"), t.Text == ",", t.Is("when"), t.Is("then"), t.Is("else"), t.Is("case"), t.Is("end"):
		s.compared[top] = 0
	case t.Is("between"):
		s.between++
		s.compared[top]++
	case t.Is("is"), t.Is("like"), t.Is("in"), t.Is("regexp"),
		slices.Contains([]string{"=", "<>", "<", ">", "<=", ">="}, t.Text) &&
			!(t.Text == ">" && s.at > 0 && s.tokens[s.at-1].Text == "<="):
		s.compared[top]++
	}
	top = len(s.compared) - 1
	return s.compared[top] < 2
}

// reworded gives the language's form of what the server calls by a function.
func reworded(e sqltext.Expr, t *schema.Table) sqltext.Expr {
	switch e := e.(type) {
	case *sqltext.Call:
		switch {
		case e.Name == "concat" && len(e.Args) > 1:
			out := e.Args[0]
			for _, x := range e.Args[1:] {
				out = &sqltext.Binary{Op: "||", L: out, R: x}
			}
			return out
		case (e.Name == "substr" || e.Name == "substring") && len(e.Args) > 1:
			s := &sqltext.Substring{X: e.Args[0], From: e.Args[1]}
			if len(e.Args) > 2 {
				s.For = e.Args[2]
			}
			return s
		case e.Name == "round" && len(e.Args) > 0:
			if c, ok := e.Args[0].(*sqltext.Cast); ok && c.Type.Name == "numeric" && slices.Equal(c.Type.Args, []int{65, 15}) {
				e.Args[0] = c.X // as it is rounded here
			}
		case e.Name == "locate" && len(e.Args) == 2:
			return &sqltext.Position{Needle: e.Args[0], X: e.Args[1]}
		}
	case *sqltext.Collate:
		if c, ok := e.X.(*sqltext.Cast); ok && c.Type.Name == "text" && e.Name == bytewise {
			return c // as every text that is made of another value here
		}
	case *sqltext.Like:
		p, known := e.Pattern.(*sqltext.Literal)
		if x, ok := e.Escape.(*sqltext.Literal); ok && known && !strings.Contains(p.Text, x.Text) {
			e.Escape = nil // it was named so that nothing is one
		}
	case *sqltext.Unary:
		if b, ok := e.X.(*sqltext.Binary); ok && e.Op == "not" && b.Op == "is not distinct from" {
			return &sqltext.Binary{Op: "is distinct from", L: b.L, R: b.R}
		}
	case *sqltext.Cast:
		if x, ok := e.X.(*sqltext.Trim); ok && e.Type.Name == "bigint" && x.Chars == nil {
			e.X = x.X
		}
	case *sqltext.Binary:
		if c, ok := e.R.(*sqltext.Call); ok && (e.Op == "/" || e.Op == "%") && c.Name == "nullif" && len(c.Args) == 2 &&
			isZero(c.Args[1]) {
			e.R = c.Args[0] // as a division is written here that may meet nothing
		}
		// The server shows a boolean column that stands alone as a comparison.
		if r, ok := e.L.(*sqltext.Ref); ok && isZero(e.R) && t != nil && (e.Op == "=" || e.Op == "<>") {
			if c := t.Column(r.Column); c != nil && c.Type.Name == "boolean" {
				if e.Op == "<>" {
					return r
				}
				return &sqltext.Unary{Op: "not", X: r}
			}
		}
	}
	return e
}

func isZero(e sqltext.Expr) bool {
	n, ok := planning.WholeNumber(e)
	return ok && n == 0
}
