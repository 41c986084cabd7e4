package test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
)

// refusedAlone are the rules by which one engine may refuse what another can do.
var refusedAlone = regexp.MustCompile(`error (engine-refuses|name-in-use|rows-would-break)\b|Error 1292|Error 1366`)

// computedAnew reports whether PostgreSQL refuses a way back on which a column is computed
// again that a view reads: it lets go of none under a view.
func computedAnew(o *office, r result) bool {
	later := strings.SplitN(o.history(), "0002-change.sql", 2)
	return r.code == 3 && wouldBreakView.MatchString(r.String()) && strings.Contains(later[len(later)-1], "computed")
}

var wouldBreakView = regexp.MustCompile(`error name-in-use: .* would break view `)

// TestRandomMigrationsAreEqual runs random migrations on every engine: after each that all
// can run, their tables and rows are equal, and so they are after the way back and after
// the second time forward.
func TestRandomMigrationsAreEqual(t *testing.T) {
	beside(t)
	var ran, refused, alone atomic.Int64
	t.Run("seeds", func(t *testing.T) {
		for i := range *seeds / 8 {
			seed := seedAt(i)
			t.Run(fmt.Sprint("seed=", seed), func(t *testing.T) {
				g := &generator{rand.New(rand.NewPCG(seed, 13))}
				f := &fleet{T: t, offices: wharves(t, nil, g.portable(), g.portableRows()...), g: g}
				f.wander()
				ran.Add(f.ran)
				refused.Add(f.refused)
				alone.Add(f.alone)
			})
		}
	})
	t.Logf("%d migrations ran on every engine, %d were refused by all, %d by some", ran.Load(), refused.Load(),
		alone.Load())
	if 3*ran.Load() < refused.Load()+alone.Load() {
		t.Errorf("the test has lost its aim: %d of %d migrations ran", ran.Load(), ran.Load()+refused.Load()+alone.Load())
	}
}

// fleet is offices on all engines that go the same way.
type fleet struct {
	*testing.T
	offices             []*office
	g                   *generator
	ran, refused, alone int64
}

func (f *fleet) each(do func(o *office)) {
	for _, o := range f.offices {
		do(o)
	}
}

func (f *fleet) wander() {
	start := agree(f.T, f.offices, "at the start")
	for n := range 4 {
		var doc described
		if err := json.Unmarshal([]byte(f.offices[0].must("describe", "--json")), &doc); err != nil {
			f.Fatal(err)
		}
		if !f.migrate(n, f.g.migration(doc)) {
			f.alone++
			return
		}
		if f.Failed() {
			f.Fatal(f.offices[0].history())
		}
	}
	end := agree(f.T, f.offices, "at the end")
	blocked := false
	f.each(func(o *office) {
		r := o.run("retreat", "--to", "1", "--yes")
		switch {
		case computedAnew(o, r):
			blocked = true
		case r.code != 0:
			f.Fatalf("%s\n%s", r, o.history())
		}
	})
	if blocked {
		f.alone++
		return
	}
	if back := agree(f.T, f.offices, "after the way back"); back != start {
		f.Errorf("the way back does not lead to the start: %s", firstDifference(start, back))
	}
	f.each(func(o *office) { o.must("advance", "--yes") })
	if again := agree(f.T, f.offices, "the second time"); again != end {
		f.Errorf("the second time forward differs: %s", firstDifference(end, again))
	}
	if f.Failed() {
		f.Fatal(f.offices[0].history())
	}
}

// migrate runs one migration everywhere. Where some refuse it, it is taken back on the
// others; false means that one of those cannot, so that they part here.
func (f *fleet) migrate(n int, text string) bool {
	name := fmt.Sprintf("%04d-change", n+2)
	answers := make([]result, len(f.offices))
	refusals := 0
	for i, o := range f.offices {
		o.migration(name, text)
		answers[i] = o.run("advance", "--yes")
		switch answers[i].code {
		case 0:
		case 1, 3, 4:
			refusals++
			if said := answers[i].String(); strings.Contains(said, "would not lead to") {
				f.Fatalf("%s\n%s", text, said)
			} else if answers[i].code == 1 && !strings.Contains(said, "Error 1292") { // what a constraint computes of a row
				f.Fatalf("%s\n%s", text, said)
			}
		default:
			f.Fatalf("%s\n%s", text, answers[i])
		}
	}
	switch refusals {
	case 0:
		f.ran++
		agree(f.T, f.offices, "after "+text)
		return true
	case len(f.offices):
		f.refused++
	default:
		f.alone++
	}
	for i, o := range f.offices {
		if answers[i].code != 0 && refusals < len(f.offices) && !refusedAlone.MatchString(answers[i].String()) {
			f.Errorf("one engine alone refuses %s\n%s", text, answers[i])
		}
		if answers[i].code == 0 || answers[i].code == 4 {
			if r := o.run("retreat", "--to", fmt.Sprint(n+1), "--yes"); computedAnew(o, r) {
				return false
			} else if r.code != 0 {
				f.Fatalf("%s\n%s\n%s", answers[i], r, o.history())
			}
		}
		o.migration(name, "-- refused\nassert 1 = 1 else 'never';\n")
		o.must("advance", "--yes")
	}
	agree(f.T, f.offices, "after what was refused")
	return true
}
