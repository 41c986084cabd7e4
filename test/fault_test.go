package test

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"lastboard/internal/engine"
	"lastboard/test/server"
)

var (
	faults    = flag.Int("faults", 24, "how many faults the matrix tries, over all engines")
	faultSeed = flag.Uint64("fault-seed", 1, "the seed by which they are chosen")
)

// A sort of fault is what happens to a run that has come to a place of its way.
type sortOf struct {
	name string
	// on are the engines that it can happen on.
	on []string
	do func(h *hazard)
}

var everywhere = []string{"SQLite", "PostgreSQL", "MariaDB"}

// sorts are all that can happen, beside a disk that is full, which has a test of its own.
var sorts = []sortOf{
	{"kill", everywhere, func(h *hazard) { h.cmd.Process.Kill() }},
	{"kill at any time", everywhere, func(h *hazard) {
		h.goOn()
		time.Sleep(time.Duration(h.r.IntN(120)) * time.Millisecond)
		h.cmd.Process.Kill()
	}},
	{"connection cut", []string{"PostgreSQL", "MariaDB"}, func(h *hazard) { h.cut() }},
	{"server killed", []string{"PostgreSQL", "MariaDB"}, func(h *hazard) { h.restart() }},
	{"second runner", everywhere, func(h *hazard) {
		o := *h.office
		o.env = nil
		// where the first has done everything
		if r := o.run(h.args...); r.code != 3 && !strings.Contains(r.stdout, "nothing to do") {
			o.Errorf("a second runner: %s", r)
		} else if r.code == 3 {
			o.wants(r, "another Lastboard is changing this database")
		}
	}},
	{"interrupt", everywhere, func(h *hazard) { h.cmd.Process.Signal(syscall.SIGINT) }},
	{"interrupt twice", everywhere, func(h *hazard) {
		h.cmd.Process.Signal(syscall.SIGINT)
		time.Sleep(20 * time.Millisecond)
		h.cmd.Process.Signal(syscall.SIGINT)
	}},
}

// places are where a run is when it happens: before, inside and after what it does.
var places = []string{
	"before-step:1", "statement:1", "statement:2", "statement:4", "after-step:1", "after-step:3", "before-commit:1",
	"after-commit:1", "before-commit:2",
	"outside-begun:1", "outside-begun:2", "outside-done:1", "outside-done:3", "batch-statement:2", "batch-before-commit:1",
	"batch-before-commit:3", "batch-committed:2", "run-finished:1",
}

// placesOf are the places of an engine.
func placesOf(name string) []string {
	if name == "MariaDB" { // has windows in which a table is locked
		return append(slices.Clone(places), "locked-statement:1", "locked-statement:2", "locked-statement:3",
			"locked-statement:5")
	}
	return places
}

// hazardous are the changes that faults come into, for each engine: together they have
// every kind of step that the engine has.
var hazardous = map[string][]killing{
	"SQLite": append(slices.Clone(killings), killing{"an index", "create index by_flag on vessel (flag)",
		"select count(*) from sqlite_schema where name = 'by_flag'", "1"}),
	"PostgreSQL": slices.Concat(serverKillings, killings),
	"MariaDB":    slices.Concat(mariadbKillings, killings),
}

// lacks are the kinds of step that an engine does not have.
var lacks = map[string][]engine.Kind{
	"SQLite":  {engine.Rewrite},
	"MariaDB": {engine.Rebuild},
}

// hazard is one fault that comes to one run.
type hazard struct {
	*office
	ownServer
	engine string
	r      *rand.Rand
	cmd    *runningCommand
	file   string // that the run waits at
	kind   string // of the step that it was in
	args   []string
	place  string
}

type runningCommand struct {
	Process *os.Process
	ended   chan struct{}
	output  *strings.Builder
}

func (h *hazard) goOn() { os.Remove(h.file) }

// cut ends every session of the database at the server but the one that says so.
func (h *hazard) cut() {
	db := h.open()
	defer db.Close()
	if h.engine == "PostgreSQL" {
		db.Exec("select pg_terminate_backend(pid) from pg_stat_activity where datname = current_database() and pid <> " +
			"pg_backend_pid()")
		return
	}
	rows, err := db.Query("select id from information_schema.processlist where db like concat(database(), '%') or db " +
		"like 'lastboard%' having id <> connection_id()")
	if err != nil {
		return
	}
	var list []int64
	for rows.Next() {
		var id int64
		if rows.Scan(&id) == nil {
			list = append(list, id)
		}
	}
	rows.Close()
	for _, id := range list {
		db.Exec(fmt.Sprint("kill ", id))
	}
}

// ownServer is a server that is killed and started again; none for a file.
type ownServer struct {
	postgres *server.Postgres
	mariadb  *server.MariaDB
}

// startServer starts one, until the test ends.
func startServer(t *testing.T, name string) (own ownServer, err error) {
	switch name {
	case "PostgreSQL":
		if own.postgres, err = server.StartPostgres("max_prepared_transactions = 20"); err == nil {
			t.Cleanup(func() { own.postgres.Stop() })
		}
	case "MariaDB":
		if own.mariadb, err = server.StartMariaDB("innodb-flush-log-at-trx-commit=2", "innodb-doublewrite=1"); err == nil {
			t.Cleanup(func() { own.mariadb.Stop() })
		}
	}
	return own, err
}

// database makes one on it, and gives its URL.
func (s ownServer) database(t *testing.T) (url string) {
	t.Helper()
	var name string
	var err error
	if s.postgres != nil {
		name, err = s.postgres.Database()
		url = s.postgres.URL(name)
	} else {
		name, err = s.mariadb.Database()
		url = s.mariadb.URL(name)
	}
	if err != nil {
		t.Fatal(err)
	}
	return url
}

func (h *hazard) restart() {
	kill, start := h.postgres.Kill, h.postgres.Start
	if h.mariadb != nil {
		kill, start = h.mariadb.Kill, h.mariadb.Start
	}
	err := kill()
	if err == nil {
		err = start()
	}
	if err != nil {
		h.Errorf("the server does not start again: %v", err)
	}
}

// TestEveryFault is the promise: whatever happens to a run, at whatever place, forward or
// back, and while applications write, running it again ends it, taking it back takes it
// back, no row is lost or wrong, and nothing has to be cleared by hand.
func TestEveryFault(t *testing.T) {
	t.Parallel()
	t.Logf("-fault-seed %d", *faultSeed)
	var tally sync.Map
	t.Run("faults", func(t *testing.T) {
		for i, name := range everywhere {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				hazardsOf(t, name, (*faults+i)/len(everywhere), rand.New(rand.NewPCG(*faultSeed, uint64(i))), &tally)
			})
		}
	})
	tried := 0
	counts := map[string]int{}
	tally.Range(func(k, v any) bool {
		counts[k.(string)] = int(v.(*atomic.Int32).Load())
		if !strings.Contains(k.(string), ", in ") {
			tried += counts[k.(string)]
		}
		return true
	})
	for _, k := range slices.Sorted(maps.Keys(counts)) {
		t.Logf("%-50s %4d tried and survived", k, counts[k])
	}
	t.Logf("%d faults in all", tried)
	for _, name := range everywhere {
		for _, k := range engine.Kinds {
			if *faults >= 1000 && !slices.Contains(lacks[name], k) &&
				counts[fmt.Sprintf("%s, in a step of the kind %s", name, k)] == 0 {
				t.Errorf("no fault came into a step of the kind %s on %s", k, name)
			}
		}
	}
	if tried < *faults*2/3 {
		t.Errorf("only %d faults of %d were tried: the test has lost its aim", tried, *faults)
	}
}

// hazardsOf tries faults on one engine, one after the other, until it has tried so many.
func hazardsOf(t *testing.T, name string, wanted int, r *rand.Rand, tally *sync.Map) {
	own, err := startServer(t, name)
	if err != nil {
		t.Fatal(err)
	}
	changes := slices.DeleteFunc(slices.Clone(hazardous[name]), func(k killing) bool {
		return name != "SQLite" && strings.Contains(k.query, "sqlite_schema")
	})
	all := mishaps(name, r)
	never := map[string]bool{} // does a change come to a place
	tried, next := 0, 0
	for round := 0; tried < wanted && round < 3*wanted && !t.Failed(); round++ {
		k := changes[round%len(changes)]
		t.Run(fmt.Sprintf("%d %s", round, k.name), func(t *testing.T) {
			running.Store(t, true) // one after the other: the server is killed for all
			h := &hazard{engine: name, r: r, ownServer: own}
			h.office = hazardOffice(t, h)
			h.migration("0002-change", "-- A change\n"+k.statement+";\n")
			base := h.still()
			came := 0
			for end := next + len(all); came < 4 && next < end && tried < wanted && !t.Failed(); next++ {
				m := all[next%len(all)]
				way := fmt.Sprint(k.name, m.place, m.back)
				if never[way] = never[way] || !h.try(k, base, m); never[way] {
					continue
				}
				came++
				tried++
				for _, what := range []string{m.sort.name, "in " + k.name, "in a step of the kind " + h.kind} {
					n, _ := tally.LoadOrStore(name+", "+what, new(atomic.Int32))
					n.(*atomic.Int32).Add(1)
				}
			}
		})
	}
}

// A misfortune is what happens to a run, where, and on which way.
type misfortune struct {
	sort  sortOf
	place string
	back  bool
}

// mishaps lists everything that can happen on an engine at every place on both ways, in
// an order of its own for every seed.
func mishaps(name string, r *rand.Rand) (list []misfortune) {
	for _, s := range sorts {
		if !slices.Contains(s.on, name) {
			continue
		}
		for _, place := range placesOf(name) {
			list = append(list, misfortune{s, place, false}, misfortune{s, place, true})
		}
	}
	r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	return list
}

var (
	forward = []string{"advance", "--yes", "--settle", "--let-writers-wait"}
	back    = []string{"retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait"}
)

// try lets one fault come to a run forward, or to one back, then ends what is unfinished
// one way or the other. It reports whether the run came to the place at all.
func (h *hazard) try(k killing, base string, m misfortune) bool {
	h.Helper()
	what := fmt.Sprintf("%s, %s at %s of %v", k.name, m.sort.name, m.place,
		map[bool]string{true: "the way back", false: "the way forward"}[m.back])
	args := forward
	if m.back {
		h.must(forward...)
		args = back
	}
	defer func() {
		if h.Failed() && h.cmd != nil {
			h.Logf("after %s\n%s", what, h.cmd.output)
		}
	}()
	w := h.writers(!strings.Contains(k.statement, "on update"))
	came := h.suffer(args, m.sort, m.place)
	if !m.back && (!came || h.r.IntN(2) == 0) {
		h.must(forward...)
		h.same(k.query, k.want)
		h.wants(h.code(0, "audit"), "matches:")
	}
	h.must(back...)
	w.stop(h.office)
	if now := h.still(); now != base {
		h.Errorf("%s: it does not lead back to the start: %s", what, firstDifference(base, now))
	}
	h.wants(h.code(0, "audit"), "matches:") // nothing is left that the ledger does not know
	return came
}

// suffer runs the program until it comes to a place, and lets the fault come.
func (h *hazard) suffer(args []string, s sortOf, place string) bool {
	h.Helper()
	h.file, h.args, h.place = filepath.Join(h.dir, "here"), args, place
	os.Remove(h.file)
	h.env = []string{"LASTBOARD_FAULT=" + place, "LASTBOARD_FAULT_FILE=" + h.file}
	c := h.command(args...)
	h.env = nil
	out := &strings.Builder{}
	c.Stdout, c.Stderr = out, out
	if err := c.Start(); err != nil {
		h.Fatal(err)
	}
	h.cmd = &runningCommand{Process: c.Process, ended: make(chan struct{}), output: out}
	go func() { c.Wait(); close(h.cmd.ended) }()
	came := false
	for !came {
		select {
		case <-h.cmd.ended:
			if c.ProcessState.ExitCode() != 0 {
				h.Errorf("undisturbed it ends with %d\n%s", c.ProcessState.ExitCode(), out)
			}
			return false
		case <-time.After(2 * time.Millisecond):
			kind, err := os.ReadFile(h.file)
			came, h.kind = err == nil, string(kind)
		}
	}
	s.do(h)
	h.goOn()
	select {
	case <-h.cmd.ended:
	case <-time.After(patience):
		c.Process.Kill()
		h.Errorf("it does not end after %s\n%s", s.name, out)
	}
	return true
}

// hazardOffice is a database with room for writers: each counts in a row of its own and
// adds rows of its own.
func hazardOffice(t *testing.T, h *hazard) *office {
	t.Helper()
	switch h.engine {
	case "SQLite":
		return wide(t, "pragma journal_mode = wal", "create table tide (id integer primary key, n integer not null)",
			"insert into tide values (1, 0), (2, 0)")
	case "PostgreSQL":
		return wideServerOn(t, h.database, "create table tide (id integer primary key, n integer not null)",
			"insert into tide values (1, 0), (2, 0)")
	}
	return wideMariaDBOn(t, h.database, "create table tide (id integer primary key, n integer not null) engine=InnoDB",
		"insert into tide values (1, 0), (2, 0)")
}

// still is all that the applications' tables hold but what the writers write.
func (h *hazard) still() string {
	h.exec("update tide set n = 0 where n > 0", "delete from tide where id > 2")
	return h.snapshot()
}

// writers are applications that write while a run goes on.
type writers struct {
	done          atomic.Bool
	all           sync.WaitGroup
	counted, sure [2]int64 // acknowledged, and tried
	added         [2][]int64
}

// writers starts two, each of which counts and adds rows. What is refused, because the
// database is away or held, is tried again; what is acknowledged has to be there in the
// end. everywhere says that they write to the rows that the run changes, too.
func (h *hazard) writers(everywhere bool) *writers {
	w := &writers{}
	for i := range 2 {
		w.all.Go(func() {
			db := h.open()
			defer db.Close()
			next := int64(1000 * (i + 1))
			for !w.done.Load() {
				w.sure[i]++
				if _, err := db.Exec(fmt.Sprintf("update tide set n = n + 1 where id = %d", i+1)); err == nil {
					w.counted[i]++
				}
				if _, err := db.Exec(fmt.Sprintf("insert into tide (id, n) values (%d, 0)", next)); err == nil {
					w.added[i] = append(w.added[i], next)
				}
				next++
				if everywhere {
					// which may be gone, or called otherwise
					db.Exec(fmt.Sprintf("update vessel set name = name where id = %d", 1+next%3000))
				}
				time.Sleep(2 * time.Millisecond)
			}
		})
	}
	return w
}

// stop ends the writers and looks for what they wrote.
func (w *writers) stop(o *office) {
	o.Helper()
	w.done.Store(true)
	w.all.Wait()
	db := o.open()
	defer db.Close()
	for i := range 2 {
		var n int64
		if err := db.QueryRow(fmt.Sprintf("select n from tide where id = %d", i+1)).Scan(&n); err != nil {
			o.Errorf("the row of writer %d: %v", i+1, err)
		}
		if n < w.counted[i] || n > w.sure[i] {
			o.Errorf("writer %d was told %d times that it had counted, tried %d times, and finds %d", i+1, w.counted[i],
				w.sure[i], n)
		}
		there := map[int64]bool{}
		rows, err := db.Query("select id from tide where id > 2")
		if err != nil {
			o.Fatal(err)
		}
		for rows.Next() {
			var id int64
			if err := rows.Scan(&id); err != nil {
				o.Fatal(err)
			}
			there[id] = true
		}
		rows.Close()
		for _, id := range w.added[i] {
			if !there[id] {
				o.Errorf("row %d of writer %d was acknowledged and is gone", id, i+1)
			}
		}
	}
}
