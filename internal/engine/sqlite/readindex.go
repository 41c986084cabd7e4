package sqlite

import (
	"strings"

	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// readIndex reads a create index statement; the table it is on is known.
func readIndex(t *schema.Table, sql string) (x *schema.Index, err error) {
	defer caught(&err)
	r := newReader(sql)
	r.table = t
	x = &schema.Index{}
	r.expect("create")
	x.Unique = r.accept("unique")
	r.expect("index")
	r.accept("if", "not", "exists")
	x.Name = r.name()
	if r.accept(".") {
		x.Name = r.name()
	}
	r.expect("on")
	r.name()
	for _, part := range splitParts(r.inside()) {
		x.Parts = append(x.Parts, readPart(t, part))
	}
	if r.accept("where") {
		text := strings.TrimSpace(r.src[r.tok().Pos.Offset:])
		e := expr(t, text)
		x.Where = &e
	} else if r.tok().Kind != sqltext.EOF {
		r.fail("%q is not understood", r.tok().Text)
	}
	return x, nil
}

// splitParts splits at the commas that are in no parentheses.
func splitParts(text string) []string {
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
	var parts []string
	depth, start := 0, 0
	for _, t := range tokens {
		switch {
		case t.Is("("):
			depth++
		case t.Is(")"):
			depth--
		case t.Is(",") && depth == 0:
			parts = append(parts, strings.TrimSpace(text[start:t.Pos.Offset]))
			start = t.End()
		}
	}
	return append(parts, strings.TrimSpace(text[start:]))
}

// readPart reads a key of an index: a column or expression, perhaps with a
// collation and an order.
func readPart(t *schema.Table, text string) schema.IndexPart {
	var p schema.IndexPart
	tokens, _ := sqltext.Scan(text, sqltext.Engine)
	tokens = tokens[:len(tokens)-1]
	if n := len(tokens); n > 1 && (tokens[n-1].Is("desc") || tokens[n-1].Is("asc")) {
		p.Desc = tokens[n-1].Is("desc")
		tokens = tokens[:n-1]
	}
	if n := len(tokens); n > 2 && tokens[n-2].Is("collate") {
		p.Collate = asWritten(tokens[n-1])
		tokens = tokens[:n-2]
	}
	rest := strings.TrimSpace(text[:tokens[len(tokens)-1].End()])
	if len(tokens) == 1 && (tokens[0].Kind == sqltext.Word || tokens[0].Kind == sqltext.Quoted) {
		if c := t.Column(tokens[0].Value); c != nil {
			p.Column = c.Name
			return p
		}
	}
	if open, closed := tokens[0], matching(tokens); open.Is("(") && closed == len(tokens)-1 {
		rest = strings.TrimSpace(text[open.End():tokens[closed].Pos.Offset])
	}
	e := expr(t, rest)
	p.Expr = &e
	return p
}

// matching gives the place of the parenthesis that closes the first token.
func matching(tokens []sqltext.Token) int {
	depth := 0
	for i, t := range tokens {
		switch {
		case t.Is("("):
			depth++
		case t.Is(")"):
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}

// asWritten gives a name in the case in which it is written.
func asWritten(t sqltext.Token) string {
	if t.Kind == sqltext.Word {
		return t.Text
	}
	return t.Value
}
