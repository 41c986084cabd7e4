package view

import (
	"strings"

	"charm.land/lipgloss/v2"

	"lastboard/internal/core/audit"
)

// Audit writes what differs from what the migrations say, and what would mend it.
func (p *Printer) Audit(list []audit.Finding) {
	if len(list) == 0 {
		p.Line("%s the tables are what the migrations say, and the files are those that ran", good.Render("matches:"))
		return
	}
	for len(list) > 0 {
		n := 1
		for n < len(list) && list[n].Table == list[0].Table && list[n].Mend == list[0].Mend {
			n++
		}
		p.auditGroup(list[:n])
		list = list[n:]
	}
}

// auditGroup writes differences that the same statements would mend.
func (p *Printer) auditGroup(list []audit.Finding) {
	rows := make([][]string, len(list))
	for i, f := range list {
		what := strings.TrimSpace(f.Object + " " + f.Name)
		if f.Attribute != "exists" {
			what += ": " + f.Attribute
		}
		rows[i] = []string{what, presence(f.Expected, f.Attribute, "not there"), presence(f.Found, f.Attribute, "missing")}
	}
	if list[0].Table != "" {
		p.Title("%s", list[0].Table)
	}
	p.styledTable([]string{"", "should be", "is"}, rows, func(col int, v string) (lipgloss.Style, bool) {
		return bad, col == 2 && v == "missing"
	})
	if m := list[0].Mend; m != "" {
		to := "to mend it:"
		if strings.HasPrefix(list[0].Object, "leftover ") && list[0].Object != "leftover claim" {
			to = "to mend it, as lastboard audit --clear does:"
		}
		p.Line("  %s", faint.Render(to))
		for _, line := range strings.Split(m, "\n") {
			p.Verbatim("    %s", oneLine(line))
		}
	}
	p.Line("")
}

func presence(value, attribute, absent string) string {
	switch {
	case attribute == "exists" && value == "yes":
		return "there"
	case attribute == "exists":
		return absent
	case value == "":
		return "-"
	}
	return value
}
