package view

import (
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/progress"
	"charm.land/lipgloss/v2"

	"lastboard/internal/core/run"
)

func width(s string) int { return lipgloss.Width(s) }

// Progress shows a run as it goes: a bar on a terminal, a line now and then
// elsewhere, an object a line for a program.
type Progress struct {
	p     *Printer
	bar   progress.Model
	began time.Time
	start int64 // rows that were done when the step began, or it was let go on
	rows  int64
	last  time.Time
}

// NewProgress makes the display of one run.
func (p *Printer) NewProgress() *Progress {
	bar := progress.New(progress.WithWidth(30), progress.WithColors(lipgloss.Color("6")),
		progress.WithFillCharacters('━', '┄'), progress.WithoutPercentage())
	return &Progress{p: p, bar: bar}
}

type eventJSON struct {
	Event   string  `json:"event"`
	Version string  `json:"version"`
	Step    int     `json:"step,omitempty"`
	Steps   int     `json:"steps,omitempty"`
	Kind    string  `json:"kind,omitempty"`
	What    string  `json:"what,omitempty"`
	Rows    int64   `json:"rows,omitempty"`
	Seconds float64 `json:"seconds,omitempty"`
	Why     string  `json:"why,omitempty"`
}

// Observe shows one event.
func (g *Progress) Observe(e run.Event) {
	if g.p.JSON {
		out := eventJSON{Event: e.What, Version: e.Version, Steps: e.Steps, Rows: e.Rows, Seconds: e.Took.Seconds(),
			Why: e.Why}
		if e.Step != nil {
			out.Step, out.Kind, out.What = e.Step.Number, string(e.Step.Kind), e.Step.What
		}
		_ = g.p.Object(out) // a closed pipe ends the program elsewhere
		return
	}
	if g.p.Quiet {
		return
	}
	switch e.What {
	case "step":
		g.began, g.start, g.last = time.Now(), e.Rows, time.Now()
		if e.Rows > 0 {
			g.p.Note("going on after %s rows", Count(e.Rows))
		}
		if e.Step.Batch == nil && e.Step.Seconds > 1 {
			text := fmt.Sprintf("step %d of %d  %s  %s", e.Step.Number, e.Steps, e.Step.What, Estimate(e.Step.Seconds))
			if g.p.errIsTerm {
				g.p.draw(text)
			} else {
				g.p.Note("%s", text)
			}
		}
	case "progress":
		g.progress(e)
	case "waiting":
		text := fmt.Sprintf("somebody else is writing; try %d for the right to write", e.Try)
		if e.Why != "" {
			text = fmt.Sprintf("try %d failed: %s", e.Try, e.Why)
		} else if len(e.Who) > 0 {
			text = fmt.Sprintf("try %d for a lock; in the way is %s", e.Try, e.Who[0])
		}
		g.p.Note("%s", faint.Render(text))
	case "too-slow":
		g.p.Note("%s", faint.Render(fmt.Sprintf("a batch of %s rows was given up, %s: fewer are tried", Count(e.Rows),
			e.Why)))
	case "cleared":
		g.p.Note("cleared away: %s", e.Why)
	case "holding":
		g.p.Note("holding: %s", e.Why)
	case "released":
		g.p.Note("going on")
		g.began, g.start = time.Now(), g.rows
	case "step-done":
		g.p.clearProgress()
	}
}

// Trial shows how long a trial still lasts, and what it has refused.
func (g *Progress) Trial(left time.Duration, so run.Refusals) {
	switch {
	case g.p.JSON:
		out := trialJSON{Event: "trial", Seconds: left.Seconds()}
		if so.Counted {
			out.Refused = &so.Times
		}
		_ = g.p.Object(out)
	case g.p.errIsTerm:
		g.p.draw(fmt.Sprintf("trial  %s left  %s", Seconds(left.Seconds()), so))
	case !g.p.Quiet && time.Since(g.last) > 10*time.Second:
		g.last = time.Now()
		g.p.Note("trial  %s left  %s", Seconds(left.Seconds()), so)
	}
}

// TrialEnds takes away what stands on the terminal of a trial.
func (g *Progress) TrialEnds() { g.p.clearProgress() }

// trialJSON is a moment of a trial, for scripts.
type trialJSON struct {
	Event   string  `json:"event"`
	Seconds float64 `json:"left_seconds"`
	Refused *int64  `json:"refused_writes"` // null where nothing counts
}

// progress shows how far a backfill is, once it takes longer than a second.
func (g *Progress) progress(e run.Event) {
	g.rows = e.Rows
	took := time.Since(g.began)
	if took < time.Second {
		return
	}
	rate := float64(e.Rows-g.start) / took.Seconds()
	share := 0.0
	if e.Step.Rows > 0 {
		share = min(1, float64(e.Rows)/float64(e.Step.Rows))
	}
	left := "?"
	if rate > 0 {
		left = Seconds(max(0, float64(e.Step.Rows-e.Rows)/rate))
	}
	what := fmt.Sprintf("step %d of %d  %s", e.Step.Number, e.Steps, e.Step.What)
	far := fmt.Sprintf("  %s of %s rows  %s rows/s  %s left", Count(e.Rows), Count(e.Step.Rows), Count(int64(rate)), left)
	switch {
	case g.p.errIsTerm && time.Since(g.last) > 100*time.Millisecond:
		g.last = time.Now()
		g.p.draw(g.fitted(g.bar.ViewAs(share)+"  ", what, far))
	case !g.p.errIsTerm && time.Since(g.last) > 2*time.Second:
		g.last = time.Now()
		g.p.Note("%s", what+far)
	}
}

// fitted gives the line of a progress: in a narrow terminal without the bar, and then with as
// much of what is done as there is room for; how far it is, and how long it takes, stays.
func (g *Progress) fitted(bar, what, far string) string {
	room := g.p.errWidth - 1
	switch {
	case g.p.errWidth == 0 || width(bar+what+far) <= room:
		return bar + what + far
	case width(what+far) <= room:
		return what + far
	}
	if left := room - width(far); left > 1 {
		return lipgloss.NewStyle().MaxWidth(left-1).Render(what) + "…" + far
	}
	return strings.TrimSpace(far)
}

// draw puts a line in place of the progress line that stands on the terminal.
func (p *Printer) draw(line string) {
	if !p.errIsTerm || p.Quiet {
		return
	}
	if p.errWidth > 0 {
		line = lipgloss.NewStyle().MaxWidth(p.errWidth - 1).Render(line)
	}
	n := width(line)
	fmt.Fprint(p.err, "\r"+line+strings.Repeat(" ", max(0, p.lastLength-n)))
	p.lastLength = n
}

func (p *Printer) clearProgress() {
	if p.lastLength > 0 {
		fmt.Fprint(p.err, "\r"+strings.Repeat(" ", p.lastLength)+"\r")
		p.lastLength = 0
	}
}
