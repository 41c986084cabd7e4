package test

import (
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"lastboard/internal/cli"
)

// everyCommand lists the commands, without pages of help and what completes command lines.
func everyCommand() (list []*cobra.Command) {
	for _, c := range cli.Root().Commands() {
		if c.Runnable() && !c.Hidden && c.Name() != "help" {
			list = append(list, c)
		}
	}
	return list
}

// TestEveryCommand is that each command has help with examples that it takes, says of flags, arguments and
// names that there are not which are near, is completed by names instead of files, and has its JSON on the
// page about that.
func TestEveryCommand(t *testing.T) {
	page, err := os.ReadFile("../docs/json.md")
	if err != nil {
		t.Fatal(err)
	}
	o := &office{T: t, dir: t.TempDir()}
	commands := everyCommand()
	if len(commands) < 20 {
		t.Fatalf("%d commands", len(commands))
	}
	for _, c := range commands {
		t.Run(c.Name(), func(t *testing.T) {
			o := *o
			o.T = t
			help := o.code(0, c.Name(), "--help")
			o.wants(help, "Usage:", "lastboard "+c.Name(), "Examples:", "Flags of every command:")
			if strings.TrimSpace(c.Long) == "" || strings.TrimSpace(c.Short) == "" {
				t.Error("its help says nothing")
			}
			examples := 0
			for line := range strings.SplitSeq(c.Example, "\n") {
				if line = strings.TrimSpace(line); line == "" {
					continue
				}
				line = strings.TrimSuffix(strings.TrimPrefix(line, "source <("), ")")
				line, _, _ = strings.Cut(line, " >")
				line, _, _ = strings.Cut(line, " |")
				words := shellWords(line)
				at := slices.Index(words, "lastboard")
				if at < 0 {
					t.Errorf("an example of something else: %s", line)
					continue
				}
				root := cli.Root()
				found, rest, err := root.Find(words[at+1:])
				if err == nil && found.Name() == c.Name() {
					examples++
				}
				if err == nil {
					err = found.ParseFlags(rest)
				}
				if err == nil && found.Args != nil {
					err = found.Args(found, found.Flags().Args())
				}
				if err != nil {
					t.Errorf("%s: %v", line, err)
				}
			}
			if examples == 0 {
				t.Error("it has no example of its own")
			}
			o.wants(o.code(2, c.Name(), "--qzx"), "there is no flag --qzx for lastboard "+c.Name(), "lastboard help "+c.Name())
			o.wants(o.code(2, c.Name(), "--no-colr"), "did you mean --no-color?")
			o.code(2, append([]string{c.Name()}, strings.Fields("one two three four five")...)...)
			typo := c.Name()[:1] + c.Name()[2:] // without its second letter
			o.wants(o.code(2, typo), "there is no command "+typo+": did you mean")
			if list := o.code(0, "__complete", c.Name(), ""); !slices.Contains([]string{"demo", "init"}, c.Name()) &&
				strings.Contains(list.String(), ":0\n") {
				t.Errorf("files complete it: %s", list)
			}
			section := "\n## " + c.Name()
			if c.Name() == "settle" || c.Name() == "retreat" {
				section = "\n## advance, settle, retreat"
			}
			if !strings.Contains(string(page), section) && c.Name() != "completion" && c.Name() != "editor" {
				t.Error("the page about JSON has nothing of it")
			}
		})
	}
}

// shellWords gives the words of a command line with quotes around some.
func shellWords(line string) (list []string) {
	var word strings.Builder
	quote := rune(0)
	begun := false
	for _, r := range line {
		switch {
		case quote == 0 && (r == '"' || r == '\''):
			quote, begun = r, true
		case r == quote:
			quote = 0
		case quote == 0 && r == ' ':
			if begun {
				list = append(list, word.String())
			}
			word.Reset()
			begun = false
		default:
			word.WriteRune(r)
			begun = true
		}
	}
	if begun {
		list = append(list, word.String())
	}
	return list
}
