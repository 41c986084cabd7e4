package view

import (
	"io"
	"os"
	"os/exec"
	"strings"

	"github.com/charmbracelet/colorprofile"
	"golang.org/x/term"

	"lastboard/internal/pattern"
)

// widest is how long a line of text is at the most, whatever the terminal has room for.
const widest = 100

// Page writes a page of the guides, which are Markdown, as a person reads it; one that is longer than
// the terminal goes through a pager: $PAGER, or less.
func (p *Printer) Page(markdown string) {
	text := strings.Join((&page{room: p.Room()}).lines(markdown), "\n") + "\n"
	if p.pages(text) {
		return
	}
	io.WriteString(p.out, text)
}

// pages lets a pager show a text; it reports false where there is none, or no need of one.
func (p *Printer) pages(text string) bool {
	_, height, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil || strings.Count(text, "\n") < height {
		return false
	}
	with := strings.Fields(os.Getenv("PAGER"))
	if len(with) == 0 {
		with = []string{"less", "-FRX"}
	}
	path, err := exec.LookPath(with[0])
	if err != nil {
		return false
	}
	c := exec.Command(path, with[1:]...)
	c.Stdout, c.Stderr = os.Stdout, os.Stderr
	in, err := c.StdinPipe()
	if err != nil || c.Start() != nil {
		return false
	}
	w := colorprofile.Writer{Forward: in, Profile: colorprofile.Detect(os.Stdout, os.Environ())}
	if os.Getenv("NO_COLOR") != "" {
		w.Profile = colorprofile.NoTTY
	}
	io.WriteString(&w, text) // who has seen enough closes it
	in.Close()
	_ = c.Wait()
	return true
}

// page turns Markdown into lines.
type page struct {
	room int
	out  []string
}

func (g *page) lines(markdown string) []string {
	lines := strings.Split(strings.TrimSpace(markdown), "\n")
	for i := 0; i < len(lines); {
		line, n := lines[i], 1
		switch {
		case strings.TrimSpace(line) == "":
			g.out = append(g.out, "")
		case strings.HasPrefix(line, "```"):
			for i+n < len(lines) && !strings.HasPrefix(lines[i+n], "```") {
				g.out = append(g.out, "    "+lines[i+n])
				n++
			}
			n++
		case strings.HasPrefix(line, "#"):
			g.out = append(g.out, bold.Render(inline(strings.TrimSpace(strings.TrimLeft(line, "#")))))
		case strings.HasPrefix(line, "|"):
			for i+n < len(lines) && strings.HasPrefix(lines[i+n], "|") {
				n++
			}
			g.table(lines[i : i+n])
		default:
			for i+n < len(lines) && goesOn(lines[i+n]) {
				n++
			}
			g.paragraph(lines[i : i+n])
		}
		i += n
	}
	return g.out
}

var marked = pattern.Of(`^ *([-*]|[0-9]+\.) `)

// goesOn reports whether a line belongs to the paragraph above it.
func goesOn(line string) bool {
	return strings.TrimSpace(line) != "" && !marked().MatchString(line) && !strings.HasPrefix(line, "#") &&
		!strings.HasPrefix(line, "|") && !strings.HasPrefix(line, "```")
}

// paragraph writes one, or a point of a list, what goes on of it below its beginning.
func (g *page) paragraph(lines []string) {
	text := strings.TrimRight(lines[0], " ")
	for _, l := range lines[1:] {
		text += " " + strings.TrimSpace(l)
	}
	lead := marked().FindString(text)
	g.out = append(g.out, wrapped(lead+inline(text[len(lead):]), g.room, len(lead))...)
}

// table writes one: its first line is the headings, its second their rule.
func (g *page) table(lines []string) {
	var rows [][]string
	for i, l := range lines {
		if i == 1 {
			continue
		}
		var cells []string
		for cell := range strings.SplitSeq(strings.Trim(strings.ReplaceAll(l, `\|`, "\x00"), "| "), "|") {
			cells = append(cells, plain(strings.TrimSpace(strings.ReplaceAll(cell, "\x00", "|"))))
		}
		rows = append(rows, cells)
	}
	at := Printer{width: g.room}
	g.out = append(g.out, at.tableLines(rows[0], rows[1:], nil)...)
}

var (
	link     = pattern.Of(`\[([^\]]+)\]\([^)]*\)`)
	strong   = pattern.Of(`\*\*([^*]+)\*\*`)
	verbatim = pattern.Of("`([^`]+)`")
)

// inline gives a text with what is strong or verbatim in it as a terminal shows that.
func inline(text string) string {
	text = link().ReplaceAllString(text, "$1")
	text = strong().ReplaceAllStringFunc(text, func(s string) string { return bold.Render(strings.Trim(s, "*")) })
	return verbatim().ReplaceAllStringFunc(text, func(s string) string { return sea.Render(strings.Trim(s, "`")) })
}

// plain gives a text without its marks.
func plain(text string) string {
	return verbatim().ReplaceAllString(strong().ReplaceAllString(link().ReplaceAllString(text, "$1"), "$1"), "$1")
}
