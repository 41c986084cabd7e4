package sqltext

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Parse reads a migration. name is only for messages. The file is complete as
// far as it could be parsed even when there are errors; the error is [Errors].
func Parse(name, src string) (*File, error) {
	p := newParser(name, src, Migration)
	f := &File{Name: name, Source: src, Comments: p.comments}
	f.Title, f.Reason = heading(p.comments, p.tok.Pos)
	if !p.validText() {
		return f, p.errors
	}
	for p.tok.Kind != EOF {
		if p.accept(";") {
			continue
		}
		var s Statement
		if p.try(func() { s = p.parseStatement(); p.endStatement() }) {
			f.Statements = append(f.Statements, s)
		} else {
			p.skipStatement()
		}
	}
	if len(p.errors) > 0 {
		return f, p.errors
	}
	return f, nil
}

// heading gives title and reason: the comments before the first token, until a
// blank line parts them from what follows.
func heading(comments []Comment, first Pos) (title, reason string) {
	var lines []string
	last := 0
	for _, c := range comments {
		if c.Pos.Offset > first.Offset || last > 0 && c.Pos.Line > last+1 {
			break
		}
		text := c.Text
		if block, ok := strings.CutPrefix(text, "/*"); ok {
			text = strings.TrimSuffix(block, "*/")
		}
		for l := range strings.SplitSeq(text, "\n") {
			lines = append(lines, strings.TrimSpace(strings.TrimLeft(strings.TrimSpace(l), "-*")))
		}
		last = c.Pos.Line + strings.Count(c.Text, "\n")
	}
	for len(lines) > 0 && lines[0] == "" {
		lines = lines[1:]
	}
	if len(lines) == 0 {
		return "", ""
	}
	return lines[0], strings.TrimSpace(strings.Join(lines[1:], "\n"))
}

type parser struct {
	name     string
	src      string
	tokens   []Token
	comments []Comment
	next     int
	tok      Token // the one token of look-ahead
	depth    int   // of nested expressions
	errors   Errors
}

// maxDepth bounds nesting, so that no text can exhaust the stack.
const maxDepth = 250

func newParser(name, src string, mode Mode) *parser {
	p := &parser{name: name, src: src}
	p.tokens, p.comments = Scan(src, mode)
	p.tok = p.tokens[0]
	return p
}

// validText refuses what is not UTF-8 text before anything is made of it.
func (p *parser) validText() bool {
	if i := strings.IndexByte(p.src, 0); i >= 0 {
		p.errors = append(p.errors, &Error{File: p.name, Pos: Pos{i, 1, 1},
			Message: "the file holds a zero byte: it is not a text"})
		return false
	}
	if !utf8.ValidString(p.src) {
		line := 1
		for l := range strings.SplitSeq(p.src, "\n") {
			if strings.ToValidUTF8(l, "") != l {
				break
			}
			line++
		}
		p.errors = append(p.errors, &Error{File: p.name, Pos: Pos{0, line, 1}, Message: "the file is not in UTF-8",
			Cure: "save it as UTF-8"})
		return false
	}
	return true
}

// bail carries a syntax error up to the statement it is in.
type bail struct{ err *Error }

// try runs parse and reports whether it came to its end; if not, the error is
// added to the list.
func (p *parser) try(parse func()) (ok bool) {
	defer func() {
		if r := recover(); r != nil {
			b, mine := r.(bail)
			if !mine {
				panic(r)
			}
			p.errors = append(p.errors, b.err)
			p.depth = 0
		}
	}()
	parse()
	return true
}

// failAt gives up the statement. The cure comes first, so that format and
// arguments stand together.
func (p *parser) failAt(at Pos, cure, format string, args ...any) {
	panic(bail{&Error{
		File: p.name, Pos: at, Message: fmt.Sprintf(format, args...), Cure: cure, Line: SourceLine(p.src, at.Line),
	}})
}

func (p *parser) failf(cure, format string, args ...any) { p.failAt(p.tok.Pos, cure, format, args...) }

// shown is how a message names a token.
func (t Token) shown() string {
	switch t.Kind {
	case EOF:
		return "the end of the file"
	case Illegal:
		if t.Value != t.Text {
			return t.Value
		}
	}
	text := t.Text
	if len([]rune(text)) > 40 {
		text = string([]rune(text)[:40]) + "…"
	}
	return `"` + text + `"`
}

func (p *parser) advance() {
	if p.next < len(p.tokens)-1 {
		p.next++
	}
	p.tok = p.tokens[p.next]
}

// ahead reports whether the next tokens are these words or marks.
func (p *parser) ahead(words ...string) bool {
	for i, w := range words {
		if p.next+i >= len(p.tokens) || !p.tokens[p.next+i].Is(w) {
			return false
		}
	}
	return true
}

// accept passes over the given words if all of them come next.
func (p *parser) accept(words ...string) bool {
	if !p.ahead(words...) {
		return false
	}
	for range words {
		p.advance()
	}
	return true
}

func (p *parser) expect(words ...string) {
	for _, w := range words {
		if !p.accept(w) {
			p.wanted(w)
		}
	}
}

// wanted fails at the look-ahead token: one of the given words had to be there.
func (p *parser) wanted(words ...string) {
	shown := make([]string, len(words))
	for i, w := range words {
		shown[i] = `"` + w + `"`
	}
	list := shown[0]
	if n := len(shown); n > 1 {
		list = strings.Join(shown[:n-1], ", ") + " or " + shown[n-1]
	}
	cure := ""
	if p.tok.Kind == Word {
		if near, ok := Nearest(p.tok.Text, words); ok {
			cure = "did you mean " + near + "?"
		}
	}
	p.failf(cure, "%s is expected here, not %s", list, p.tok.shown())
}

func (p *parser) expectEnd() {
	if p.tok.Kind != EOF {
		p.failf("", "nothing more is expected here, not %s", p.tok.shown())
	}
}

// endStatement expects ";". Without one, what comes next is most likely a
// misspelt word of the statement before it.
func (p *parser) endStatement() {
	if p.accept(";") {
		return
	}
	if p.tok.Kind == EOF {
		p.failf(`end the statement with ";"`, `";" is expected at the end of the statement`)
	}
	p.failf(p.nearWord(), `";" or the rest of the statement is expected here, not %s`, p.tok.shown())
}

// clauseWords may follow within a statement; a misspelling of one of them is
// what most often stands where the statement should end.
var clauseWords = []string{
	"using", "restore", "discard", "not", "null", "default", "unique", "check", "references", "primary", "generated",
	"comment", "collate", "where", "first", "after", "rebuild", "stored", "virtual", "touching", "done", "back", "else",
}

func (p *parser) nearWord() string {
	if p.tok.Kind != Word {
		return ""
	}
	if near, ok := Nearest(p.tok.Text, clauseWords); ok {
		return "did you mean " + near + "?"
	}
	return ""
}

func (p *parser) skipStatement() {
	for p.tok.Kind != EOF {
		if p.accept(";") {
			return
		}
		p.advance()
	}
}

// name reads a column, constraint or alias name. Unquoted names fold to lower case.
func (p *parser) identifier(what string) string {
	p.condition()
	t := p.tok
	switch {
	case t.Kind == Quoted && t.Value == "":
		p.failf("", "a name cannot be empty")
	case t.Kind == Quoted:
		p.advance()
		return t.Value
	case t.Kind == Word && Reserved(t.Value):
		p.failf(fmt.Sprintf(`write "%s" in double quotes to use it as a name`, t.Value),
			"%s is expected here, and %s is a reserved word", what, t.shown())
	case t.Kind == Word:
		p.advance()
		return t.Value
	}
	cure := ""
	if t.Kind == String {
		cure = "names are quoted with double quotes, strings with single ones"
	}
	p.failf(cure, "%s is expected here, not %s", what, t.shown())
	return ""
}

// qualified reads a name that may stand in a schema.
func (p *parser) qualified(what string) Name {
	n := Name{Pos: p.tok.Pos}
	n.Name = p.identifier(what)
	if p.accept(".") {
		n.Schema, n.Name = n.Name, p.identifier(what)
	}
	return n
}

// names = "(" name { "," name } ")" .
func (p *parser) names(what string) []string {
	p.expect("(")
	var list []string
	for {
		at := p.tok.Pos
		n := p.identifier(what)
		if slices.Contains(list, n) {
			p.failAt(at, "", "%s is named twice", n)
		}
		list = append(list, n)
		if !p.accept(",") {
			break
		}
	}
	p.expect(")")
	return list
}

// integer reads a whole number, perhaps with a sign.
func (p *parser) integer(what string) int64 {
	sign := ""
	if p.accept("-") {
		sign = "-"
	}
	if p.tok.Kind == Number {
		if n, err := strconv.ParseInt(sign+p.tok.Text, 10, 64); err == nil && (what != "a number" || n >= 0 && n < 1<<31) {
			p.advance()
			return n
		}
	}
	p.failf("", "%s is expected here, not %s", what, p.tok.shown())
	return 0
}

func (p *parser) text(what string) string {
	if p.tok.Kind != String {
		p.failf("strings stand between single quotes", "%s is expected here, not %s", what, p.tok.shown())
	}
	v := p.tok.Value
	p.advance()
	return v
}

// query reads the tokens of a query as they are written, until the end of the
// statement or, inside parentheses, the one that closes them.
func (p *parser) query() Query {
	if !p.tok.Is("select") && !p.tok.Is("with") && !p.tok.Is("values") {
		p.wanted("select", "with", "values")
	}
	var b strings.Builder
	depth := 0
	for p.tok.Kind != EOF && !(p.tok.Is(";") && depth == 0) {
		switch {
		case p.tok.Kind == Illegal:
			p.failf("", "%s is not part of SQL", p.tok.shown())
		case p.tok.Is("("):
			depth++
		case p.tok.Is(")"):
			depth--
		}
		if depth < 0 {
			break
		}
		if p.tok.Spaced && b.Len() > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(p.tok.Text)
		p.advance()
	}
	if depth > 0 {
		p.failf("", `")" is expected here, not %s`, p.tok.shown())
	}
	return Query{b.String()}
}
