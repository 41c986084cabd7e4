package test

import (
	"strings"
	"syscall"
	"testing"
	"time"
)

// ofBefore and ofAfter are what programs of before and of after write while the overlap of a database of
// droppingOffice is open.
const (
	ofBefore = "update vessel set flag = case flag when 'SE' then 'NO' else 'SE' end where id = 1"
	ofAfter  = "update vessel set tons = coalesce(tons, 0) + 1, name = 'of after' where id = 2"
)

// writes does a statement of an application.
func (o *office) writes(text string) error {
	db := o.open()
	defer db.Close()
	return again(db, text)
}

// trial starts a trial and waits until programs of before are refused.
func (o *office) trial(lasts string, args ...string) *paused {
	o.Helper()
	p := o.start(append([]string{"settle", "2", "--yes", "--trial", lasts}, args...)...)
	for {
		select {
		case <-p.ended:
			o.Fatalf("the trial has ended: %s\n%s", &p.out, &p.errs)
		case <-time.After(20 * time.Millisecond):
			if err := o.writes(ofBefore); err != nil {
				if !strings.Contains(err.Error(), "flag of vessel cannot be written until") {
					o.Errorf("the error of a program of before: %v", err)
				}
				if o.writes("update old_berth set code = code") != nil { // the last that is refused
					return p
				}
			}
		}
	}
}

// TestTrialOfSettling is that a trial refuses what programs of before write, and nothing else, for its
// time alone, that every command says so, and that nothing of it stays.
func TestTrialOfSettling(t *testing.T) {
	beside(t)
	for _, server := range everywhere {
		t.Run(server, func(t *testing.T) {
			o := droppingOffice(t, server, 20)
			o.wants(o.code(2, "settle", "2", "--trial", "5s", "--yes"), "no migration 2")
			o.must("advance", "--yes")
			for _, wrong := range []string{"soon", "0s", "-5s", "100h", ""} {
				o.wants(o.code(2, "settle", "--trial", wrong, "--yes"), "trial-length")
			}
			o.wants(o.code(2, "settle", "--settle-after", "--yes"), "trial-length")
			before := o.serverOrFile()
			p := o.trial("10m")
			if err := o.writes(ofAfter); err != nil {
				t.Errorf("a program of after: %v", err)
			}
			for _, text := range []string{"insert into vessel (id, name, flag) values (90, 'of before', 'SE')",
				"insert into old_berth values (2, 'B')", "update old_berth set code = 'C'"} {
				if err := o.writes(text); err == nil || !strings.Contains(err.Error(), "cannot be written until") {
					t.Errorf("%s: %v", text, err)
				}
			}
			if err := o.writes("insert into vessel (id, name, tons) values (91, 'of after', 1)"); err != nil {
				t.Errorf("an insert of a program of after: %v", err)
			}
			for _, args := range [][]string{{"status"}, {"describe", "vessel"}, {"audit"}, {"check"}, {"forecast"},
				{"settle", "--check"}} {
				o.wants(o.run(args...), "trial: what programs of before write to vessel is refused until", "--trial off")
			}
			o.must("audit")
			for _, args := range [][]string{{"settle", "--yes"}, {"settle", "--trial", "off"},
				{"retreat", "--to", "1", "--yes"}} {
				r := o.code(3, args...)
				o.wants(r, "another")
			}
			p.cmd.Process.Signal(syscall.SIGINT)
			r := p.goOn()
			if r.code != 4 {
				t.Errorf("the trial: %s", r)
			}
			o.wants(r, "refused for 10m0s: ", "writes of column flag of vessel", "writes to table old_berth",
				"nothing is refused any more")
			if server == "PostgreSQL" {
				o.wants(r, "times or more") // the table that goes is not counted
			}
			o.wants(o.code(0, "ledger"), "trial")
			o.wants(o.code(0, "status"), "open")
			if err := o.writes(ofBefore); err != nil {
				t.Errorf("after the trial: %v", err)
			}
			o.exec("delete from vessel where id = 91", "update vessel set tons = null, name = 'vessel 2' where id = 2",
				"update vessel set flag = 'NO' where id = 1")
			if now := o.serverOrFile(); now != before {
				t.Errorf("something of the trial stays:\n%s\nwas\n%s", now, before)
			}
			o.must("settle", "--yes")
			o.must("audit")
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.must("audit")
		})
	}
}

// serverOrFile gives all of a database but Lastboard's ledger.
func (o *office) serverOrFile() string { return o.canonical(true) }

// TestTrialWhoseProgramDies is that a trial ends by the server's clock when its program is killed, that
// it can be ended before, and that the next run takes what is left of it away.
func TestTrialWhoseProgramDies(t *testing.T) {
	beside(t)
	for _, server := range ofToday(t, everywhere) {
		t.Run(server, func(t *testing.T) {
			o := droppingOffice(t, server, 20)
			o.must("advance", "--yes")
			kill := func(p *paused) {
				p.cmd.Process.Kill()
				<-p.ended
			}
			kill(o.trial("20s"))
			if err := o.writes(ofBefore); err == nil {
				t.Error("with its program a trial has ended")
			}
			o.wants(o.code(0, "status"), "trial: ")
			o.wants(o.code(5, "audit"), "leftover trigger", "_trial")
			for began := time.Now(); o.writes(ofBefore) != nil && time.Since(began) < patience; {
				time.Sleep(100 * time.Millisecond)
			}
			if err := o.writes(ofBefore); err != nil {
				t.Errorf("it does not end: %v", err)
			}
			if r := o.run("status"); strings.Contains(r.stdout, "trial: ") {
				t.Errorf("one that has ended is said to go on: %s", r)
			}
			kill(o.trial("10m"))
			o.wants(o.code(0, "settle", "--trial", "off"), "no trial is going on", "cleared away: trigger")
			if err := o.writes(ofBefore); err != nil {
				t.Errorf("it was ended: %v", err)
			}
			o.must("audit")
			kill(o.trial("10m"))
			o.wants(o.code(0, "settle", "--yes"), "cleared away: trigger", "0002 is settled")
			o.must("audit")
		})
	}
}

// TestSettleAfterATrial is that a trial settles at its end where nothing was refused, and not where
// something was, or where somebody has stopped it.
func TestSettleAfterATrial(t *testing.T) {
	beside(t)
	for _, server := range everywhere {
		t.Run(server, func(t *testing.T) {
			o := droppingOffice(t, server, 20)
			o.must("advance", "--yes")
			p := o.trial("10m", "--settle-after")
			p.cmd.Process.Signal(syscall.SIGINT)
			r := p.goOn()
			if r.code != 4 {
				t.Errorf("wanted exit 4: %s", r)
			}
			o.wants(r, "nothing is refused any more", "nothing was settled")
			if err := o.writes(ofBefore); err != nil {
				t.Errorf("after it was stopped: %v", err)
			}
			o.must("audit")
			if server == "PostgreSQL" { // which alone counts
				r = o.trial("2s", "--settle-after").goOn()
				if r.code != 5 {
					t.Errorf("wanted exit 5: %s", r)
				}
				o.wants(r, "still-written", "nothing is settled")
				o.wants(o.code(0, "status"), "open")
			}
			o.wants(o.code(0, "settle", "2", "--trial", "1s", "--settle-after", "--yes"), "the trial is over", "0002 is settled")
			o.must("audit")
		})
	}
}
