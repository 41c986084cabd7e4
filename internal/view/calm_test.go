package view

import (
	"bytes"
	"errors"
	"testing"
)

// Whatever a name holds, a terminal is not steered by it; colours stay.
func TestNothingSteersATerminal(t *testing.T) {
	for text, want := range map[string]string{
		"plain ünï 名前 ⚓\n": "plain ünï 名前 ⚓\n", "a\tb\r\n": "a\tb\r\n",
		"\x1b[1mbold\x1b[0m": "\x1b[1mbold\x1b[0m", "\x1b[38;5;73msea\x1b[m": "\x1b[38;5;73msea\x1b[m",
		"\x1b[2Jgone": `\u001b[2Jgone`, "\x1b]0;title\x07": `\u001b]0;title\u0007`,
		"\x1b[1mx\x1b[3A": "\x1b[1mx" + `\u001b[3A`, "bell\a": `bell\u0007`, "\x00": `\u0000`, "\x7f": `\u007f`,
		"\u009b2J":    `\u009b2J`,
		"\u202eright": `\u202eright`, "\u2066a\u2069": `\u2066a\u2069`, "\u200f": `\u200f`, "👩\u200d🚀": "👩\u200d🚀",
	} {
		var b bytes.Buffer
		n, err := calm{&b}.Write([]byte(text))
		if n != len(text) || err != nil || b.String() != want {
			t.Errorf("%q is written as %q (%d, %v), wanted %q", text, b.String(), n, err, want)
		}
	}
}

// closed takes nothing.
type closed struct{}

func (closed) Write([]byte) (int, error) { return 0, errors.New("closed") }

func TestACalmWriterTellsErrors(t *testing.T) {
	for _, text := range []string{"plain", "\x1b[2J"} {
		if n, err := (calm{closed{}}).Write([]byte(text)); n != 0 || err == nil {
			t.Errorf("%q: %d, %v", text, n, err)
		}
	}
}
