package test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"
)

// paused is the program while it waits at a place of its way.
type paused struct {
	*office
	cmd       *exec.Cmd
	file      string
	out, errs bytes.Buffer
	ended     chan struct{}
}

// pausedAt starts the program and waits until it has come to a place; nil where it ends
// before that.
func (o *office) pausedAt(place string, args ...string) *paused {
	o.Helper()
	file := filepath.Join(o.TempDir(), "here")
	o.env = []string{"LASTBOARD_FAULT=" + place, "LASTBOARD_FAULT_FILE=" + file}
	p := o.start(args...)
	o.env, p.file = nil, file
	for {
		select {
		case <-p.ended:
			return nil
		case <-time.After(2 * time.Millisecond):
			if _, err := os.Stat(p.file); err == nil {
				return p
			}
		}
	}
}

// start starts the program.
func (o *office) start(args ...string) *paused {
	o.Helper()
	p := &paused{office: o, ended: make(chan struct{}), cmd: o.command(args...)}
	p.cmd.Stdout, p.cmd.Stderr = &p.out, &p.errs
	if err := p.cmd.Start(); err != nil {
		o.Fatal(err)
	}
	go func() { p.cmd.Wait(); close(p.ended) }()
	return p
}

// goOn lets it go on to its end.
func (p *paused) goOn() result {
	p.Helper()
	os.Remove(p.file)
	select {
	case <-p.ended:
	case <-time.After(patience):
		p.cmd.Process.Kill()
		<-p.ended
		p.Errorf("it does not end")
	}
	code := p.cmd.ProcessState.ExitCode()
	return result{p.out.String(), p.errs.String(), code, code == -1}
}

// onEach runs a test on a small database of each engine, with the statements' tables.
func onEach(t *testing.T, statements []string, test func(t *testing.T, o *office)) {
	t.Helper()
	for _, name := range everywhere {
		t.Run(name, func(t *testing.T) { test(t, officeOn(t, name, statements)) })
	}
}

// onOneOfToday runs a test on the engine that is today's for it.
func onOneOfToday(t *testing.T, statements []string, test func(t *testing.T, o *office)) {
	t.Helper()
	for _, name := range ofToday(t, everywhere) {
		t.Run(name, func(t *testing.T) { test(t, officeOn(t, name, statements)) })
	}
}

// officeOn makes a small database of an engine, under care, with the statements' tables.
func officeOn(t *testing.T, name string, statements []string) (o *office) {
	t.Helper()
	switch name {
	case "SQLite":
		o = newOffice(t, statements...)
	case "PostgreSQL":
		o = newServerOffice(t, statements...)
	default:
		o = newOfficeOn(t, mariadb, statements...)
	}
	o.must("adopt", "--yes")
	return o
}

// TestDecidedAnew is that a run which was decided before another one changed the database
// does nothing: not twice, not back twice, and not on with what has been taken back.
func TestDecidedAnew(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table berth (id integer primary key, n integer)",
		"insert into berth values (1, 1), (2, 1)"}, func(t *testing.T, o *office) {
		meanwhile := func(args []string, others ...[]string) {
			t.Helper()
			p := o.pausedAt("claiming:1", args...)
			if p == nil {
				t.Fatalf("%v ended at once", args)
			}
			for _, other := range others {
				o.must(other...)
			}
			r := p.goOn()
			if r.code != 3 {
				t.Errorf("%v meanwhile %v: wanted exit 3, got %s", args, others, r)
			}
			o.wants(r, "another run has changed this database since it was looked at")
		}
		advance, retreat := []string{"advance", "--yes"}, []string{"retreat", "--to", "1", "--yes"}
		o.migration("0002-double", "-- Twice as many\nbackfill berth set n = n * 2;\n")
		meanwhile(advance, advance)
		o.same("select n from berth order by id", "2\n2")
		meanwhile(retreat, retreat)
		o.same("select n from berth order by id", "1\n1")
		o.must(advance...)
		meanwhile(retreat, retreat, advance)
		o.same("select n from berth order by id", "2\n2")
	})
}

// TestGoingOnDecidedAnew is that a stopped migration which was taken back meanwhile is not
// gone on with.
func TestGoingOnDecidedAnew(t *testing.T) {
	beside(t)
	for name, make := range wides {
		t.Run(name, func(t *testing.T) {
			o := make(t)
			o.migration("0002-double", "-- Twice as many\nbackfill vessel set berth_id = berth_id * 2;\n")
			start := o.query("select sum(berth_id) from vessel")
			o.dies("batch-committed:2", "advance", "--yes")
			p := o.pausedAt("claiming:1", "advance", "--yes")
			if p == nil {
				t.Fatal("it ended at once")
			}
			o.must("retreat", "--to", "1", "--yes")
			if r := p.goOn(); r.code != 3 {
				t.Errorf("wanted exit 3, got %s", r)
			}
			if now := o.query("select sum(berth_id) from vessel"); now != start {
				t.Errorf("wanted %s as at the start, got %s", start, now)
			}
			o.wants(o.code(0, "status"), "waiting")
			o.wants(o.code(0, "audit"), "matches:")
		})
	}
}

// wides gives a database of each engine whose changes go the way of large live tables.
var wides = map[string]func(*testing.T) *office{
	"SQLite": func(t *testing.T) *office { return wide(t) }, "PostgreSQL": wideServer, "MariaDB": wideMariaDB,
}
