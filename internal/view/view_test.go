package view

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/colorprofile"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
)

// printer writes to memory as to a pipe, or as to a terminal of some width.
func printer(width int) (*Printer, *bytes.Buffer, *bytes.Buffer) {
	var out, errs bytes.Buffer
	p := &Printer{out: calm{&colorprofile.Writer{Forward: &out, Profile: colorprofile.NoTTY}},
		err: calm{&colorprofile.Writer{Forward: &errs, Profile: colorprofile.NoTTY}}, width: width, errIsTerm: width > 0}
	return p, &out, &errs
}

func TestNumbersAsPeopleSayThem(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", -1234567: "-1,234,567", 12: "12"} {
		if got := Count(n); got != want {
			t.Errorf("Count(%d) is %s, wanted %s", n, got, want)
		}
	}
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 12_345_678: "12.3 MB",
		250_000_000: "250 MB", 3_000_000_000_000: "3.0 TB"} {
		if got := Size(n); got != want {
			t.Errorf("Size(%d) is %s, wanted %s", n, got, want)
		}
	}
	for s, want := range map[float64]string{0: "0 s", 0.012: "12 ms", 1.25: "1.2 s", 125: "2 min 5 s"} {
		if got := Seconds(s); got != want {
			t.Errorf("Seconds(%v) is %s, wanted %s", s, got, want)
		}
	}
	for s, want := range map[float64]string{0.002: "under 10 ms", 0.5012: "~500 ms", 4.96: "~5.0 s",
		200.4: "~3 min 20 s"} {
		if got := Estimate(s); got != want {
			t.Errorf("Estimate(%v) is %s, wanted %s", s, got, want)
		}
	}
	for _, c := range []struct {
		v    any
		want string
	}{{nil, "null"}, {int64(5), "5"}, {2.0, "2"}, {2.5, "2.5"}, {"größe", "größe"}, {[]byte{1, 255}, "x'01ff'"},
		{strings.Repeat("a", 80), strings.Repeat("a", 59) + "…"}, {true, "true"}} {
		if got := Value(c.v); got != c.want {
			t.Errorf("Value(%v) is %s, wanted %s", c.v, got, c.want)
		}
	}
	if Plural(1, "table", "tables") != "1 table" || Plural(1200, "table", "tables") != "1,200 tables" {
		t.Error("one is not many")
	}
}

func TestTablesAreAlignedWhateverIsInThem(t *testing.T) {
	p, out, _ := printer(0)
	p.Table([]string{"name", "n", "note"}, [][]string{{"Tern", "7", "a"}, {"日本丸", "1,200", "two\nlines"},
		{"e\u0301mile", "-3", "\x1b[31mred"}})
	want := `  name        n  note
  Tern        7  a
  日本丸  1,200  two lines
` + "  e\u0301mile      -3  �[31mred\n"
	if got := out.String(); got != want {
		t.Errorf("wanted\n%s\ngot\n%s", want, got)
	}
}

func TestTablesFitTheTerminal(t *testing.T) {
	p, out, _ := printer(60)
	p.Table([]string{"step", "what"}, [][]string{{"1", strings.Repeat("a long tale ", 20)}, {"2", "short"}})
	for line := range strings.SplitSeq(out.String(), "\n") {
		if width(line) > 60 {
			t.Errorf("a line is %d wide: %s", width(line), line)
		}
	}
}

func TestFaultsShowPlaceRowsAndCure(t *testing.T) {
	p, _, errs := printer(0)
	p.Failure(fault.List{
		{Level: fault.Error, Rule: "rows-would-break", Message: "a is null in 2 rows of t",
			Where: fault.Where{File: "m/0002-a.sql", Line: 3, Column: 5}, Source: "  größe\tb",
			Samples: [][]string{{"1", "null"}, {"'x\ny'", "null"}}, Cure: "fill them", Changed: "nothing was changed"},
		{Level: fault.Warning, Rule: "name-reserved", Message: "order is reserved"},
	})
	want := `m/0002-a.sql:3:5: error rows-would-break: a is null in 2 rows of t
    größe b
      ^
  for example: 1 null · 'x y' null
nothing was changed
cure: fill them
warning name-reserved: order is reserved
`
	if got := errs.String(); got != want {
		t.Errorf("wanted\n%s\ngot\n%s", want, got)
	}
}

func TestProgressSaysRowsRateAndTimeLeft(t *testing.T) {
	step := &engine.Step{Number: 2, What: "fill season", Rows: 1000, Batch: &engine.Batch{}}
	for _, wide := range []int{0, 100} {
		p, out, errs := printer(wide)
		g := p.NewProgress()
		g.Observe(run.Event{What: "step", Step: step, Steps: 3})
		g.Observe(run.Event{What: "progress", Step: step, Steps: 3, Rows: 100})
		if errs.Len() > 0 {
			t.Errorf("progress is shown before a second has passed: %q", errs.String())
		}
		g.began, g.last = time.Now().Add(-4*time.Second), time.Now().Add(-4*time.Second)
		g.Observe(run.Event{What: "progress", Step: step, Steps: 3, Rows: 400})
		for _, text := range []string{"step 2 of 3", "fill season", "400 of 1,000 rows", "rows/s"} {
			if !strings.Contains(errs.String(), text) {
				t.Errorf("wanted %q in %q", text, errs.String())
			}
		}
		if out.Len() > 0 {
			t.Errorf("progress is no result: %q", out.String())
		}
	}
}

func TestJSONLinesAreObjects(t *testing.T) {
	p, out, _ := printer(0)
	p.JSON = true
	g := p.NewProgress()
	g.Observe(run.Event{What: "step", Version: "0002", Step: &engine.Step{Number: 1, Kind: engine.Scan, What: "a < b"},
		Steps: 1})
	p.Line("a line for people")
	want := `{"event":"step","version":"0002","step":1,"steps":1,"kind":"scan","what":"a < b"}` + "\n"
	if got := out.String(); got != want {
		t.Errorf("wanted %s, got %s", want, got)
	}
}
