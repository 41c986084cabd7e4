package view

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
)

func followed(steps, at int) *Followed {
	f := &Followed{
		Runner: &ledger.Runner{By: "anna", Host: "pier-2", Since: time.Date(2031, 5, 1, 10, 0, 0, 0, time.UTC)},
		Work: &ledger.Work{
			Version: "0006", Name: "registry-in-two", Direction: ledger.Advance, Step: at, Steps: steps, Kind: "backfill",
			What: "fill registry_no", Rows: 250_000, Of: 1_000_000, Rate: 21_300, Left: 35.2, Batch: 0.098, Longest: 0.143,
			Goal: 0.1, WorkShare: 0.83,
			Holding: "replica pier_b is 6 s behind", Replicas: []ledger.ReplicaWork{{Name: "pier_b", Behind: 6},
				{Name: "pier_c", Stopped: true}}, Try: 3, InTheWay: []string{"session 7 (user tide), idle in transaction, for " +
				"12.0 s"}, At: time.Now(),
		},
	}
	for i := range steps {
		state := map[bool]string{true: "done", false: "waiting"}[i+1 < at]
		f.Steps = append(f.Steps, ledger.Step{State: state, Took: 0.03,
			Step: &engine.Step{Number: i + 1, Kind: engine.Catalog,
				What: fmt.Sprintf("do the thing numbered %d, which has quite a long name to it, longer than the screen is wide",
					i+1), Seconds: 1}})
	}
	return f
}

// TestFollowFitsEveryScreen is that the view is neither higher nor wider than the terminal,
// and always shows the step that is done and why it holds.
func TestFollowFitsEveryScreen(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {200, 60}, {40, 24}, {80, 20}} {
		for _, at := range []int{1, 20, 40} {
			m := &followModel{Following: Following{Title: "harbour: PostgreSQL 15, harbour at pier"}, now: &Followed{},
				ctx: t.Context()}
			m.bar = (&Printer{}).NewProgress().bar
			m.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
			m.Update(looked{now: followed(40, at)})
			lines := m.lines()
			if len(lines) != size[1] {
				t.Errorf("%v has %d lines", size, len(lines))
			}
			for _, l := range lines {
				if width(l) > size[0] {
					t.Errorf("%v has a line of %d: %s", size, width(l), l)
				}
			}
			text := strings.Join(lines, "\n")
			for _, want := range []string{fmt.Sprintf("%4d  ", at), "running 0006", "holding: replica pier_b", "21,300", "try 3",
				"h hold"} {
				if !strings.Contains(text, want) {
					t.Errorf("%v at step %d lacks %q:\n%s", size, at, want, text)
				}
			}
		}
	}
}

// TestFollowSteers is what the keys do.
func TestFollowSteers(t *testing.T) {
	var got []Wish
	m := &followModel{Following: Following{Steer: func(_ context.Context, w Wish) error {
		got = append(got, w)
		return errors.New("the tide is out")
	}, Look: func(context.Context) (*Followed, error) { return followed(3, 2), nil }}, now: &Followed{}, ctx: t.Context()}
	m.bar = (&Printer{}).NewProgress().bar
	m.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	press := func(key string) tea.Cmd {
		_, cmd := m.Update(tea.KeyPressMsg{Text: key, Code: []rune(key)[0]})
		return cmd
	}
	if press("h") != nil {
		t.Error("there is nothing to hold")
	}
	m.Update(looked{now: followed(3, 2)})
	for _, key := range []string{"h", "r", "f", "s"} {
		cmd := press(key)
		if cmd == nil {
			t.Fatalf("%s does nothing", key)
		}
		m.Update(cmd())
	}
	if fmt.Sprint(got) != "[hold release faster slower]" {
		t.Errorf("the keys asked for %v", got)
	}
	if text := strings.Join(m.lines(), "\n"); !strings.Contains(text, "slower: the tide is out") {
		t.Errorf("it does not say that it could not:\n%s", text)
	}
	m.Update(looked{now: &Followed{}})
	if text := strings.Join(m.lines(), "\n"); !strings.Contains(text, "nothing is running") ||
		!strings.Contains(text, "last seen in step 2 of 3") {
		t.Errorf("after the end it says\n%s", text)
	}
	m.Update(looked{err: errors.New("no answer")})
	if text := strings.Join(m.lines(), "\n"); !strings.Contains(text, "the database cannot be asked: no answer") {
		t.Errorf("without an answer it says\n%s", text)
	}
	cmd := press("q")
	if cmd == nil {
		t.Fatal("q does nothing")
	}
	if _, ok := cmd().(tea.QuitMsg); !ok {
		t.Error("q does not leave")
	}
}
