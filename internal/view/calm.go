package view

import (
	"fmt"
	"io"
	"strings"

	"lastboard/internal/pattern"
)

// calm is a writer on which nothing can steer a terminal but colours: a name in somebody
// else's table may hold anything.
type calm struct{ to io.Writer }

// style is what colours a text (ECMA-48, select graphic rendition).
var style = pattern.Of("\x1b\\[[0-9;:]*m")

// Write implements io.Writer. What it writes is longer where something is written out.
func (c calm) Write(text []byte) (int, error) {
	s := string(text)
	if strings.IndexFunc(s, steers) < 0 {
		return c.to.Write(text)
	}
	var b strings.Builder
	last := 0
	for _, at := range append(style().FindAllStringIndex(s, -1), []int{len(s), len(s)}) {
		for _, r := range s[last:at[0]] {
			if steers(r) {
				fmt.Fprintf(&b, `\u%04x`, r)
			} else {
				b.WriteRune(r)
			}
		}
		b.WriteString(s[at[0]:at[1]])
		last = at[1]
	}
	if _, err := io.WriteString(c.to, b.String()); err != nil {
		return 0, err
	}
	return len(text), nil
}

// steers reports whether a character does something on a terminal, or turns the direction
// of what is around it.
func steers(r rune) bool {
	switch {
	case r == '\n' || r == '\r' || r == '\t':
		return false
	case r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0:
		return true
	}
	return r == 0x61c || r == 0x200e || r == 0x200f || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}
