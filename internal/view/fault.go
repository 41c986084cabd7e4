package view

import (
	"errors"
	"fmt"
	"strings"

	"lastboard/internal/core/fault"

	"charm.land/lipgloss/v2"
)

// Failure writes an error with all that a person needs: what is wrong and where,
// which rows, what was changed, and what to do; as JSON, it is the document of the command.
func (p *Printer) Failure(err error) {
	p.clearProgress()
	if p.JSON {
		_ = p.Document(map[string]any{"errors": FaultsJSON(err)})
		return
	}
	for i, f := range faultsOf(err) {
		if i == mostFaults {
			fmt.Fprintf(p.err, "and %d more\n", len(faultsOf(err))-i)
			return
		}
		p.fault(f)
	}
}

// faultsOf gives what an error holds.
func faultsOf(err error) fault.List {
	var list fault.List
	var f *fault.Fault
	switch {
	case err == nil:
		return nil
	case errors.As(err, &list):
		return list
	case errors.As(err, &f):
		return fault.List{f}
	}
	return fault.List{{Level: fault.Error, Message: err.Error()}}
}

// FaultJSON is an error or a finding, for a program.
type FaultJSON struct {
	Level   fault.Level `json:"level"`
	Rule    string      `json:"rule"`
	Message string      `json:"message"`
	Cure    string      `json:"cure"`
	Where   fault.Where `json:"where"`
	Step    int         `json:"step,omitempty"`    // of the migration that was running
	Changed string      `json:"changed,omitempty"` // what was and was not changed
	Samples [][]string  `json:"samples,omitempty"`
}

// FaultsJSON gives all that an error holds; nothing is an empty list.
func FaultsJSON(err error) []FaultJSON {
	out := []FaultJSON{}
	for _, f := range faultsOf(err) {
		out = append(out, FaultJSON{f.Level, f.Rule, f.Message, f.Cure, f.Where, f.Step, f.Changed, f.Samples})
	}
	return out
}

// mostFaults are as many as are written of one kind of input at once.
const mostFaults = 50

// window is how much is shown of a source line that is longer, in characters, and
// longestMessage how much of a message.
const (
	window         = 160
	longestMessage = 1000
)

// cutAround cuts a line that is too long, for a terminal of some width too, so that the character
// at a place, from 0, stays in it. It gives where that is now.
func cutAround(line []rune, at, width int) ([]rune, int) {
	at, room := min(at, len(line)), window
	if width > narrowest {
		room = min(room, width-2)
	}
	if len(line) <= room {
		return line, at
	}
	from := max(0, min(at-room/2, len(line)-room))
	return line[from : from+room], at - from
}

func (p *Printer) fault(f *fault.Fault) {
	for _, l := range faultLines(f, p.errWidth) {
		fmt.Fprintln(p.err, l)
	}
}

// Finding writes a finding as part of the result.
func (p *Printer) Finding(f *fault.Fault) {
	for _, l := range faultLines(f, p.width) {
		p.Verbatim("%s", l)
	}
}

// Findings writes findings as the result, a blank line apart.
func (p *Printer) Findings(list fault.List) {
	var lines []string
	for i, f := range list {
		if i > 0 {
			lines = append(lines, "")
		}
		lines = append(lines, faultLines(f, p.width)...)
	}
	if len(list) == 0 {
		lines = []string{"nothing found"}
	}
	p.Verbatim("%s", strings.Join(lines, "\n"))
}

// faultLines gives the lines of a finding, within a width; 0 is none.
func faultLines(f *fault.Fault, width int) []string {
	where := ""
	if f.Where.File != "" {
		where = fmt.Sprintf("%s:%d:%d: ", f.Where.File, f.Where.Line, f.Where.Column)
	}
	style := bad
	switch f.Level {
	case fault.Warning:
		style = warn
	case fault.Note:
		style = sea
	}
	level := string(f.Level)
	if f.Rule != "" && f.Rule != "syntax" {
		level += " " + f.Rule
	}
	message := f.Message
	if len(message) > longestMessage {
		message = strings.ToValidUTF8(message[:longestMessage], "") + "…"
	}
	lines := hung(where+style.Render(level+":")+" "+message, width)
	if f.Source != "" {
		line, at := cutAround([]rune(strings.ReplaceAll(f.Source, "\t", " ")), max(1, f.Where.Column)-1, width)
		lead := line[:at]
		lines = append(lines, "  "+string(line), "  "+strings.Repeat(" ", lipgloss.Width(string(lead)))+style.Render("^"))
	}
	if len(f.Samples) > 0 {
		var rows []string
		for _, s := range f.Samples {
			rows = append(rows, oneLine(strings.Join(s, " ")))
		}
		lines = append(lines, hung("  for example: "+strings.Join(rows, " · "), width)...)
	}
	if f.Changed != "" {
		lines = append(lines, hung(f.Changed, width)...)
	}
	if f.Cure != "" {
		lines = append(lines, hung(good.Render("cure:")+" "+f.Cure, width)...)
	}
	return lines
}
