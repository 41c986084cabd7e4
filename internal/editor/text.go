package editor

import (
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"lastboard/internal/sqltext"
)

// text is a document, with the units in which its editor counts characters.
type text struct {
	source string
	bytes  bool // UTF-8; else UTF-16
}

// line gives a line, which counts from 0, and the offset at which it begins.
func (t text) line(n int) (string, int) {
	start := 0
	for ; n > 0; n-- {
		i := strings.IndexByte(t.source[start:], '\n')
		if i < 0 {
			return "", len(t.source)
		}
		start += i + 1
	}
	line, _, _ := strings.Cut(t.source[start:], "\n")
	return strings.TrimSuffix(line, "\r"), start
}

// at gives the place of an offset.
func (t text) at(offset int) Position {
	offset = max(0, min(offset, len(t.source)))
	before := t.source[:offset]
	start := strings.LastIndexByte(before, '\n') + 1
	return Position{Line: strings.Count(before, "\n"), Character: t.units(before[start:])}
}

// offset gives the offset of a place; that of the end of the line where there is none so far.
func (t text) offset(p Position) int {
	line, start := t.line(p.Line)
	left := p.Character
	for i, r := range line {
		if left <= 0 {
			return start + i
		}
		left -= t.units(string(r))
	}
	return start + len(line)
}

// units counts the characters of a text as its editor does.
func (t text) units(s string) (n int) {
	if t.bytes {
		return len(s)
	}
	for _, r := range s {
		n += max(1, utf16.RuneLen(r))
	}
	return n
}

// word gives the range of the token at a line and column, which count from 1 and in characters: of
// one character where there is none, and of nothing at the end of a line.
func (t text) word(line, column int) Range {
	whole, start := t.line(max(line-1, 0))
	at := start
	for i, n := 0, max(column-1, 0); n > 0 && i < len(whole); n-- {
		_, size := utf8.DecodeRuneInString(whole[i:])
		i += size
		at = start + i
	}
	end := at
	if at < start+len(whole) {
		_, size := utf8.DecodeRuneInString(t.source[at:])
		end = at + size
	}
	tokens, _ := sqltext.Scan(t.source, sqltext.Migration)
	for _, tok := range tokens {
		if tok.Pos.Offset == at && tok.Kind != sqltext.EOF {
			end = tok.End()
		}
	}
	return Range{t.at(at), t.at(end)}
}

// all is the range of the whole text.
func (t text) all() Range { return Range{End: t.at(len(t.source))} }
