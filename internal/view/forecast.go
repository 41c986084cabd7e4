package view

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"

	"lastboard/internal/core/ledger"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
)

// Plan writes the steps of a migration.
func (p *Printer) Plan(m *plan.Plan, statements, why bool) {
	title := m.Version + "-" + m.Name
	if m.Migration != nil && m.Migration.File.Title != "" {
		title += "  " + faint.Render(m.Migration.File.Title)
	}
	if m.Direction == ledger.Settle {
		title = m.Version + "-" + m.Name + faint.Render("  once it is settled")
	}
	p.Line("%s", bold.Render(m.Version+"-"+m.Name)+strings.TrimPrefix(title, m.Version+"-"+m.Name))
	if len(m.Steps) == 0 {
		p.Line("  nothing to do on this engine")
		p.Line("")
		return
	}
	if statements {
		for _, s := range m.Steps {
			p.Line("  %s %s", faint.Render(fmt.Sprintf("-- step %d, %s:", s.Number, s.Kind)), s.What)
			for _, sql := range s.SQL {
				p.Verbatim("%s;", indent(shownSQL(s, sql)))
			}
		}
		p.Line("")
		return
	}
	heads := []string{"step", "kind", "what", "rows", "time", "writers wait"}
	if slices.ContainsFunc(m.Steps, func(s *engine.Step) bool { return strings.Contains(s.Lock, "exclusive") }) {
		heads = append(heads, "lock") // of several that the engine has
	}
	var rows [][]string
	for _, s := range m.Steps {
		count, seconds := "", ""
		if s.Rows > 0 {
			count = Count(s.Rows)
		}
		if s.Seconds > 0 {
			seconds = Estimate(s.Seconds)
		}
		row := []string{fmt.Sprint(s.Number), string(s.Kind), s.What, count, seconds, waits(s), s.Lock}
		rows = append(rows, row[:len(heads)])
	}
	p.styledTable(heads, rows, func(col int, v string) (lipgloss.Style, bool) {
		switch {
		case col == 5 && v == engine.WaitThroughout:
			return warn, true
		case col == 5 && v == engine.WaitNo:
			return faint, true
		}
		return bold, false
	})
	p.Line("")
	if !why {
		return
	}
	said := false
	for _, s := range m.Steps {
		if s.Why != "" {
			p.Line("  step %d: %s", s.Number, s.Why)
			said = true
		}
	}
	if said {
		p.Line("")
	}
}

// shownSQL puts a readable condition in place of a batch's mark.
func shownSQL(s *engine.Step, sql string) string {
	if s.Batch == nil {
		return engine.Shown(sql)
	}
	keys := strings.Join(s.Batch.Keys, ", ")
	if len(s.Batch.Keys) > 1 {
		keys = "(" + keys + ")"
	}
	return engine.Shown(strings.ReplaceAll(sql, engine.Range, keys+" > :from and "+keys+" <= :to"))
}

func indent(sql string) string { return "    " + strings.ReplaceAll(sql, "\n", "\n    ") }

func waits(s *engine.Step) string {
	if s.Batch != nil {
		return "briefly, by batch"
	}
	if s.WritersWait == engine.WaitBriefly && s.Pause >= 0.05 {
		return Estimate(s.Pause) + " at its end"
	}
	return s.WritersWait
}

// ForecastEnd says what the steps add up to, and what a live database needs.
func (p *Printer) ForecastEnd(plans []*plan.Plan, live bool, users, advice []string) {
	var longest, total float64
	var overlaps []string
	for _, m := range plans {
		for _, s := range m.Steps {
			total += s.Seconds
		}
		longest = max(longest, m.LongestWait())
		overlaps = append(overlaps, m.Overlap...)
	}
	p.Line("%s in all; the longest that a writer waits: %s", Estimate(total), Estimate(longest))
	for _, m := range plans {
		for _, f := range m.Warnings {
			p.Line("")
			p.Finding(f)
		}
	}
	if live {
		for _, m := range plans {
			if s := m.Longest(); s != nil {
				p.Line("%s %s keeps writers waiting for %s (most of it in step %d: %s): advance needs --let-writers-wait",
					warn.Render("live:"), m.Version, Estimate(m.LongestWait()), s.Number, s.What)
			}
		}
		for _, m := range plans {
			if len(m.Later) > 0 {
				p.StaysOpen(plan.Opened{Version: m.Version, Later: m.Later})
			}
		}
		if len(overlaps) > 0 {
			p.Line("%s applications that use the old shape break at once (%s): advance needs --settle", warn.Render("live:"),
				strings.Join(overlaps, ", "))
		}
	}
	if live {
		for _, a := range advice {
			p.Line("%s %s", warn.Render("live:"), a)
		}
	}
	if len(users) > 0 {
		p.Line("the database is open in %s", strings.Join(users, ", "))
	}
}

// ForecastJSON gives the document of forecast.
func ForecastJSON(database any, plans []*plan.Plan) any {
	list := []any{}
	for _, m := range plans {
		steps := m.Steps
		shown := make([]*engine.Step, len(steps))
		for i, s := range steps {
			shown[i] = shownStep(s)
		}
		list = append(list, map[string]any{"version": m.Version, "name": m.Name, "stage": stage(m), "steps": shown})
	}
	return map[string]any{"database": database, "migrations": list}
}

// stage gives which of a migration a plan is of.
func stage(m *plan.Plan) string {
	if m.Direction == ledger.Settle {
		return ledger.Settle
	}
	return ledger.Open
}

// shownStep gives a step with its statements as a person reads them.
func shownStep(s *engine.Step) *engine.Step {
	shown := *s
	shown.SQL = make([]string, len(s.SQL))
	for i, sql := range s.SQL {
		shown.SQL[i] = engine.Shown(sql)
	}
	if s.Batch != nil {
		b := *s.Batch
		b.Next, b.Ahead, b.Do = engine.Shown(b.Next), engine.Shown(b.Ahead), slices.Clone(b.Do)
		for i, sql := range b.Do {
			b.Do[i] = engine.Shown(sql)
		}
		shown.Batch = &b
	}
	if s.Outside != nil {
		o := *s.Outside
		o.Statements, o.Clean = shownStatements(o.Statements), shownStatements(o.Clean)
		shown.Outside = &o
	}
	return &shown
}

func shownStatements(list []engine.Statement) []engine.Statement {
	shown := slices.Clone(list)
	for i := range shown {
		shown[i].SQL = engine.Shown(shown[i].SQL)
	}
	return shown
}
