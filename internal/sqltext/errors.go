package sqltext

import (
	"fmt"
	"strings"
)

// Error is one thing wrong with a source text.
type Error struct {
	File    string // as the caller named it
	Pos     Pos
	Message string // one sentence, no full stop
	Cure    string // what to do about it; may be empty
	Line    string // the source line at Pos, without its end
}

// Error gives "file:line:column: message".
func (e *Error) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Pos.Line, e.Pos.Column, e.Message)
}

// Errors is all that is wrong with a source text, in its order.
type Errors []*Error

func (l Errors) Error() string {
	lines := make([]string, len(l))
	for i, e := range l {
		lines[i] = e.Error()
	}
	return strings.Join(lines, "\n")
}

// SourceLine gives line number n (from 1) of src without its end, or "".
func SourceLine(src string, n int) string {
	src = strings.TrimPrefix(src, "\ufeff")
	for i := 1; ; i++ {
		line, rest, more := strings.Cut(src, "\n")
		if i == n {
			return strings.TrimRight(line, "\r")
		}
		if !more {
			return ""
		}
		src = rest
	}
}

// Nearest gives the candidate that is closest to word, if any is close enough
// to be a slip of the keys: at most a third of its letters away.
func Nearest(word string, candidates []string) (string, bool) {
	best, bestDistance := "", len(word)
	for _, c := range candidates {
		if d := distance(strings.ToLower(word), strings.ToLower(c)); d < bestDistance {
			best, bestDistance = c, d
		}
	}
	limit := max(1, (len(word)+1)/3)
	return best, best != "" && bestDistance > 0 && bestDistance <= limit
}

// distance counts the insertions, deletions, replacements and swaps of
// neighbours that turn a into b (optimal string alignment).
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	rows := make([][]int, len(x)+1)
	for i := range rows {
		rows[i] = make([]int, len(y)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(x); i++ {
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(x)][len(y)]
}
