package sqltext

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Mode selects what the scanner accepts.
type Mode int

const (
	// Migration accepts the migration language alone.
	Migration Mode = iota
	// Engine also accepts the name quotes `…` and […], which engines store.
	Engine
)

// Scan splits src into tokens, the last of which is EOF, and the comments
// between them. It never fails: what no grammar knows becomes an Illegal token.
func Scan(src string, mode Mode) ([]Token, []Comment) {
	s := scanner{src: src, line: 1, col: 1, mode: mode}
	s.skipMark()
	tokens := make([]Token, 0, len(src)/4+4) // a word and a blank, on the average
	for {
		t := s.next()
		tokens = append(tokens, t)
		if t.Kind == EOF {
			return tokens, s.comments
		}
	}
}

type scanner struct {
	src       string
	off       int
	line, col int
	mode      Mode
	comments  []Comment
}

// operators of more than one character, longest first.
var operators = []string{"->>", "<>", "<=", ">=", "!=", "||", "==", "<<", ">>", "->", "::"}

func (s *scanner) skipMark() {
	if strings.HasPrefix(s.src, "\ufeff") {
		s.off = len("\ufeff")
	}
}

func (s *scanner) rest() string { return s.src[s.off:] }

func (s *scanner) pos() Pos { return Pos{Offset: s.off, Line: s.line, Column: s.col} }

// advance moves n bytes on and keeps count of lines and columns.
func (s *scanner) advance(n int) {
	plain := true
	for _, c := range []byte(s.src[s.off : s.off+n]) {
		plain = plain && c < utf8.RuneSelf && c != '\n'
	}
	if plain {
		s.off, s.col = s.off+n, s.col+n
		return
	}
	for end := s.off + n; s.off < end; {
		r, size := utf8.DecodeRuneInString(s.rest())
		s.off += size
		if r == '\n' {
			s.line, s.col = s.line+1, 1
		} else {
			s.col++
		}
	}
}

// skipSpace passes over white space and comments; it reports whether there were
// any, and an unfinished comment as a token.
func (s *scanner) skipSpace() (spaced bool, bad *Token) {
	for s.off < len(s.src) {
		rest := s.rest()
		r, size := utf8.DecodeRuneInString(rest)
		switch {
		case unicode.IsSpace(r):
			s.advance(size)
		case strings.HasPrefix(rest, "--"):
			n := strings.IndexByte(rest, '\n')
			if n < 0 {
				n = len(rest)
			}
			s.comments = append(s.comments, Comment{strings.TrimRight(rest[:n], "\r"), s.pos()})
			s.advance(n)
		case strings.HasPrefix(rest, "/*"):
			n := strings.Index(rest[2:], "*/")
			if n < 0 {
				t := s.unclosed("a comment that is not closed")
				return spaced, &t
			}
			s.comments = append(s.comments, Comment{rest[:n+4], s.pos()})
			s.advance(n + 4)
		default:
			return spaced, nil
		}
		spaced = true
	}
	return spaced, nil
}

func (s *scanner) take(kind TokenKind, n int) Token {
	t := Token{Kind: kind, Text: s.src[s.off : s.off+n], Pos: s.pos()}
	t.Value = t.Text
	s.advance(n)
	return t
}

func (s *scanner) next() Token {
	spaced, bad := s.skipSpace()
	if bad != nil {
		return *bad
	}
	t := s.token()
	t.Spaced = spaced
	return t
}

func (s *scanner) token() Token {
	rest := s.rest()
	if rest == "" {
		return Token{Kind: EOF, Pos: s.pos()}
	}
	c := rest[0]
	r, size := utf8.DecodeRuneInString(rest)
	switch {
	case c == '\'':
		return s.quoted(String, '\'', "a string that is not closed")
	case c == '"':
		return s.quoted(Quoted, '"', "a quoted name that is not closed")
	case c == '`' && s.mode == Engine:
		return s.quoted(Quoted, '`', "a quoted name that is not closed")
	case c == '[' && s.mode == Engine:
		return s.bracketed()
	case (c == 'x' || c == 'X') && len(rest) > 1 && rest[1] == '\'':
		return s.blob()
	case c == '$':
		return s.dollar()
	case c >= '0' && c <= '9', c == '.' && len(rest) > 1 && rest[1] >= '0' && rest[1] <= '9':
		return s.number()
	case r == '_' || unicode.IsLetter(r):
		return s.word()
	}
	if strings.IndexByte("(),;", c) >= 0 {
		return s.take(Op, 1)
	}
	for _, op := range operators {
		if strings.HasPrefix(rest, op) {
			return s.take(Op, len(op))
		}
	}
	if strings.IndexByte("+-*/%=<>(),;.&|~?:@#^", c) >= 0 {
		return s.take(Op, 1)
	}
	return s.take(Illegal, size)
}

func (s *scanner) word() Token {
	n := 0
	for i, r := range s.rest() {
		if r != '_' && r != '$' && !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.Is(unicode.Mn, r) {
			break
		}
		n = i + utf8.RuneLen(r)
	}
	t := s.take(Word, n)
	t.Value = strings.ToLower(t.Text)
	return t
}

// quoted scans a literal in which the quote is doubled to stand for itself.
func (s *scanner) quoted(kind TokenKind, quote byte, unclosed string) Token {
	rest := s.rest()
	for i := 1; i < len(rest); i++ {
		if rest[i] != quote {
			continue
		}
		if i+1 < len(rest) && rest[i+1] == quote {
			i++
			continue
		}
		t := s.take(kind, i+1)
		q := string(quote)
		t.Value = strings.ReplaceAll(t.Text[1:i], q+q, q)
		return t
	}
	return s.unclosed(unclosed)
}

// unclosed gives up the rest of the line, so that what follows can still be read.
func (s *scanner) unclosed(what string) Token {
	rest := s.rest()
	n := strings.IndexByte(rest, '\n')
	if n < 0 {
		n = len(rest)
	}
	t := s.take(Illegal, n)
	t.Value = what
	return t
}

func (s *scanner) bracketed() Token {
	n := strings.IndexByte(s.rest(), ']')
	if n < 0 {
		return s.take(Illegal, 1)
	}
	t := s.take(Quoted, n+1)
	t.Value = t.Text[1:n]
	return t
}

func (s *scanner) blob() Token {
	rest := s.rest()
	n := strings.IndexByte(rest[2:], '\'')
	if n < 0 {
		return s.unclosed("a binary literal that is not closed")
	}
	digits := rest[2 : 2+n]
	if n%2 != 0 || strings.Trim(digits, "0123456789abcdefABCDEF") != "" {
		t := s.take(Illegal, n+3)
		t.Value = "a binary literal that is not pairs of hexadecimal digits"
		return t
	}
	t := s.take(Blob, n+3)
	t.Value = strings.ToLower(digits)
	return t
}

// dollar scans $$…$$ and $tag$…$tag$.
func (s *scanner) dollar() Token {
	rest := s.rest()
	n := strings.IndexByte(rest[1:], '$')
	if n < 0 || strings.ContainsFunc(rest[1:1+n], func(r rune) bool {
		return r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}) {
		return s.take(Illegal, 1)
	}
	tag := rest[:n+2]
	end := strings.Index(rest[len(tag):], tag)
	if end < 0 {
		return s.unclosed("a text between " + tag + " marks that is not closed")
	}
	t := s.take(String, end+2*len(tag))
	t.Value = t.Text[len(tag) : len(tag)+end]
	return t
}

func (s *scanner) number() Token {
	rest := s.rest()
	digits := func(i int) int {
		for i < len(rest) && rest[i] >= '0' && rest[i] <= '9' {
			i++
		}
		return i
	}
	if strings.HasPrefix(rest, "0x") || strings.HasPrefix(rest, "0X") {
		i := 2
		for i < len(rest) && strings.IndexByte("0123456789abcdefABCDEF", rest[i]) >= 0 {
			i++
		}
		if i > 2 {
			return s.take(Number, i)
		}
	}
	i := digits(0)
	if i < len(rest) && rest[i] == '.' {
		i = digits(i + 1)
	}
	if i < len(rest) && (rest[i] == 'e' || rest[i] == 'E') {
		j := i + 1
		if j < len(rest) && (rest[j] == '+' || rest[j] == '-') {
			j++
		}
		if end := digits(j); end > j {
			i = end
		}
	}
	return s.take(Number, i)
}
