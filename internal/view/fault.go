package view

import (
	"errors"
	"fmt"
	"strings"

	"lastboard/internal/core/fault"
)

// Failure writes an error with all that a person needs: what is wrong and where,
// which rows, what was changed, and what to do.
func (p *Printer) Failure(err error) {
	p.clearProgress()
	var list fault.List
	if errors.As(err, &list) {
		for _, f := range list {
			p.fault(f)
		}
		return
	}
	var f *fault.Fault
	if !errors.As(err, &f) {
		f = &fault.Fault{Level: fault.Error, Message: err.Error()}
	}
	p.fault(f)
}

func (p *Printer) fault(f *fault.Fault) {
	for _, l := range faultLines(f) {
		fmt.Fprintln(p.err, l)
	}
}

// Finding writes a finding as part of the result.
func (p *Printer) Finding(f *fault.Fault) {
	for _, l := range faultLines(f) {
		p.Line("%s", l)
	}
}

// Findings writes findings as the result, a blank line apart.
func (p *Printer) Findings(list fault.List) {
	var lines []string
	for i, f := range list {
		if i > 0 {
			lines = append(lines, "")
		}
		lines = append(lines, faultLines(f)...)
	}
	if len(list) == 0 {
		lines = []string{"nothing found"}
	}
	p.Line("%s", strings.Join(lines, "\n"))
}

func faultLines(f *fault.Fault) []string {
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
	lines := []string{where + style.Render(level+":") + " " + f.Message}
	if f.Source != "" {
		column := max(1, f.Where.Column)
		lead := []rune(strings.ReplaceAll(f.Source, "\t", " "))
		lead = lead[:min(len(lead), column-1)]
		lines = append(lines, "  "+strings.ReplaceAll(f.Source, "\t", " "), "  "+strings.Repeat(" ", width(string(lead)))+style.Render("^"))
	}
	if len(f.Samples) > 0 {
		var rows []string
		for _, s := range f.Samples {
			rows = append(rows, oneLine(strings.Join(s, " ")))
		}
		lines = append(lines, "  for example: "+strings.Join(rows, " · "))
	}
	if f.Changed != "" {
		lines = append(lines, f.Changed)
	}
	if f.Cure != "" {
		lines = append(lines, good.Render("cure:")+" "+f.Cure)
	}
	return lines
}
