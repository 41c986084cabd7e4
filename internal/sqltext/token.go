package sqltext

import "slices"

// Pos is a place in a source text. Line and Column count from 1, Column in
// characters; Offset counts bytes from 0. The zero Pos means "nowhere".
type Pos struct {
	Offset int
	Line   int
	Column int
}

// Known reports whether the position is in a text at all.
func (p Pos) Known() bool { return p.Line > 0 }

// TokenKind is the class of a token.
type TokenKind int

// The classes of token.
const (
	EOF     TokenKind = iota
	Word              // a keyword or an unquoted name, as written
	Quoted            // a quoted name; Value holds it without quotes
	String            // a string literal; Value holds what it stands for
	Number            // an unsigned number literal
	Blob              // x'…'; Value holds the hexadecimal digits
	Op                // an operator or a punctuation mark
	Illegal           // a character or an unfinished literal that no grammar has
)

// Token is one lexical element of a source text.
type Token struct {
	Kind   TokenKind
	Text   string // as written
	Value  string // names and literals without their quotes; words in lower case
	Pos    Pos
	Spaced bool // white space or a comment stands before it
}

// End is the byte offset just behind the token.
func (t Token) End() int { return t.Pos.Offset + len(t.Text) }

// Is reports whether the token is the given keyword (lower case) or operator.
func (t Token) Is(text string) bool {
	return (t.Kind == Word || t.Kind == Op) && t.Value == text
}

// Comment is one comment of a source text, with its marks.
type Comment struct {
	Text string
	Pos  Pos
}

// reserved are the words that cannot stand as an unquoted name in the language,
// because the grammar could not tell them from a keyword there.
var reserved = []string{
	"add", "alter", "and", "as", "asc", "between", "by", "case", "cast", "check", "collate", "column", "constraint",
	"create", "cross", "current_date", "current_time", "current_timestamp", "default", "desc", "distinct", "drop",
	"else", "end", "escape", "except", "exists", "false", "foreign", "from", "generated", "group", "having", "in",
	"inner", "insert", "intersect", "interval", "into", "is", "join", "left", "like", "limit", "not", "null", "on", "or",
	"order", "outer", "primary", "references", "rename", "right", "select", "set", "table", "then", "to", "true",
	"union", "unique", "update", "using", "values", "when", "where", "with",
}

// Reserved reports whether word (lower case) must be quoted to be a name.
func Reserved(word string) bool {
	_, found := slices.BinarySearch(reserved, word)
	return found
}
