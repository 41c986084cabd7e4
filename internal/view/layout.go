package view

import (
	"slices"
	"strings"

	"charm.land/lipgloss/v2"

	"lastboard/internal/pattern"
)

// How text and tables fit a terminal: no word and no number is ever broken.

// narrowest is the width below which nothing is fitted: no terminal is so narrow.
const narrowest = 20

// atomic is how long a number with its unit is, which stays on one line: "1.8 s", "under 10 ms".
const atomic = 11

// spared are the columns that a table can do without where there is no room for all, by their
// headings, the first to go first.
var spared = []string{"holds", "by", "kind", "size"}

// wrapped breaks a line between its words so that it fits a width, as far as its words do. Lines
// after the first begin with so many blanks.
func wrapped(line string, width, indent int) []string {
	if width <= 0 || lipgloss.Width(line) <= width {
		return []string{line}
	}
	indent = min(indent, width*2/3)
	var lines []string
	begun, used := "", 0
	for i, word := range strings.Split(line, " ") {
		n := lipgloss.Width(word)
		switch {
		case i == 0:
			begun, used = word, n
		case used+1+n <= width:
			begun, used = begun+" "+word, used+1+n
		case word == "":
		default:
			lines = append(lines, strings.TrimRight(begun, " "))
			begun, used = strings.Repeat(" ", indent)+word, indent+n
		}
	}
	return append(lines, strings.TrimRight(begun, " "))
}

// gap is what stands between a word and what is said of it.
var gap = pattern.Of(`^ *\S.*?  +`)

// hung breaks each line of a text; what does not fit goes on below, a little further in, or where
// what is said of a word began.
func hung(text string, width int) []string {
	if width < narrowest {
		return []string{text}
	}
	var lines []string
	for line := range strings.SplitSeq(text, "\n") {
		indent := len(line) - len(strings.TrimLeft(line, " ")) + 2
		if n := lipgloss.Width(gap().FindString(line)); n < width*2/3 {
			indent = max(indent, n)
		}
		lines = append(lines, wrapped(line, width, indent)...)
	}
	return lines
}

// Room is how wide a text may be.
func (p *Printer) Room() int {
	if p.width < narrowest {
		return widest
	}
	return min(widest, p.width)
}

// Prose writes text whose paragraphs stand apart, and whose lines that begin with a blank stand for
// themselves.
func (p *Printer) Prose(text string) {
	var begun string
	end := func() {
		if begun != "" {
			p.Verbatim("%s", strings.Join(wrapped(begun, p.Room(), 0), "\n"))
		}
		begun = ""
	}
	for line := range strings.SplitSeq(text, "\n") {
		switch {
		case line == "" || line[0] == ' ':
			end()
			p.Verbatim("%s", strings.Join(hung(line, p.Room()), "\n"))
		case begun == "":
			begun = line
		default:
			begun += " " + line
		}
	}
	end()
}

// Hanging writes a text behind a lead, and what does not fit below where the text began.
func (p *Printer) Hanging(lead, text string) {
	for _, l := range wrapped(lead+text, p.width, lipgloss.Width(lead)) {
		p.Verbatim("%s", l)
	}
}

// oneLines gives values with nothing in them that could draw on the terminal.
func oneLines(values []string) []string {
	list := make([]string, len(values))
	for i, v := range values {
		list[i] = oneLine(v)
	}
	return list
}

// fit gives a table as there is room for it in a terminal, 0 for as much as it takes: its headings
// and rows, with ends of lines between words, and which of the columns are kept; ok is false where
// even that is too wide.
func fit(headings []string, rows [][]string, width int) (heads []string, cells [][]string, kept []int, ok bool) {
	natural, least := make([]int, len(headings)), make([]int, len(headings))
	for i, h := range headings {
		kept = append(kept, i)
		natural[i], least[i] = lipgloss.Width(h), leastWidth(h)
		for _, row := range rows {
			natural[i] = max(natural[i], lipgloss.Width(row[i]))
			least[i] = max(least[i], leastWidth(row[i]))
		}
	}
	if width < narrowest || sum(natural)+2*len(kept) <= width {
		return headings, rows, kept, true
	}
	widths, ok := columns(at(natural, kept), at(least, kept), width-2*len(kept))
	for i := 0; !ok; i++ {
		if i == len(spared) {
			return headings, rows, kept, false
		}
		kept = slices.DeleteFunc(kept, func(k int) bool { return headings[k] == spared[i] })
		widths, ok = columns(at(natural, kept), at(least, kept), width-2*len(kept))
	}
	broken := func(row []string) (list []string) {
		for n, i := range kept {
			list = append(list, strings.Join(wrapped(row[i], widths[n], 0), "\n"))
		}
		return list
	}
	for _, row := range rows {
		cells = append(cells, broken(row))
	}
	return broken(headings), cells, kept, true
}

// at gives the values at some places of a list.
func at(list, places []int) []int {
	picked := make([]int, len(places))
	for i, place := range places {
		picked[i] = list[place]
	}
	return picked
}

// columns gives the widths of a table's columns in a terminal, from what they would take and what
// they need so that no word is broken; ok is false where that is too much.
func columns(natural, least []int, width int) (list []int, ok bool) {
	list = append(list, least...)
	left := width
	for _, n := range least {
		left -= n
	}
	if left < 0 {
		return nil, false
	}
	for given := true; given && left > 0; { // a character each in turn, so that short columns are full first
		given = false
		for i := range list {
			if list[i] < natural[i] && left > 0 {
				list[i]++
				left--
				given = true
			}
		}
	}
	return list, true
}

// leastWidth is how wide a value has to be: as its longest word, or as a number with its unit.
func leastWidth(value string) int {
	if n := lipgloss.Width(value); n <= atomic && strings.ContainsAny(value, "0123456789") {
		return n
	}
	least := 0
	for word := range strings.SplitSeq(value, " ") {
		least = max(least, lipgloss.Width(word))
	}
	return least
}

// stacked writes the rows of a table that is too wide one below the other, each value behind its
// heading; values that are empty are left out.
func stacked(headings []string, rows [][]string, width int, style func(int, string) (lipgloss.Style, bool)) []string {
	widest := 0
	for _, h := range headings {
		widest = max(widest, lipgloss.Width(h))
	}
	var lines []string
	for r, row := range rows {
		if r > 0 {
			lines = append(lines, "")
		}
		for i, v := range row {
			if v == "" {
				continue
			}
			text := v
			if style != nil {
				if s, ok := style(i, v); ok {
					text = s.Render(v)
				}
			}
			lead := "  " + faint.Render(pad(headings[i], widest)) + "  "
			if widest == 0 {
				lead = "  "
			}
			lines = append(lines, wrapped(lead+text, width, lipgloss.Width(lead))...)
		}
	}
	return lines
}

func sum(list []int) (n int) {
	for _, v := range list {
		n += v
	}
	return n
}
