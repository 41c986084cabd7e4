package sqltext

import (
	"fmt"
	"slices"
	"strings"
)

// Tidy gives a file in its canonical form with its comments: those between
// statements stay between them, those beside or above a column, constraint or action
// stay beside or above it. Tidying what it gives changes nothing more.
func Tidy(f *File) (string, error) {
	t := tidier{file: f, ends: StatementEnds(f)}
	text := t.all()
	again, err := Parse(f.Name, text)
	if err != nil {
		return "", fmt.Errorf("%s cannot be tidied: %w", f.Name, err)
	}
	if Print(again) != Print(f) || len(again.Comments) != len(f.Comments) {
		return "", fmt.Errorf("%s cannot be tidied without losing something", f.Name)
	}
	return text, nil
}

// StatementEnds gives the offset of the semicolon behind each statement, or of the
// end of the text.
func StatementEnds(f *File) []int {
	tokens, _ := Scan(f.Source, Migration)
	ends := make([]int, len(f.Statements))
	i := 0
	for s, st := range f.Statements {
		ends[s] = len(f.Source)
		for ; i < len(tokens); i++ {
			if tokens[i].Pos.Offset > st.Start().Offset && tokens[i].Is(";") {
				ends[s] = tokens[i].Pos.Offset
				break
			}
		}
	}
	return ends
}

type tidier struct {
	file *File
	ends []int
	next int // the first comment that is not written yet
	out  strings.Builder
}

func (t *tidier) all() string {
	for i, st := range t.file.Statements {
		if t.out.Len() > 0 {
			t.out.WriteByte('\n')
		}
		t.between(st.Start().Offset)
		t.out.WriteString(t.statement(st, t.ends[i]) + ";")
		if c := t.peek(); c != nil && t.ends[i] < len(t.file.Source) && c.Pos.Line == lineOf(t.file.Source, t.ends[i]) &&
			c.isLine() {
			t.out.WriteString(" " + c.Text)
			t.next++
		}
		t.out.WriteByte('\n')
	}
	if t.peek() != nil && t.out.Len() > 0 {
		t.out.WriteByte('\n')
	}
	t.between(len(t.file.Source) + 1)
	return t.out.String()
}

func (t *tidier) peek() *Comment {
	if t.next < len(t.file.Comments) {
		return &t.file.Comments[t.next]
	}
	return nil
}

func (c Comment) isLine() bool { return strings.HasPrefix(c.Text, "--") }

func lineOf(src string, offset int) int { return 1 + strings.Count(src[:offset], "\n") }

// between writes the comments before an offset, each on its own line; those that
// stood apart stay apart.
func (t *tidier) between(offset int) {
	last := 0
	for c := t.peek(); c != nil && c.Pos.Offset < offset; c = t.peek() {
		if last > 0 && c.Pos.Line > last+1 {
			t.out.WriteByte('\n')
		}
		t.out.WriteString(c.Text + "\n")
		last = c.Pos.Line + strings.Count(c.Text, "\n")
		t.next++
	}
	if last > 0 && offset <= len(t.file.Source) && lineOf(t.file.Source, offset) > last+1 {
		t.out.WriteByte('\n')
	}
}

// statement gives the canonical text of a statement with the comments in it.
func (t *tidier) statement(st Statement, end int) string {
	text := PrintStatement(st)
	lines := strings.Split(text, "\n")
	breaks := breaksOf(st, text)
	items := itemsOf(st)
	above, beside := map[int][]string{}, map[int]string{}
	for c := t.peek(); c != nil && c.Pos.Offset < end; c = t.peek() {
		t.next++
		if strings.Contains(text, c.Text) {
			continue // a query's own, which is written with it
		}
		i := slices.IndexFunc(items, func(x item) bool { return x.pos.Offset > c.Pos.Offset })
		if i < 0 {
			i = len(items)
		}
		switch {
		case i > 0 && c.isLine() && (i == len(items) || items[i].pos.Line > c.Pos.Line) && beside[items[i-1].last] == "" &&
			t.lineHolds(c.Pos, items[i-1].pos, items, i):
			beside[items[i-1].last] = c.Text
		case i == len(items):
			above[len(lines)-1+boolInt(!closes(lines))] = append(above[len(lines)-1+boolInt(!closes(lines))], c.Text)
		default:
			above[items[i].first] = append(above[items[i].first], c.Text)
		}
	}
	var b strings.Builder
	for i, l := range lines {
		for _, c := range above[i] {
			b.WriteString("  " + c + "\n")
		}
		from, indent := 0, "\n"+l[:len(l)-len(strings.TrimLeft(l, " "))]+"  "
		for _, at := range breaks[i] {
			b.WriteString(strings.TrimRight(l[from:at], " ") + indent)
			from = at
		}
		b.WriteString(l[from:])
		if c := beside[i]; c != "" {
			b.WriteString(" " + c)
		}
		if i < len(lines)-1 {
			b.WriteByte('\n')
		}
	}
	for _, c := range above[len(lines)] {
		b.WriteString("\n  " + c)
	}
	if len(above[len(lines)]) > 0 || beside[len(lines)-1] != "" {
		b.WriteByte('\n') // the semicolon must not become part of a comment
	}
	return b.String()
}

// longest is how many characters of a column's or an action's line are written as one.
const longest = 100

// breaksOf says at which bytes of a line that is too long another one begins, by the lines
// of a statement's text.
func breaksOf(st Statement, text string) map[int][]int {
	switch st.(type) {
	case *CreateTable, *AlterTable:
	default:
		return nil
	}
	lines := strings.Split(text, "\n")
	tokens, _ := Scan(text, Migration)
	breaks, depth, line, base := map[int][]int{}, 0, 0, 0
	for i, k := range tokens {
		begins := k.Pos.Line != line
		if begins {
			line, base = k.Pos.Line, depth
		}
		switch {
		case k.Is("("):
			depth++
		case k.Is(")"):
			depth--
		case !begins && depth == base && len(lines[line-1]) > longest && startsPart(tokens[i-1], k):
			at := k.Pos.Offset
			for _, l := range lines[:line-1] {
				at -= len(l) + 1
			}
			breaks[line-1] = append(breaks[line-1], at)
		}
	}
	return breaks
}

// startsPart reports whether a part of a column begins with a token, of those that can be long.
func startsPart(before, k Token) bool {
	return !slices.ContainsFunc([]string{"restore", "by", "set"}, before.Is) &&
		slices.ContainsFunc([]string{"generated", "default", "check", "references", "using", "restore", "comment"}, k.Is)
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

func closes(lines []string) bool { return lines[len(lines)-1] == ")" }

// lineHolds reports whether a comment stands behind an item on the line on which the
// item ends, and not on a line of its own.
func (t *tidier) lineHolds(c, from Pos, items []item, next int) bool {
	start := strings.LastIndexByte(t.file.Source[:c.Offset], '\n') + 1
	return strings.TrimSpace(t.file.Source[start:c.Offset]) != "" && from.Offset < c.Offset &&
		(next == len(items) || items[next].pos.Offset > c.Offset)
}

// item is a part of a statement that is printed on lines of its own.
type item struct {
	pos         Pos
	first, last int // lines of the printed statement, from 0
}

func itemsOf(st Statement) []item {
	var list []item
	line := 1
	add := func(pos Pos, text string) {
		n := strings.Count(text, "\n")
		list = append(list, item{pos, line, line + n})
		line += n + 1
	}
	switch st := st.(type) {
	case *CreateTable:
		for _, c := range st.Columns {
			add(c.Pos, PrintColumn(c))
		}
		for _, c := range st.Constraints {
			add(c.Pos, PrintConstraint(c))
		}
	case *AlterTable:
		for _, a := range st.Actions {
			add(a.Start(), PrintAction(a))
		}
	case *Backfill:
		for _, a := range st.Set {
			add(a.Pos, PrintExpr(a.Value))
		}
	}
	return list
}
