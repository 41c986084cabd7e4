// Package view is what people see: tables, colours, progress, errors with carets,
// and JSON. It computes nothing and asks no database.
//
// Start reading at [Printer].
package view

import (
	"encoding/json"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/charmbracelet/colorprofile"
	"golang.org/x/term"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// Printer writes results to one place and notes to another; each is plain text
// unless it is a terminal.
type Printer struct {
	out, err   io.Writer
	width      int  // of the terminal; 0 when there is none
	errWidth   int  // of that on which notes stand
	errIsTerm  bool // progress can be drawn
	JSON       bool
	Quiet      bool
	lastLength int // of the progress line that stands on the terminal
	database   any // which one one is on, for JSON; nil while there is none
}

// New makes a printer for two files, as a rule standard output and standard
// error.
func New(out, errs *os.File, asJSON, quiet, noColor bool) *Printer {
	p := &Printer{JSON: asJSON, Quiet: quiet, errIsTerm: term.IsTerminal(int(errs.Fd()))}
	if w, _, err := term.GetSize(int(out.Fd())); err == nil {
		p.width = w
	}
	if w, _, err := term.GetSize(int(errs.Fd())); err == nil {
		p.errWidth = w
	}
	to := func(f *os.File) io.Writer {
		w := colorprofile.NewWriter(f, os.Environ())
		if noColor || os.Getenv("NO_COLOR") != "" {
			w.Profile = colorprofile.NoTTY // nor bold
		}
		return calm{w}
	}
	p.out, p.err = to(out), to(errs)
	return p
}

// The styles: what a person looks for stands out, the rest is quiet. The colours are those that the
// terminal has been given for dark and light; yellow cannot be read on white.
var (
	bold  = lipgloss.NewStyle().Bold(true)
	faint = lipgloss.NewStyle().Faint(true)
	good  = lipgloss.NewStyle().Foreground(lipgloss.Color("2"))
	warn  = lipgloss.NewStyle().Foreground(lipgloss.Color("5")).Bold(true)
	bad   = lipgloss.NewStyle().Foreground(lipgloss.Color("1")).Bold(true)
	sea   = lipgloss.NewStyle().Foreground(lipgloss.Color("6"))
)

// Line writes a line of the result, on several where the terminal is too narrow.
func (p *Printer) Line(format string, args ...any) {
	if !p.JSON {
		fmt.Fprintln(p.out, strings.Join(hung(fmt.Sprintf(format, args...), p.width), "\n"))
	}
}

// Verbatim writes what a person may copy, which is never broken: statements, and lines under which
// something points.
func (p *Printer) Verbatim(format string, args ...any) {
	if !p.JSON {
		fmt.Fprintf(p.out, format+"\n", args...)
	}
}

// Title writes a line that begins a part of the result.
func (p *Printer) Title(format string, args ...any) {
	p.Line("%s", bold.Render(fmt.Sprintf(format, args...)))
}

// Note writes a line that is not part of the result.
func (p *Printer) Note(format string, args ...any) {
	if p.Quiet || p.JSON {
		return
	}
	p.clearProgress()
	fmt.Fprintln(p.err, strings.Join(hung(fmt.Sprintf(format, args...), p.errWidth), "\n"))
}

// Document writes the one JSON document of a command, with the database that one is on.
func (p *Printer) Document(doc map[string]any) error {
	if _, there := doc["database"]; !there && p.database != nil {
		doc["database"] = p.database
	}
	return p.document(doc)
}

func (p *Printer) document(v any) error {
	e := json.NewEncoder(p.out)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// Result writes what came of a command that wrote objects before, with the database that one is on.
func (p *Printer) Result(v any) error {
	out := map[string]any{"result": v}
	if p.database != nil {
		out["database"] = p.database
	}
	return p.Object(out)
}

// Object writes one line of JSON.
func (p *Printer) Object(v any) error {
	e := json.NewEncoder(p.out)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// Database says which database one is on.
func (p *Printer) Database(name string, i engine.Info, live bool) {
	p.database = databaseJSON{name, i.Engine, i.Version, live}
	if p.JSON || p.Quiet {
		return
	}
	text := "on " + bold.Render(name) + ": " + i.Title + " " + i.Version + ", " + i.Name
	if i.Host != "" {
		text += " at " + i.Host
	}
	switch {
	case i.Missing:
		text += ", " + warn.Render("not there yet")
	case live:
		text += ", " + warn.Render("live")
	default:
		text += ", not live"
	}
	p.Line("%s\n", text)
}

// Table writes rows under headings, aligned, within the terminal's width.
func (p *Printer) Table(headings []string, rows [][]string) { p.styledTable(headings, rows, nil) }

// styledTable is Table with a style for some values: the values themselves are
// plain, so that nothing in them can draw on the terminal.
func (p *Printer) styledTable(headings []string, rows [][]string,
	style func(column int, value string) (lipgloss.Style, bool)) {
	if p.JSON {
		return
	}
	for _, l := range p.tableLines(headings, rows, style) {
		fmt.Fprintln(p.out, l)
	}
}

func (p *Printer) tableLines(headings []string, rows [][]string,
	style func(int, string) (lipgloss.Style, bool)) []string {
	headings, clean := oneLines(headings), make([][]string, len(rows))
	for r, row := range rows {
		clean[r] = oneLines(append(slices.Clone(row), make([]string, max(0, len(headings)-len(row)))...)[:len(headings)])
	}
	headings, shown, kept, ok := fit(headings, clean, p.width)
	if !ok {
		return stacked(headings, clean, p.width, style)
	}
	t := table.New().Row(headings...).Rows(shown...).
		BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).BorderHeader(false).
		StyleFunc(func(row, col int) lipgloss.Style {
			s := lipgloss.NewStyle().PaddingRight(2)
			if col == 0 {
				s = s.PaddingLeft(2)
			}
			if row == 0 {
				s = s.Faint(true)
			} else if style != nil {
				if own, ok := style(kept[col], clean[row-1][kept[col]]); ok {
					s = s.Inherit(own)
				}
			}
			if numeric(clean, kept[col]) {
				s = s.Align(lipgloss.Right)
			}
			return s
		})
	lines := strings.Split(t.Render(), "\n")
	for i, l := range lines {
		lines[i] = strings.TrimRight(l, " ")
	}
	return lines
}

// numeric reports whether a column holds numbers alone.
func numeric(rows [][]string, col int) bool {
	found := false
	for _, r := range rows {
		if strings.Trim(r[col], "0123456789,.-+") != "" && r[col] != "null" {
			return false
		}
		found = found || r[col] != "" && r[col] != "-" && r[col] != "null"
	}
	return found
}

// oneLine makes a value fit for a cell: no line ends, no control characters.
func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\t' || r == '\r':
			return ' '
		case steers(r):
			return '�'
		}
		return r
	}, s)
}

// Plural writes a number with what it counts.
func Plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Count(int64(n)) + " " + many
}

// rowCount says how many rows there are.
func rowCount(n int64) string {
	if n == 1 {
		return "1 row"
	}
	return Count(n) + " rows"
}

// Count writes a number with its thousands apart.
func Count(n int64) string {
	s := fmt.Sprint(n)
	sign := ""
	if strings.HasPrefix(s, "-") {
		sign, s = "-", s[1:]
	}
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return sign + s
}

// Size writes bytes as people say them.
func Size(n int64) string { return engine.Size(n) }

// Seconds writes a time as people say it.
func Seconds(s float64) string {
	switch {
	case s < 0.0005:
		return "0 s"
	case s < 1:
		return fmt.Sprintf("%.0f ms", s*1000)
	case s < 100:
		return fmt.Sprintf("%.1f s", s)
	}
	return fmt.Sprintf("%d min %d s", int(s)/60, int(s)%60)
}

// Estimate writes a time that is a guess, without pretending to know it well.
func Estimate(s float64) string {
	switch {
	case s < 0.01:
		return "under 10 ms"
	case s < 1:
		return fmt.Sprintf("~%.0f ms", math.Round(s*100)*10)
	case s < 10:
		return fmt.Sprintf("~%.1f s", s)
	}
	return "~" + Seconds(math.Round(s))
}

// Value writes a value of a row.
func Value(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case []byte:
		if len(v) > 16 {
			return fmt.Sprintf("x'%x…' (%d bytes)", v[:16], len(v))
		}
		return fmt.Sprintf("x'%x'", v)
	case string:
		if r := []rune(v); len(r) > 60 {
			return string(r[:59]) + "…"
		}
		return v
	case float64:
		return strings.TrimSuffix(fmt.Sprintf("%v", v), ".0")
	}
	return fmt.Sprint(v)
}

// Typed writes a value of a column as its type has it: an engine may have no numbers with places,
// and no truth values.
func Typed(c *schema.Column, v any) string {
	if c == nil {
		return Value(v)
	}
	switch {
	case c.Type.Name == "boolean" && (v == int64(0) || v == int64(1)):
		return fmt.Sprint(v == int64(1))
	case c.Type.Name == "numeric" && len(c.Type.Args) == 2:
		switch n := v.(type) {
		case int64:
			v = float64(n)
		case float64:
		default:
			return Value(v)
		}
		return strconv.FormatFloat(v.(float64), 'f', c.Type.Args[1], 64)
	}
	return Value(v)
}

// Rows writes what a query gave.
func (p *Printer) Rows(r *engine.Rows) { p.RowsOf(nil, r) }

// RowsOf writes rows of a table.
func (p *Printer) RowsOf(t *schema.Table, r *engine.Rows) {
	columns := make([]*schema.Column, len(r.Columns))
	for i, name := range r.Columns {
		if t != nil {
			columns[i] = t.Column(name)
		}
	}
	rows := make([][]string, len(r.Values))
	for i, v := range r.Values {
		for n, x := range v {
			rows[i] = append(rows[i], Typed(columns[n], x))
		}
	}
	p.styledTable(r.Columns, rows, func(_ int, v string) (lipgloss.Style, bool) { return faint, v == "null" })
}
