package test

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

var (
	storms    = flag.Int("storm", 1, "how many rounds of the storm there are on each engine")
	stormSeed = flag.Uint64("storm-seed", 0, "the seed by which they are chosen; 0 takes the day's")
)

// A storm is what a database has to bear at once: applications that write in every way, and
// a run to which something happens, forward and back.
type storm struct {
	*hazard
	crews   []*convoy
	kind    interleaved
	weather sync.RWMutex // one who empties the table is alone
	done    chan struct{}
	all     sync.WaitGroup
	lock    sync.Mutex
	counts  map[string]int
	strange map[string]int // errors that no application should get
}

func (s *storm) count(what string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.counts[what]++
}

// count counts what a crew of a storm does.
func (f *convoy) count(what string) {
	if f.storm != nil {
		f.storm.count(what)
	}
}

// ways are what happens to a run in a storm, beside what the faults are.
func ways(name string) []sortOf {
	list := []sortOf{
		{"nothing", everywhere, func(*hazard) {}},
		{"frozen, and a second runner", everywhere, func(h *hazard) {
			h.cmd.Process.Signal(syscall.SIGSTOP)
			h.goOn()
			c := h.command(h.args...)
			if c.Start() == nil {
				time.Sleep(time.Duration(h.r.IntN(5000)) * time.Millisecond)
				c.Process.Signal(syscall.SIGINT)
				h.cmd.Process.Signal(syscall.SIGCONT)
				c.Wait()
			}
			h.cmd.Process.Signal(syscall.SIGCONT)
		}},
		{"two at once", everywhere, func(h *hazard) {
			c := h.command(h.args...)
			h.goOn()
			c.Run()
		}},
	}
	for _, s := range sorts {
		if slices.Contains(s.on, name) && s.name != "second runner" { // who may come to its turn here
			list = append(list, s)
		}
	}
	return list
}

// TestStorm lets applications write in every way that they can, while runs are killed, cut,
// frozen and doubled, forward and back: in the end every row is what a copy says on which
// the applications' acknowledged statements alone were played, and nobody got an error that
// the engine alone would not have given.
func TestStorm(t *testing.T) {
	t.Parallel()
	seed := *stormSeed
	if seed == 0 {
		seed = uint64(time.Now().Unix() / 86400)
	}
	t.Logf("-storm-seed %d", seed)
	for i, name := range everywhere {
		t.Run(name, func(t *testing.T) {
			running.Store(t, true)
			t.Parallel()
			own, err := startServer(t, name)
			if err != nil {
				t.Fatal(err)
			}
			h := &hazard{engine: name, r: rand.New(rand.NewPCG(seed, uint64(i))), ownServer: own}
			h.office = interleavedOffice(t, name, h.database)
			s := &storm{hazard: h, counts: map[string]int{}, strange: map[string]int{}}
			kinds := interleavedKinds
			for n := range *storms {
				s.round(kinds[(int(seed)+n)%len(kinds)])
				if t.Failed() {
					break
				}
				s.count("rounds")
			}
			for _, k := range slices.Sorted(maps.Keys(s.counts)) {
				t.Logf("%-60s %6d", k, s.counts[k])
			}
			for what, n := range s.strange {
				t.Errorf("%d times an application was told: %s", n, what)
			}
		})
	}
}

// round lets one change run forward and back.
func (s *storm) round(k interleaved) {
	s.Helper()
	s.kind, s.done, s.crews = k, make(chan struct{}), nil
	begin := &convoy{office: s.office, engine: s.engine, ships: map[int]*ship{}}
	begin.begin(k)
	for w := range 3 {
		f := &convoy{office: s.office, engine: s.engine, kind: k,
			r: rand.New(rand.NewPCG(s.r.Uint64(), uint64(w))), crew: w + 1, storm: s,
			ships: map[int]*ship{}, gone: map[int]bool{}, moved: map[int]bool{}, touched: map[int]bool{}}
		for o, ship := range begin.ships {
			if o%3 == w {
				f.ships[o] = ship
			}
		}
		s.crews = append(s.crews, f)
	}
	s.exec("delete from tide", "insert into tide values (1, 0), (2, 0), (3, 0)")
	s.set()
	what := k.name + ", lock_wait " + s.anyLockWait(s.r) + ", forward: "
	if s.r.IntN(6) == 0 {
		what += s.byScript()
	} else {
		what += s.suffers(forward)
	}
	if s.r.IntN(3) > 0 {
		s.ends(forward, what)
		s.calm()
		s.holds(what)
		s.set()
	}
	what += ", back: " + s.suffers(back)
	s.ends(back, what)
	s.calm()
	all := &convoy{office: s.office, engine: s.engine, kind: k, ships: map[int]*ship{}, gone: map[int]bool{},
		moved: map[int]bool{}}
	for _, f := range s.crews {
		maps.Copy(all.ships, f.ships)
		maps.Copy(all.gone, f.gone)
		maps.Copy(all.moved, f.moved)
	}
	all.check(k, what)
	if r := s.run("audit"); r.code != 0 {
		s.Errorf("%s: %s\n%s\n%s", what, r, s.run("kept"), s.run("ledger"))
	}
}

// suffers starts a run, and lets something happen to it at a statement that it sends.
func (s *storm) suffers(args []string) string {
	s.Helper()
	list := ways(s.engine)
	way, place := list[s.r.IntN(len(list))], fmt.Sprint("sent:",
		1+s.r.IntN(map[string]int{"SQLite": 50, "PostgreSQL": 120, "MariaDB": 120}[s.engine]))
	if s.engine == "MariaDB" && s.r.IntN(3) == 0 {
		place = fmt.Sprint("locked-statement:", 1+s.r.IntN(8))
	}
	p := s.pausedAt(place, args...)
	if p == nil {
		s.count("it was done before anything happened")
		return "nothing"
	}
	s.cmd, s.file, s.args = &runningCommand{Process: p.cmd.Process, ended: p.ended}, p.file, args
	way.do(s.hazard)
	p.goOn()
	s.count("a run met: " + way.name)
	return way.name + " at " + place
}

// byScript lets an administrator run the change as a script, which is killed or comes to its end.
func (s *storm) byScript() string {
	s.Helper()
	script := s.run(append([]string{"forecast", "--script"}, forward[2:]...)...)
	if script.code != 0 {
		s.wants(script, "no-script")
		return "no script"
	}
	c := s.client(script.stdout)
	var said bytes.Buffer
	c.Stdout, c.Stderr = &said, &said
	if err := c.Start(); err != nil {
		s.Fatal(err)
	}
	way := "a script"
	if s.r.IntN(3) > 0 {
		way = "a script that is killed"
		time.AfterFunc(time.Duration(s.r.IntN(400))*time.Millisecond, func() { c.Process.Kill() })
	}
	err := c.Wait()
	s.silent()
	if err == nil {
		way += ", to its end"
	} else if text := said.String(); way == "a script" && !s.expectedOf(text) {
		s.Errorf("the script failed: %v\n%s", err, text)
	}
	s.count("a run was " + way)
	return way
}

// expectedOf reports whether a script may stop with what its client says: its locks were not given, or the client is
// too old.
func (s *storm) expectedOf(said string) bool {
	for _, text := range []string{"lock timeout", "the lock was not given", "Lock wait timeout", "eadlock",
		"database is locked", "this script needs sqlite3", "could not serialize"} {
		if strings.Contains(said, text) {
			return true
		}
	}
	return false
}

// ends runs the program until it has come to its end.
func (s *storm) ends(args []string, what string) {
	s.Helper()
	var r result
	for range 30 {
		if r = s.run(args...); r.code == 0 {
			return
		}
		if r.code != 3 && r.code != 4 && r.code != 6 && !strings.Contains(r.stderr, "lock-not-given") {
			break
		}
		s.count(fmt.Sprintf("a run gave up with exit %d", r.code))
		time.Sleep(100 * time.Millisecond)
	}
	s.Fatalf("%s: %v does not come to its end: %s", what, args, r)
}

// holds asserts what the change leads to.
func (s *storm) holds(what string) {
	s.Helper()
	all := &convoy{office: s.office, engine: s.engine, kind: s.kind, touched: map[int]bool{}}
	for _, f := range s.crews {
		maps.Copy(all.touched, f.touched)
	}
	all.holds(s.kind, what)
}

// set lets the applications write.
func (s *storm) set() {
	s.done = make(chan struct{})
	for _, f := range s.crews {
		s.all.Go(func() { f.sail(s.done) })
	}
}

// calm ends that.
func (s *storm) calm() {
	close(s.done)
	s.all.Wait()
}

// sail does one thing after another until it is over.
func (f *convoy) sail(done chan struct{}) {
	db := f.open()
	defer db.Close()
	for {
		select {
		case <-done:
			return
		case <-time.After(time.Duration(f.r.IntN(6)) * time.Millisecond):
		}
		what, do := f.thing(f.r.IntN(things))
		alone := strings.HasPrefix(what, "the table is emptied")
		if strings.HasPrefix(what, "somebody") || alone && f.r.IntN(40) > 0 {
			continue
		}
		if alone {
			f.storm.weather.Lock()
		} else {
			f.storm.weather.RLock()
		}
		err := do(db)
		if alone {
			f.storm.weather.Unlock()
		} else {
			f.storm.weather.RUnlock()
		}
		switch {
		case err == nil:
			f.storm.count(what)
		case !f.expected(err):
			f.storm.lock.Lock()
			f.storm.strange[what+": "+err.Error()]++
			f.storm.lock.Unlock()
		}
	}
}

// expected reports whether an application would have got an error anyway: it waited for
// too long, gave way to another, lost its connection, or left a column out that is wanted
// of new rows by then.
func (f *convoy) expected(err error) bool {
	for _, text := range []string{"tag", "flag", "lock", "could not serialize", "terminat", "bad connection",
		"invalid connection", "EOF", "refused", "reset", "broken pipe", "closed", "killed", "shutdown", "starting up",
		"shutting down", "recovery mode",
		// A server that dies between two statements of a script in which a column takes another's
		// place leaves a trigger without its column, until the run goes on (docs/safety.md).
		"Unknown column 'lastboard_",
		"has an error in its body", // where a session is killed as it reads the triggers (docs/engines.md)
		"interrupted", "Record has changed", "busy", "connect", "XAER_RMFAIL"} {
		if strings.Contains(err.Error(), text) {
			return true
		}
	}
	return false
}

// errUndone is that of a transaction which an application has given up.
var errUndone = errors.New("given up")

// within does something in a transaction as applications begin and end them, and says what
// came of it even when its end got no answer: each notes its number in a row of its own.
func (f *convoy) within(db *sql.DB, do func(sender) error) error {
	ctx := context.Background()
	c, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	f.sent++
	number := f.sent
	begin, end, undo := "begin", "commit", "rollback"
	two := f.storm != nil && f.engine != "SQLite" && f.r.IntN(8) == 0 // its commit has two phases
	id := fmt.Sprintf("'%s crew %d thing %d'", f.name(), f.crew, number)
	switch {
	case two && f.engine == "MariaDB":
		begin, end, undo = "xa start "+id, "xa commit "+id, "xa rollback "+id
	case f.engine == "SQLite" && f.storm != nil:
		begin = "begin immediate"
	case f.storm != nil && f.engine == "PostgreSQL":
		begin += []string{"", " isolation level repeatable read", " isolation level serializable"}[f.r.IntN(3)]
	case f.storm != nil && f.r.IntN(3) == 0:
		if _, err := c.ExecContext(ctx, "set transaction isolation level serializable"); err != nil {
			return err
		}
	}
	if _, err := c.ExecContext(ctx, begin); err != nil {
		return err
	}
	back := func(err error) error {
		if two && f.engine == "MariaDB" {
			c.ExecContext(ctx, "xa end "+id)
		}
		c.ExecContext(ctx, undo)
		return err
	}
	if f.engine == "PostgreSQL" { // before the first snapshot: triggers are there or not until the end
		if _, err := c.ExecContext(ctx, "lock table vessel in row exclusive mode"); err != nil {
			return back(err)
		}
		if f.r.IntN(6) == 0 { // as what applies a stream of changes does
			if _, err := c.ExecContext(ctx, "set local session_replication_role = replica"); err != nil {
				return back(err)
			}
			f.count("triggers off")
		}
	}
	if err := do(c); err != nil {
		return back(err)
	}
	if err := c.QueryRowContext(ctx, f.follow()).Scan(&f.followed, &f.fed); err != nil {
		return back(err)
	}
	if f.storm == nil {
		_, err := c.ExecContext(ctx, end)
		return err
	}
	if _, err := c.ExecContext(ctx, fmt.Sprintf("update tide set n = %d where id = %d", number, f.crew)); err != nil {
		return back(err)
	}
	if two {
		prepare := []string{"prepare transaction " + id}
		if f.engine == "MariaDB" {
			prepare = []string{"xa end " + id, "xa prepare " + id}
		} else {
			end = "commit prepared " + id
		}
		for _, text := range prepare {
			if _, err = c.ExecContext(ctx, text); err != nil {
				break
			}
		}
		if err == nil {
			f.count("commits in two phases")
			time.Sleep(time.Duration(f.r.IntN(40)) * time.Millisecond)
		}
	}
	if err == nil {
		_, err = c.ExecContext(ctx, end)
	}
	if err == nil {
		return nil
	}
	if !two {
		end = ""
	}
	return f.ask(c, number, end, err)
}

// ask finds out what came of a transaction whose end got no answer, and ends it where it
// stands prepared.
func (f *convoy) ask(c *sql.Conn, number int, end string, lost error) error {
	c.Close()
	db := f.open()
	defer db.Close()
	for range 600 {
		var n int
		if err := db.QueryRow(fmt.Sprint("select n from tide where id = ", f.crew)).Scan(&n); err == nil {
			if end != "" { // once the server is there again
				db.Exec(end)
			}
			// A server that ends a session may still be at its commit.
			time.Sleep(50 * time.Millisecond)
			if db.QueryRow(fmt.Sprint("select n from tide where id = ", f.crew)).Scan(&n) == nil {
				if n == number {
					return nil
				}
				return lost
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	f.Errorf("nobody says what came of a transaction: %v", lost)
	return lost
}

// sender sends statements.
type sender interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}
