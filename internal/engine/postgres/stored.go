package postgres

import (
	"slices"
	"strings"

	"lastboard/internal/sqltext"
)

// PostgreSQL keeps an expression as a tree of its own, and shows it with a cast
// wherever one is implied. tree gives the language's tree of such a text; nil where
// the language has no words for all of it.
func tree(text string) sqltext.Expr {
	tokens, _ := sqltext.Scan(text, sqltext.Migration)
	s := spelling{tokens: tokens}
	plain, ok := s.until("")
	if !ok {
		return nil
	}
	e, err := sqltext.ParseExpr(plain)
	if err != nil || sqltext.HasSubquery(e) {
		return nil
	}
	return e
}

// spelling rewrites the server's text in the words of the language.
type spelling struct {
	tokens []sqltext.Token
	at     int
}

func (s *spelling) next() sqltext.Token { return s.tokens[s.at] }

// until rewrites up to a closing mark, which it takes; "" means up to the end.
func (s *spelling) until(end string) (string, bool) {
	var parts []string
	for {
		t := s.next()
		switch {
		case t.Kind == sqltext.EOF:
			return strings.Join(parts, " "), end == ""
		case t.Text == end:
			s.at++
			return strings.Join(parts, " "), true
		case t.Text == ")" || t.Text == "]":
			return "", false
		case t.Text == "=" && s.ahead("=", "any", "("), t.Text == "<>" && s.ahead("<>", "all", "("):
			list, ok := s.array(t.Text == "<>")
			if !ok {
				return "", false
			}
			parts = append(parts, list)
			continue
		case t.Text == "!" || t.Text == "~" || t.Text == "!~~" || t.Text == "~~":
			word, ok := s.like()
			if !ok {
				return "", false
			}
			parts = append(parts, word)
			continue
		}
		part, ok := s.operand()
		if !ok {
			return "", false
		}
		parts = append(parts, part)
	}
}

// ahead reports whether the next tokens are the words.
func (s *spelling) ahead(words ...string) bool {
	for i, w := range words {
		if s.at+i >= len(s.tokens) || !strings.EqualFold(s.tokens[s.at+i].Text, w) {
			return false
		}
	}
	return true
}

// like reads ~~ and !~~, one character at a time.
func (s *spelling) like() (string, bool) {
	text := ""
	for strings.Trim(s.next().Text, "!~") == "" && s.next().Kind != sqltext.EOF {
		text += s.next().Text
		s.at++
	}
	switch text {
	case "~~":
		return "like", true
	case "!~~":
		return "not like", true
	}
	return "", false
}

// array reads = ANY (ARRAY[…]) and <> ALL (ARRAY[…]), perhaps with a cast of the array.
func (s *spelling) array(not bool) (string, bool) {
	s.at += 3
	depth := 0
	for s.next().Text == "(" {
		depth++
		s.at++
	}
	if !s.ahead("array", "[") {
		return "", false
	}
	s.at += 2
	list, ok := s.until("]")
	for ; ok && depth > 0; depth-- {
		if s.next().Text != ")" {
			return "", false
		}
		s.at++
		if s.next().Text == "::" {
			s.at++
			s.typeName()
		}
	}
	if !ok || s.next().Text == "::" && !s.textCast() || s.next().Text != ")" {
		return "", false
	}
	s.at++
	word := "in"
	if not {
		word = "not in"
	}
	return word + " (" + list + ")", true
}

func (s *spelling) textCast() bool {
	s.at++
	return isText(s.typeName())
}

// operand reads one token, or what stands in parentheses, with the casts behind it.
func (s *spelling) operand() (string, bool) {
	t := s.next()
	s.at++
	if t.Kind == sqltext.Illegal {
		return "", false
	}
	text := t.Text
	if text == "(" {
		inner, ok := s.until(")")
		if !ok {
			return "", false
		}
		text = "(" + inner + ")"
	}
	if t.Is("now") && s.ahead("(", ")") {
		s.at += 2
		text = "current_timestamp"
	}
	for s.next().Text == "::" {
		s.at++
		var ok bool
		if text, ok = recast(t, text, s.typeName()); !ok {
			return "", false
		}
	}
	return text, true
}

// typeName reads the name of a type behind ::.
func (s *spelling) typeName() string {
	var words []string
	for {
		t := s.next()
		switch {
		case t.Kind == sqltext.Word && (len(words) == 0 ||
			slices.Contains([]string{"varying", "precision", "with", "without", "time", "zone"}, t.Value)):
			words = append(words, t.Value)
		case t.Text == "[" && s.ahead("[", "]"):
			words = append(words, "[]")
			s.at++
		case t.Text == "(" && len(words) > 0:
			for s.next().Text != ")" && s.next().Kind != sqltext.EOF {
				s.at++
			}
			words = append(words, "(…)")
		default:
			return strings.Join(words, " ")
		}
		s.at++
	}
}

func isText(name string) bool {
	name = strings.TrimSuffix(name, " []")
	return name == "text" || name == "character varying" || name == "bpchar"
}

// recast says a cast in the language: one of a literal is another literal, one of a
// text to text is nothing.
func recast(t sqltext.Token, text, to string) (string, bool) {
	switch {
	case strings.Contains(to, "[]"):
		return "", false
	case isText(to):
		return text, true
	case t.Kind == sqltext.Word && t.Value == "null":
		return text, true
	case t.Kind == sqltext.String && slices.Contains([]string{"integer", "bigint", "smallint", "numeric"}, to):
		return strings.Trim(text, "'"), true
	case t.Kind == sqltext.String && (to == "date"):
		return to + " " + text, true
	case t.Kind == sqltext.String && strings.HasPrefix(to, "timestamp without"):
		return "timestamp " + text, true
	case t.Kind == sqltext.String && strings.HasPrefix(to, "time without"):
		return "time " + text, true
	case t.Kind == sqltext.Number && slices.Contains([]string{"numeric", "integer", "bigint", "smallint"}, to):
		return text, true
	case strings.HasPrefix(text, "(") && numberInside(text) &&
		(to == "numeric" || to == "bigint" || to == "smallint" || to == "double precision" || to == "real"):
		return strings.Trim(text, "()"), true
	case !strings.Contains(to, "…"):
		if _, ok := sqltext.ParseType(to); ok && slices.Contains(sqltext.TypeNames(), to) {
			return "cast(" + text + " as " + to + ")", true
		}
	}
	return "", false
}

func numberInside(text string) bool {
	tokens, _ := sqltext.Scan(strings.Trim(text, "()"), sqltext.Migration)
	return len(tokens) == 2 && tokens[0].Kind == sqltext.Number
}
