package view

import (
	"context"
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/progress"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"lastboard/internal/core/ledger"
)

// Followed is what is running on a database; Runner is nil when nothing is.
type Followed struct {
	Runner *ledger.Runner
	Work   *ledger.Work
	Steps  []ledger.Step
	Pace   ledger.Pace
}

// Following is where the figures come from, and where wishes go.
type Following struct {
	Title string // of the database
	Look  func(context.Context) (*Followed, error)
	Steer func(context.Context, Wish) error
}

// Wish is what somebody who looks on wants of the run.
type Wish string

// The wishes.
const (
	Hold    Wish = "hold"
	Release Wish = "release"
	Faster  Wish = "faster"
	Slower  Wish = "slower"
)

// lookEvery is how often the view is brought up to date.
const lookEvery = 500 * time.Millisecond

// Follow shows what runs on the whole of a terminal until somebody leaves, or the context
// ends.
func (p *Printer) Follow(ctx context.Context, f Following) error {
	bar := progress.New(progress.WithColors(lipgloss.Color("6")), progress.WithFillCharacters('━', '┄'),
		progress.WithoutPercentage())
	m := &followModel{ctx: ctx, Following: f, bar: bar, now: &Followed{}}
	_, err := tea.NewProgram(m, tea.WithContext(ctx)).Run()
	if ctx.Err() != nil {
		return nil // leaving is how it ends
	}
	return err
}

type followModel struct {
	Following
	ctx           context.Context
	bar           progress.Model
	now, last     *Followed // last is the run that has ended
	err           error
	wishes        []Wish // not yet passed on; the first is on its way
	said          string // what came of a wish
	width, height int
}

type (
	looked struct {
		now *Followed
		err error
	}
	wished struct {
		wish Wish
		err  error
	}
)

func (m *followModel) Init() tea.Cmd { return m.look(0) }

func (m *followModel) look(after time.Duration) tea.Cmd {
	return tea.Tick(after, func(time.Time) tea.Msg {
		now, err := m.Look(m.ctx)
		return looked{now, err}
	})
}

// steer passes the next wish on. One comes after the other: each changes what the last has
// left.
func (m *followModel) steer() tea.Cmd {
	w := m.wishes[0]
	return func() tea.Msg { return wished{w, m.Steer(m.ctx, w)} }
}

func (m *followModel) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case looked:
		if m.err = msg.err; msg.err == nil {
			if msg.now.Runner == nil && m.now.Work != nil {
				m.last = m.now
			}
			m.now = msg.now
		}
		return m, m.look(lookEvery)
	case wished:
		m.said = ""
		if msg.err != nil {
			m.said = string(msg.wish) + ": " + msg.err.Error()
		}
		if m.wishes = m.wishes[1:]; len(m.wishes) > 0 {
			return m, m.steer()
		}
	case tea.KeyPressMsg:
		switch msg.String() {
		case "q", "ctrl+c", "esc":
			return m, tea.Quit
		}
		if w, ok := map[string]Wish{"h": Hold, "r": Release, "f": Faster, "s": Slower}[msg.String()]; ok &&
			m.now.Runner != nil {
			if m.wishes = append(m.wishes, w); len(m.wishes) == 1 {
				return m, m.steer()
			}
		}
	}
	return m, nil
}

func (m *followModel) View() tea.View {
	v := tea.NewView(strings.Join(m.lines(), "\n"))
	v.AltScreen = true
	return v
}

// lines gives the screen, no line longer and no more of them than it holds.
func (m *followModel) lines() []string {
	width, height := max(m.width, 20), max(m.height, 8)
	list := []string{m.Title, ""}
	end := []string{"", faint.Render("h hold   r release   f faster   s slower   q leave")}
	if m.said != "" {
		end[0] = bad.Render(m.said)
	}
	switch {
	case m.err != nil:
		list = append(list, bad.Render("the database cannot be asked: "+m.err.Error()))
	case m.now.Runner == nil:
		list = append(list, "nothing is running")
		if m.last != nil {
			w := m.last.Work
			list = append(list, faint.Render(fmt.Sprintf("migration %s was last seen in step %d of %d: see lastboard status",
				w.Version, w.Step, w.Steps)))
		}
		end[1] = faint.Render("q leave")
	default:
		list = append(list, m.running(width, height-len(list)-len(end))...)
	}
	for len(list)+len(end) < height {
		list = append(list, "")
	}
	list = append(list[:min(len(list), height-len(end))], end...)
	cut := lipgloss.NewStyle().MaxWidth(width)
	for i := range list {
		list[i] = cut.Render(list[i])
	}
	return list
}

// running shows the run within some lines.
func (m *followModel) running(width, height int) []string {
	r, w := m.now.Runner, m.now.Work
	list := []string{"by " + r.By + " on " + r.Host + ", since " + r.Since.UTC().Format(time.TimeOnly) + " UTC"}
	if w == nil {
		return append(list, "it is about to begin")
	}
	verb := map[string]string{ledger.Retreat: "taking back", ledger.Settle: "settling"}[w.Direction]
	if verb == "" {
		verb = "running"
	}
	list = []string{bold.Render(verb+" "+w.Version+"-"+w.Name) + faint.Render("   "+list[0]), ""}
	figures := m.figures(width, w)
	list = append(list, faint.Render(fmt.Sprintf("%4s  %-9s %10s  %12s  ", "step", "kind", "took", "forecast")))
	list = append(list, m.steps(w, max(1, height-len(list)-len(figures)-1))...)
	return append(append(list, ""), figures...)
}

// steps shows as many steps as there is room for, around the one that is done.
func (m *followModel) steps(w *ledger.Work, room int) []string {
	steps := m.now.Steps
	from := 0
	if len(steps) > room {
		from = min(max(0, w.Step-1-room/2), len(steps)-room)
		steps = steps[from : from+room]
	}
	var list []string
	for _, s := range steps {
		state, style := "", faint
		switch {
		case s.Step.Number == w.Step && s.State != "done":
			state, style = Seconds(w.Took), sea
		case s.State == "done":
			state, style = Seconds(s.Took), lipgloss.NewStyle()
		}
		list = append(list, style.Render(fmt.Sprintf("%4d  %-9s %10s  %12s  ", s.Step.Number, s.Step.Kind, state,
			Estimate(s.Step.Seconds)))+style.Render(s.Step.What))
	}
	return list
}

func pad(s string, n int) string { return s + strings.Repeat(" ", max(0, n-width(s))) }

// figures shows how far the step is and what it costs.
func (m *followModel) figures(width int, w *ledger.Work) []string {
	var list []string
	if w.Of > 0 && w.Kind == "backfill" {
		share := min(1, float64(w.Rows)/float64(w.Of))
		m.bar.SetWidth(max(10, min(60, width-44)))
		list = append(list, m.bar.ViewAs(share)+fmt.Sprintf("  %s of %s rows  %.0f %%", Count(w.Rows), Count(w.Of),
			100*share))
	} else {
		list = append(list, faint.Render("no rows to count in this step"))
	}
	left := "?"
	if w.Rate > 0 {
		left = Seconds(w.Left)
	}
	replicas := "none is known"
	if len(w.Replicas) > 0 {
		var names []string
		for _, r := range w.Replicas {
			behind := Seconds(r.Behind) + " behind"
			if r.Stopped {
				behind = "does not follow"
			}
			names = append(names, r.Name+" "+behind)
		}
		replicas = strings.Join(names, ", ")
	}
	way := "nobody"
	if w.Try > 0 {
		way = fmt.Sprintf("try %d for a lock; %s", w.Try, strings.Join(w.InTheWay, "; "))
	}
	pair := func(a, b, c, d string) string {
		return faint.Render(pad(a, 14)) + pad(b, 18) + faint.Render(pad(c, 16)) + d
	}
	list = append(list, "",
		pair("rows a second", Count(int64(w.Rate)), "last batch", Seconds(w.Batch)+" of "+Seconds(w.Goal)),
		pair("time left", left, "longest batch", Seconds(w.Longest)),
		pair("held so far", Seconds(w.Held), "works", Percent(w.WorkShare)+" of the time"),
		faint.Render(pad("replicas", 14))+replicas,
		faint.Render(pad("in the way", 14))+way)
	switch {
	case w.Holding != "":
		list = append(list, warn.Render("holding: "+w.Holding))
	case time.Since(w.At) > 5*time.Second:
		list = append(list, faint.Render("the step is at work; it last said so "+Seconds(time.Since(w.At).Seconds())+" ago"))
	}
	return list
}

// FollowLine says in a line what is running, for a pipe.
func (p *Printer) FollowLine(f *Followed) error {
	if p.JSON {
		return p.Object(map[string]any{"database": p.database, "runner": RunnerJSON(f.Runner), "work": f.Work})
	}
	w := f.Work
	if w == nil {
		p.Line("nothing is running")
		return nil
	}
	text := fmt.Sprintf("%s  migration %s  step %d of %d  %s", time.Now().UTC().Format(time.TimeOnly), w.Version, w.Step,
		w.Steps, w.What)
	if w.Of > 0 && w.Kind == "backfill" {
		text += fmt.Sprintf("  %s of %s rows  %s rows/s  %s left  batch %s", Count(w.Rows), Count(w.Of), Count(int64(w.Rate)),
			Seconds(w.Left), Seconds(w.Batch))
	}
	for _, r := range w.Replicas {
		text += fmt.Sprintf("  %s %s behind", r.Name, Seconds(r.Behind))
	}
	if w.Holding != "" {
		text += "  holding: " + w.Holding
	}
	if w.Try > 0 {
		text += fmt.Sprintf("  try %d for a lock: %s", w.Try, strings.Join(w.InTheWay, "; "))
	}
	p.Line("%s", text)
	return nil
}

// Pace shows how hard a run works, and what was wanted of it.
func (p *Printer) Pace(r *ledger.Runner, w *ledger.Work, want ledger.Pace) {
	if w == nil {
		p.Line("%s on %s is about to begin", r.By, r.Host)
		return
	}
	_ = p.FollowLine(&Followed{Runner: r, Work: w})
	var said []string
	if want.Held {
		said = append(said, "hold")
	}
	if want.BatchTime > 0 {
		said = append(said, "batches of "+Seconds(want.BatchTime))
	}
	if want.Pause >= 0 {
		said = append(said, "work "+Percent(ledger.ShareOf(want.Pause))+" of the time")
	}
	if len(said) == 0 {
		p.Line("it works as the project says")
		return
	}
	p.Line("wanted: %s", strings.Join(said, ", "))
}

// RunnerJSON gives who runs, for a program; nil when nobody does.
func RunnerJSON(r *ledger.Runner) any {
	if r == nil {
		return nil
	}
	return map[string]any{"by": r.By, "host": r.Host, "process": r.Process, "since": r.Since.UTC()}
}

// PaceJSON gives what is wanted of a run; null is what the project says.
func PaceJSON(p ledger.Pace) any {
	said := func(v float64) any {
		if v < 0 {
			return nil
		}
		return v
	}
	share := -1.0
	if p.Pause >= 0 {
		share = ledger.ShareOf(p.Pause)
	}
	return map[string]any{"held": p.Held, "batch_goal_seconds": said(p.BatchTime), "work_share": said(share)}
}

// Percent gives a share of 0 to 1 as people read it.
func Percent(share float64) string {
	if share < 0.1 {
		return fmt.Sprintf("%.1f %%", 100*share)
	}
	return fmt.Sprintf("%.0f %%", 100*share)
}
