package test

import (
	"fmt"
	"math/rand/v2"
	"net/url"
	"testing"
	"time"
)

// TestWhatRunsUnderALockComesToItsEnd cuts the line to the server in the moment in which a column
// takes another's place: the server does the whole of it, with the triggers that go with the
// column, and no application gets an error while nobody runs Lastboard.
func TestWhatRunsUnderALockComesToItsEnd(t *testing.T) {
	beside(t)
	for i, c := range []struct{ name, statement, cut, same string }{
		{"another type", "alter table vessel alter length_ft set data type varchar(20) using (cast(length_ft as text) " +
			"|| ' ft'), rename length_ft to length", "drop column", "select count(*) from vessel where length not like '% ft'"},
		{"a column that is filled", "alter table vessel add tag varchar(70) not null using (name || '!')", "change column",
			"select count(*) from vessel where tag <> concat(name, '!') and id <> 9000"},
	} {
		if !itsTurn(i, 2) {
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			o := wideMariaDB(t)
			u, err := url.Parse(o.url)
			if err != nil {
				t.Fatal(err)
			}
			r := relayTo(t, u.Host, mariadbStatements)
			r.cuts = []string{c.cut, "drop trigger"}
			direct := o.url
			u.Host, u.RawQuery = r.address, "tls=off"
			o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+u.String()+
				"'\nlive = true\n[databases.dev.pace]\nlock_wait = '100us'\nbatch_time = '1ms'\nwork_share = '83 %'\n")
			o.migration("0002-change", "-- A change\n"+c.statement+";\n")
			first := o.run("advance", "--yes", "--settle", "--let-writers-wait")
			if !r.cut.Load() || first.code == 0 {
				t.Fatalf("the line was not cut: %s", first)
			}
			o.url = direct
			time.Sleep(100 * time.Millisecond) // a write waits for the lock; it does not fail
			o.exec("update vessel set name = 'written' where id = 7", "insert into vessel (id, name) values (9000, 'new')",
				"delete from vessel where id = 8")
			o.must("advance", "--yes", "--settle", "--let-writers-wait")
			o.same(c.same, "0")
			o.wants(o.code(0, "audit"), "matches:")
			o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
			o.wants(o.code(0, "audit"), "matches:")
		})
	}
}

// TestKilledInTheMiddleOfAScript lets a server and the program die between any two statements of a
// script, and the program again on its way back: what was kept for the way forward, or was just
// about to be let go of, is neither left nor without what follows its rows.
func TestKilledInTheMiddleOfAScript(t *testing.T) {
	beside(t)
	seed := uint64(*day)
	for i, k := range interleavedKinds {
		if !itsTurn(i, 16) {
			continue
		}
		t.Run(k.name, func(t *testing.T) {
			t.Logf("-day %d", seed)
			r := rand.New(rand.NewPCG(seed, uint64(i)))
			o := interleavedOffice(t, "MariaDB", nil)
			f := &convoy{office: o, engine: "MariaDB", ships: map[int]*ship{}}
			f.begin(k)
			const rows = "select * from vessel order by id"
			whole := o.query(rows)
			o.must(forward...)
			o.must(back...) // what this keeps is put back on the way forward
			for place := 1; !t.Failed(); place++ {
				p := o.pausedAt(fmt.Sprint("locked-statement:", place), forward...)
				if p == nil {
					o.must(back...)
					break
				}
				p.cmd.Process.Kill()
				p.goOn()
				if q := o.pausedAt(fmt.Sprint("sent:", 1+r.IntN(30)), back...); q != nil {
					q.cmd.Process.Kill()
					q.goOn()
					o.must(back...)
				}
				if a := o.run("audit"); a.code != 0 {
					t.Errorf("killed at statement %d: %s", place, a)
				}
				if got := o.query(rows); got != whole {
					t.Errorf("killed at statement %d: wanted\n%s\ngot\n%s", place, whole, got)
				}
			}
		})
	}
}
