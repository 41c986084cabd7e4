package view

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"lastboard/internal/core/fault"
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
	switch m.Direction {
	case ledger.Settle:
		title = m.Version + "-" + m.Name + faint.Render("  once it is settled")
	case ledger.Retreat:
		title = m.Version + "-" + m.Name + faint.Render("  taken back")
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
		if s.Pause >= s.Seconds {
			return "for " + Estimate(s.Pause)
		}
		return Estimate(s.Pause) + " at its end"
	}
	return s.WritersWait
}

// ForecastEnd says what the steps add up to, and what a live database needs. lockWait is for how long one try for a
// lock keeps others waiting, 0 where there is none.
func (p *Printer) ForecastEnd(plans []*plan.Plan, live bool, lockWait time.Duration, users, advice []string) {
	var longest, total float64
	locks := false
	var overlaps []string
	for _, m := range plans {
		for _, s := range m.Steps {
			locks = locks || len(s.Strong) > 0
		}
		total += m.Seconds()
		longest = max(longest, m.LongestWait())
		overlaps = append(overlaps, m.Overlap...)
	}
	behind := ""
	if live && locks && lockWait > 0 {
		behind = fmt.Sprintf(", and up to %s at a time while somebody else's transaction is in the way",
			Seconds(lockWait.Seconds()))
	}
	p.Line("%s in all; the longest that a writer waits: %s%s", Estimate(total), Estimate(longest), behind)
	for _, m := range plans {
		for _, f := range m.Warnings {
			p.Line("")
			p.Finding(f)
		}
	}
	if live {
		for _, m := range plans {
			if s := m.Longest(); s != nil {
				p.Line("%s %s keeps writers waiting for %s (most of it in step %d: %s): %s needs --let-writers-wait",
					warn.Render("live:"), m.Version, Estimate(m.LongestWait()), s.Number, s.What, m.Direction)
			}
		}
		for _, m := range plans {
			if len(m.Later) > 0 {
				p.StaysOpen(plan.Opened{Version: m.Version, Later: m.Later})
			}
		}
		if len(overlaps) > 0 {
			p.Line("%s applications that use the old shape break at once (%s): %s needs --settle", warn.Render("live:"),
				strings.Join(overlaps, ", "), plans[0].Direction)
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

type stepJSON struct {
	Number      int        `json:"number"`
	Stage       string     `json:"stage"`
	Kind        string     `json:"kind"`
	Table       string     `json:"table"`
	What        string     `json:"what"`
	Why         string     `json:"why"`
	SQL         []string   `json:"sql"`
	Lock        string     `json:"lock"`
	Rewrites    bool       `json:"rewrites"`
	WritersWait string     `json:"writers_wait"`
	Pause       float64    `json:"pause_seconds"`
	Rows        int64      `json:"rows"`
	Bytes       int64      `json:"bytes"`
	Seconds     float64    `json:"seconds"`
	Batches     bool       `json:"in_batches"`
	Proof       bool       `json:"proof"`
	Outside     bool       `json:"outside_transactions"`
	Tried       bool       `json:"tried"`
	Keeps       []keepJSON `json:"keeps"`
}

type keepJSON struct {
	Table   string   `json:"table"`
	Columns []string `json:"columns"`
	What    string   `json:"what"`
}

// ForecastJSON gives the document of forecast. needs are the flags that advance would ask for.
func ForecastJSON(plans []*plan.Plan, live bool) map[string]any {
	list, needs, found := []any{}, []string{}, fault.List{}
	var total, longest float64
	for _, m := range plans {
		steps := []stepJSON{}
		for _, s := range m.Steps {
			steps = append(steps, shownStep(s))
		}
		total += m.Seconds()
		longest = max(longest, m.LongestWait())
		found = append(found, m.Warnings...)
		if m.Slow != nil {
			found = append(found, m.Slow)
		}
		list = append(list, map[string]any{"version": m.Version, "name": m.Name, "stage": stage(m), "direction": m.Direction,
			"seconds": m.Seconds(), "steps": steps})
		if live && len(m.Overlap) > 0 && !slices.Contains(needs, "--settle") {
			needs = append(needs, "--settle")
		}
		if live && m.Longest() != nil && !slices.Contains(needs, "--let-writers-wait") {
			needs = append(needs, "--let-writers-wait")
		}
	}
	return map[string]any{"migrations": list, "seconds": total, "longest_wait_seconds": longest, "needs": needs,
		"findings": FaultsJSON(found)}
}

// shownStep gives a step with its statements as a person reads them.
func shownStep(s *engine.Step) stepJSON {
	out := stepJSON{Number: s.Number, Stage: s.Stage, Kind: string(s.Kind), Table: s.Table, What: s.What, Why: s.Why,
		SQL: []string{}, Lock: s.Lock, Rewrites: s.Rewrites, WritersWait: s.WritersWait, Pause: s.Pause, Rows: s.Rows,
		Bytes: s.Bytes, Seconds: s.Seconds, Batches: s.Batch != nil, Proof: s.Proof != nil, Outside: s.Outside != nil,
		Tried: s.Untried == "", Keeps: []keepJSON{}}
	for _, sql := range s.SQL {
		out.SQL = append(out.SQL, engine.Shown(sql))
	}
	for _, k := range s.Keeps {
		out.Keeps = append(out.Keeps, keepJSON{k.Table, append([]string{}, k.Columns...), keptWords[k.What]})
	}
	return out
}

// stage gives which of a migration a plan is of.
func stage(m *plan.Plan) string {
	if m.Direction == ledger.Settle {
		return ledger.Settle
	}
	return ledger.Open
}
