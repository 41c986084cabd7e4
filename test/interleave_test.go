package test

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

var (
	interleavings = flag.Int("interleavings", 25, "how many changes run forward and back on each engine, with a "+
		"thing at a statement of each way")
	everyPlace = flag.Int("every-place", 0, "how many things are tried at every statement of every kind of "+
		"change, forward and back, in place of those; 12 are all")
	interleaveBy = flag.Uint64("interleave-seed", 0, "the seed by which they are chosen; 0 takes the day's")
)

// run runs the program, and lets one of the things happen at the n-th statement that it sends. It
// reports whether it came there.
func (f *convoy) run(n, which int, args ...string) (what string, came bool) {
	f.Helper()
	p := f.pausedAt(fmt.Sprint("sent:", n), args...)
	if p == nil {
		f.code(0, args...) // it has come to its end
		return "", false
	}
	what, do := f.thing(which)
	what += fmt.Sprint(" at statement ", n)
	db := f.open()
	defer db.Close()
	done := make(chan error, 1)
	go func() {
		var err error
		for range 40 { // the run may be given way to
			if err = do(db); err == nil {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		done <- err
	}()
	select {
	case err := <-done:
		done <- err
	case <-time.After(150 * time.Millisecond): // it waits for the run
	}
	r := p.goOn()
	// which is wanted of new rows by then
	if err := <-done; err != nil && !strings.Contains(err.Error(), "tag") && !strings.Contains(err.Error(), "flag") {
		f.Errorf("%s of %v: %v", what, args, err)
	}
	if r.code != 0 && f.altered != "" && strings.Contains(r.stderr, "by_hand") { // a copy would not have it
		f.unaltered()
	}
	if r.code != 0 {
		f.code(0, args...) // it gave way, and goes on
	}
	return what, true
}

// unaltered takes away what somebody has added by hand: it has stayed, and is named.
func (f *convoy) unaltered() {
	f.Helper()
	if f.altered == "" {
		return
	}
	f.wants(f.office.run("audit"), f.altered+" by_hand")
	switch {
	case f.altered == "column":
		f.exec("alter table vessel drop column by_hand")
	case f.engine == "MariaDB":
		f.exec("drop index by_hand on vessel")
	default:
		f.exec("drop index by_hand")
	}
	f.altered = ""
}

// TestInterleavings stops a run before one of the statements that it sends, forward and back,
// lets an application do something to the rows, and lets the run go on: in the end every row
// is what a copy says on which the application's acknowledged statements alone were played.
func TestInterleavings(t *testing.T) {
	beside(t)
	seed := *interleaveBy
	if seed == 0 {
		seed = uint64(time.Now().Unix() / 86400)
	}
	t.Logf("-interleave-seed %d", seed)
	for i, name := range everywhere {
		t.Run(name, func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, uint64(i)))
			o := interleavedOffice(t, name, nil)
			samples := *interleavings
			if *everyPlace > 0 {
				samples = 0
			}
			came := 0
			for n := range samples {
				k := interleavedKinds[(int(seed)+i+n)%len(interleavedKinds)]
				came += interleave(o, name, r, k, 1+r.IntN(90), r.IntN(things), 1+r.IntN(90), r.IntN(things))
			}
			rounds := 0
			for _, k := range interleavedKinds {
				for n := range *everyPlace {
					start := r.IntN(things)
					for place, more := 1, 1; more > 0 && !t.Failed(); place++ {
						more = interleave(o, name, r, k, place, start+place+n, place, start+5*place+n)
						came += more
						rounds++
					}
				}
			}
			t.Logf("%d rounds at every place, %d things at statements in all", rounds, came)
		})
	}
}

// interleave lets a change run forward and back, with one thing at a statement of each, and of what settles
// it. It gives how many of them came there.
func interleave(o *office, name string, r *rand.Rand, k interleaved, forthAt, forthThing, backAt, backThing int) (
	came int) {
	if o.Failed() {
		return 0
	}
	count := func(was bool) {
		if was {
			came++
		}
	}
	f := &convoy{office: o, engine: name, r: r, ships: map[int]*ship{}, gone: map[int]bool{}, moved: map[int]bool{},
		touched: map[int]bool{}}
	wait := o.anyLockWait(r)
	f.begin(k)
	// On servers an overlap may stay open, and be settled.
	open := name != "SQLite" && r.IntN(2) == 0
	args := []string{"advance", "--yes", "--let-writers-wait", "--settle"}
	if open {
		args = args[:3]
	}
	forth, was := f.run(forthAt, forthThing, args...)
	count(was)
	f.unaltered()
	what := fmt.Sprintf("%s, forward %q", k.name, forth)
	if open && strings.Contains(f.must("status"), " open ") && r.IntN(3) > 0 {
		f.holds(k, what+", open")
		settled, was := f.run(backAt, forthThing+backThing, "settle", "--yes", "--let-writers-wait")
		f.unaltered()
		count(was)
		what = fmt.Sprintf("%s, settled %q", what, settled)
	}
	f.holds(k, what)
	back, was := f.run(backAt, backThing, "retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
	count(was)
	if strings.HasPrefix(back, "somebody else runs it") && !strings.Contains(f.must("status"), "waiting") {
		// The run had let go by then, and the other has done it once more.
		f.code(0, "retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
	}
	what += fmt.Sprintf(", back %q, lock_wait %s", back, wait)
	f.check(k, what)
	f.unaltered()
	o.Log(what)
	f.wants(f.code(0, "audit"), "matches:")
	return came
}

// TestACopyLosesNothingMadeByHand is that somebody who makes a column or an index, while a run
// is about to copy their table, still has it.
func TestACopyLosesNothingMadeByHand(t *testing.T) {
	beside(t)
	k := interleavedKinds[slices.IndexFunc(interleavedKinds, func(k interleaved) bool {
		return k.name == "columns in another order"
	})]
	every := map[string]int{"SQLite": 4, "PostgreSQL": 12}
	for _, name := range ofToday(t, slices.Sorted(maps.Keys(every))) {
		every := every[name]
		t.Run(name, func(t *testing.T) {
			r := rand.New(rand.NewPCG(uint64(*day), 0))
			o := interleavedOffice(t, name, nil)
			const byHand = 10
			for place, came := 1+r.IntN(every), 1; came > 0 && !t.Failed(); place += every {
				came = interleave(o, name, r, k, place, byHand, place, byHand)
			}
		})
	}
}
