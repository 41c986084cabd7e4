package view

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"

	"lastboard/internal/core/ledger"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
)

// MigrationStatus is a migration's line in status, and its JSON.
type MigrationStatus struct {
	Version    string  `json:"version"`
	Name       string  `json:"name"`
	Title      string  `json:"title"`
	State      string  `json:"state"`
	Direction  *string `json:"direction"` // of a run that is in the middle
	Checksum   string  `json:"checksum"`
	AdvancedAt *string `json:"advanced_at"`
	OpenedAt   *string `json:"opened_at"` // where it stayed open
	SettledAt  *string `json:"settled_at"`
}

// Status writes where each migration stands.
func (p *Printer) Status(list []MigrationStatus) {
	if len(list) == 0 {
		p.Line("there are no migrations yet: lastboard draft \"what changes\"")
		return
	}
	var rows [][]string
	for _, m := range list {
		at := ""
		if m.AdvancedAt != nil {
			at = when(*m.AdvancedAt)
		}
		rows = append(rows, []string{m.Version, state(m), at, m.Name, m.Title})
	}
	p.styledTable([]string{"version", "state", "advanced", "name", "title"}, rows,
		func(col int, v string) (lipgloss.Style, bool) {
			switch {
			case col != 1:
				return bold, false
			case v == ledger.Settled:
				return good, true
			case v == ledger.Waiting:
				return faint, true
			}
			return warn, true
		})
}

func state(m MigrationStatus) string {
	if m.Direction == nil {
		return m.State
	}
	switch *m.Direction {
	case ledger.Retreat:
		return m.State + " on the way back"
	case ledger.Settle:
		return m.State + " while it is settled"
	}
	return m.State
}

// when writes a time of the ledger to the minute.
func when(at string) string {
	if len(at) < 16 {
		return at
	}
	return strings.Replace(at[:16], "T", " ", 1)
}

// Entries writes the record of what was done.
func (p *Printer) Entries(list []ledger.Entry) {
	if len(list) == 0 {
		p.Line("nothing was done to this database yet")
		return
	}
	var rows [][]string
	for _, e := range list {
		rows = append(rows, []string{when(e.At), e.Version, e.What, e.By + " on " + e.Host, Seconds(e.Seconds),
			guess(e.Forecast), Count(e.Rows), e.Note})
	}
	p.Table([]string{"at (UTC)", "version", "what", "by", "took", "forecast", "rows", ""}, rows)
}

// guess writes a time that was forecast, if one was.
func guess(seconds *float64) string {
	if seconds == nil {
		return ""
	}
	return Estimate(*seconds)
}

// StepFacts shows what was forecast of each step of a run, beside what came of it.
func (p *Printer) StepFacts(steps []ledger.Step) {
	var rows [][]string
	for _, s := range steps {
		took := s.State
		if s.State == "done" {
			took = Seconds(s.Took)
		}
		rows = append(rows, []string{fmt.Sprint(s.Step.Number), string(s.Step.Kind), s.Step.What, took,
			Estimate(s.Step.Seconds), Count(s.Rows), Count(s.Step.Rows), longest(s)})
	}
	p.Table([]string{"step", "kind", "what", "took", "forecast", "rows", "forecast", "longest batch"}, rows)
}

func longest(s ledger.Step) string {
	if s.Longest == 0 {
		return ""
	}
	return Seconds(s.Longest)
}

// Ran says that a migration came to its end, with what it took beside what was forecast; e is nil
// where that is not known.
func (p *Printer) Ran(version, state string, e *ledger.Entry) {
	if state == ledger.Waiting {
		state = "taken back"
	}
	facts := ""
	if e != nil {
		if facts = " in "; e.Rows > 0 {
			facts = ": " + rowCount(e.Rows) + " written in "
		}
		facts += Seconds(e.Seconds)
		if e.Forecast != nil {
			facts += faint.Render(" (forecast " + Estimate(*e.Forecast) + ")")
		}
	}
	p.Line("%s %s is %s%s", good.Render("done:"), version, state, facts)
	p.Line("")
}

// StaysOpen says what an open migration still has to drop, and when.
func (p *Printer) StaysOpen(o plan.Opened) {
	if drops := o.Drops(); drops != "" {
		p.Line("%s %s still has to drop %s", warn.Render("open:"), o.Version, drops)
	}
	if supplies := o.Supplies(); supplies != "" {
		p.Line("%s %s supplies %s where a program leaves it out", warn.Render("open:"), o.Version, supplies)
	}
	p.Line("next: lastboard settle %s, once no program of before runs any more", o.Version)
	p.Line("")
}

// KeptThing is a line of kept, and its JSON.
type KeptThing struct {
	Version string   `json:"version"`
	Table   string   `json:"table"`
	What    string   `json:"what"`
	Columns []string `json:"columns"`
	Rows    int64    `json:"rows"`
	Bytes   int64    `json:"bytes"`
	At      string   `json:"at"`
	For     string   `json:"direction"` // of the run that keeps it
	Past    bool     `json:"past"`      // older than keep_days
}

var keptWords = map[string]string{
	engine.KeptColumn: "dropped column", engine.KeptConverted: "values before another type",
	engine.KeptValues: "values before a fill",
	engine.KeptTable:  "dropped table", engine.KeptRows: "deleted rows", engine.KeptKeys: "keys of inserted rows",
}

// Kept writes what is kept.
func (p *Printer) Kept(list []KeptThing) {
	if len(list) == 0 {
		p.Line("nothing is kept")
		return
	}
	var rows [][]string
	for _, k := range list {
		what := k.Table
		if len(k.Columns) > 0 {
			what += "." + strings.Join(k.Columns, ", ")
		}
		kind := keptWords[k.What]
		if k.For == ledger.Retreat {
			kind += ", taken back"
		}
		age := ""
		if k.Past {
			age = "past keep_days"
		}
		rows = append(rows, []string{k.Version, kind, what, Count(k.Rows), Size(k.Bytes), when(k.At), age})
	}
	p.styledTable([]string{"version", "what", "of", "rows", "size", "since (UTC)", ""}, rows,
		func(col int, v string) (lipgloss.Style, bool) {
			return warn, col == 6 && v != ""
		})
}
