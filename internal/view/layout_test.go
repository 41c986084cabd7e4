package view

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// whole asserts that no line is wider than a terminal, unless one word is, and that every word is
// there as it was.
func whole(t *testing.T, wide int, out string, words ...string) {
	t.Helper()
	for line := range strings.SplitSeq(out, "\n") {
		if width(line) > wide && strings.Contains(strings.TrimSpace(line), " ") {
			t.Errorf("in %d columns a line has %d: %s", wide, width(line), line)
		}
	}
	there := map[string]bool{}
	for _, w := range strings.Fields(out) {
		there[w] = true
	}
	for _, text := range words {
		for _, w := range strings.Fields(text) {
			if !there[w] {
				t.Errorf("in %d columns %q is broken or missing in\n%s", wide, w, out)
			}
		}
	}
}

// TestNoWordIsEverBroken writes tables, lines and findings into terminals of every width.
func TestNoWordIsEverBroken(t *testing.T) {
	heads := []string{"step", "what", "rows", "time", "writers wait"}
	row := []string{"1", "compute dues_with_tax for existing rows of port_call", "200,231", "~3 min 20 s",
		"briefly, by batch"}
	f := &fault.Fault{Level: fault.Error, Rule: "rows-would-break", Message: "berth_id is null in 241 rows of port_call",
		Where: fault.Where{File: "migrations/0006-berth-required.sql", Line: 3, Column: 61}, Cure: "fill them: backfill " +
			"port_call set berth_id = … where berth_id is null, before the change",
		Source:  "alter table port_call alter column berth_id set not null, alter column dues set not null",
		Samples: [][]string{{"1", "null"}, {"200231", "null"}}, Changed: "nothing was changed"}
	for wide := 40; wide <= 130; wide++ {
		p, out, errs := printer(wide)
		p.errWidth = wide
		p.Table(heads, [][]string{row, row})
		whole(t, wide, out.String(), strings.Join(row, " "), strings.Join(heads, " "))
		out.Reset()
		p.Line("%s in all; the longest that a writer waits: %s", "~3 min 20 s", "under 10 ms")
		whole(t, wide, out.String(), "~3 min 20 s in all; the longest that a writer waits: under 10 ms")
		out.Reset()
		p.Ready([]engine.Standing{{What: "rights", Found: "user clerk may change every table of the harbour"},
			{What: "journal", Level: engine.Look, Found: "readers wait, too, while a step writes",
				Cure: "pragma journal_mode = wal"}})
		whole(t, wide, out.String(), "user clerk may change every table of the harbour", "cure: pragma journal_mode = wal")
		p.Failure(f)
		said := errs.String()
		whole(t, wide, said, f.Message, f.Cure, "200231", f.Changed)
		lines := strings.Split(said, "\n")
		for i, l := range lines {
			if at := strings.Index(l, "^"); at >= 0 && !strings.HasPrefix(lines[i-1][at:], f.Source[60:66]) {
				t.Errorf("in %d columns the caret does not point at %q: %q", wide, f.Source[60:66], lines[i-1][at:])
			}
		}
	}
	for _, wide := range []int{60, 80} { // what counts of a table is not stood on its head
		p, out, _ := printer(wide)
		p.Table(heads, [][]string{row})
		if first, _, _ := strings.Cut(out.String(), "\n"); !regexp.MustCompile(`^\s+step\s+what\s`).MatchString(first) {
			t.Errorf("in %d columns there is no table any more:\n%s", wide, out)
		}
	}
	p, out, _ := printer(24) // but where nothing else is possible it is
	p.Table(heads, [][]string{row})
	whole(t, 24, out.String(), strings.Join(row, " "))
}

// TestProgressInNarrowTerminals is that how far it is, how fast it goes and how long it takes are
// what stays of a progress line.
func TestProgressInNarrowTerminals(t *testing.T) {
	step := &engine.Step{Number: 2, What: "compute dues_with_tax for existing rows", Rows: 200_231, Batch: &engine.Batch{}}
	for _, wide := range []int{60, 80, 120} {
		p, _, errs := printer(wide)
		p.errWidth = wide
		g := p.NewProgress()
		g.Observe(run.Event{What: "step", Step: step, Steps: 3})
		g.began, g.last = time.Now().Add(-4*time.Second), time.Now().Add(-4*time.Second)
		g.Observe(run.Event{What: "progress", Step: step, Steps: 3, Rows: 100_000})
		line := strings.TrimPrefix(errs.String(), "\r")
		if !regexp.MustCompile(`100,000 of 200,231 rows  [0-9,]+ rows/s  [0-9.]+ s left`).MatchString(line) || width(line) >= wide {
			t.Errorf("in %d columns: %q", wide, line)
		}
	}
}

// TestValuesOfColumns is that a value is written as the type of its column has it.
func TestValuesOfColumns(t *testing.T) {
	for _, c := range []struct {
		typ  string
		v    any
		want string
	}{{"boolean", int64(0), "false"}, {"boolean", int64(1), "true"}, {"boolean", int64(7), "7"},
		{"numeric(9,2)", 806.8, "806.80"}, {"numeric(9,2)", int64(3), "3.00"}, {"numeric(9,2)", "806.80", "806.80"},
		{"numeric(9,2)", nil, "null"}, {"integer", int64(1), "1"}, {"double precision", 2.5, "2.5"}} {
		typ, ok := sqltext.ParseType(c.typ)
		if !ok {
			t.Fatal(c.typ)
		}
		if got := Typed(&schema.Column{Type: typ}, c.v); got != c.want {
			t.Errorf("%v of %s is %s, wanted %s", c.v, c.typ, got, c.want)
		}
	}
}

// TestNoColour is that nothing but text is written where no colours are wanted.
func TestNoColour(t *testing.T) {
	t.Setenv("NO_COLOR", "1")
	t.Setenv("CLICOLOR_FORCE", "1")
	f, err := os.CreateTemp(t.TempDir(), "out")
	if err != nil {
		t.Fatal(err)
	}
	p := New(f, f, false, false, false)
	p.Title("%s", "vessel")
	p.Line("%s", bad.Render("wrong"))
	p.Table([]string{"a"}, [][]string{{fmt.Sprint(1)}})
	got, err := os.ReadFile(f.Name())
	if err != nil || strings.Contains(string(got), "\x1b") || len(got) == 0 {
		t.Errorf("%v: %q", err, got)
	}
}
