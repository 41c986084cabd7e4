package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// berthsOf makes a table of n rows.
func berthsOf(n int) []string {
	var rows []string
	for i := 1; i <= n; i++ {
		rows = append(rows, fmt.Sprintf("(%d, 'B%d', %d)", i, i, i%9))
	}
	return []string{"create table berth (id integer not null primary key, name varchar(20), depth integer)",
		"insert into berth values " + strings.Join(rows, ", ")}
}

const deeper = `-- Depths in feet
alter table berth add column feet integer;
backfill berth set feet = depth * 3 + 1;
alter table berth add column seen timestamp not null default current_timestamp;
backfill berth set name = upper(name) || '!';
`

// stoppedMidway runs that migration until its second batch of rows, and dies.
func stoppedMidway(o *office) {
	o.Helper()
	stoppedAt(o, deeper)
}

// stoppedAt does so with another migration of a live database.
func stoppedAt(o *office, migration string) {
	o.Helper()
	url := o.url
	if url == "" {
		url = "sqlite:harbour.db"
	}
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+url+
		"'\nlive = true\n[databases.dev.pace]\nlock_wait = '100us'\nbatch_time = '1ms'\n"+workShare(url))
	o.migration("0002-feet", migration)
	o.dies("batch-committed:2", "advance", "--yes", "--let-writers-wait")
}

// TestStoppedRunIsPlannedAnew is that a run goes on when planning it anew from what it was
// planned from gives the steps that it recorded, whatever has become of the table, and that it
// does not when they differ.
func TestStoppedRunIsPlannedAnew(t *testing.T) {
	beside(t)
	onOneOfToday(t, berthsOf(1200), func(t *testing.T, o *office) {
		stoppedMidway(o)
		// The table has grown out of what is small, and the clock has gone on.
		o.exec("insert into berth (id, name, depth) select id + 5000 * m.n, name, depth from berth cross join (select 1 " +
			"as n union all select 2) m")
		time.Sleep(1100 * time.Millisecond)

		// A step that somebody has written into the ledger is not run.
		step := " from " + o.ledger("step") + " where version = '0002' and number = "
		number := strings.TrimPrefix(o.query("select max(number) from "+o.ledger("step")+
			" where version = '0002' and step like '%upper(%'"), "int64:")
		was := strings.TrimPrefix(o.query("select step"+step+number), "string:")
		put := func(text string) {
			o.exec("update " + o.ledger("step") + " set step = '" + strings.ReplaceAll(text, "'", "''") +
				"' where version = '0002' and number = " + number)
		}
		put(strings.ReplaceAll(was, "upper(", "lower("))
		before := o.snapshot()
		o.wants(o.code(3, "advance", "--yes", "--let-writers-wait"), "plan-differs", "lower", "upper", "0002")
		o.unchanged(before)
		put(was)

		// A program of another version, and a server of another one, go on where they plan the same.
		o.exec("update " + o.ledger("plan") + " set facts = replace(facts, '\"program\":\"', '\"program\":\"0.0.1-')")
		o.must("advance", "--yes", "--let-writers-wait")
		o.same("select count(*) from berth where feet is null and id <= 3000", "0")
		o.same("select count(*) from berth where name = 'B7!'", "3")
		o.same("select count(*) from "+o.ledger("plan"), "0")
		o.must("retreat", "--to", "1", "--yes", "--let-writers-wait", "--settle")
		o.same("select count(*) from berth where name = 'B7'", "3")
	})
}

// TestOtherFactsAreShown is that a run whose facts would lead another way now says who planned
// what, and neither goes on nor back by itself.
func TestOtherFactsAreShown(t *testing.T) {
	beside(t)
	onEach(t, berthsOf(1200), func(t *testing.T, o *office) {
		stoppedMidway(o)
		back := []string{"retreat", "--to", "1", "--yes", "--let-writers-wait", "--settle"}
		other := func(from, to string) {
			o.exec("update " + o.ledger("plan") + " set facts = replace(facts, '" + from + "', '" + to + "')")
		}
		other(`"program":"`, `"program":"0.0.1-`)
		other(`"number":0`, `"number":7`)
		r := o.code(3, "advance", "--yes", "--let-writers-wait")
		o.wants(r, "plan-differs", "0.0.1-", "step 3", "lastboard retreat")
		before := o.snapshot()
		o.wants(o.code(3, back...), "plan-differs", "0.0.1-", "kept_1", "kept_8", "without --yes")
		o.unchanged(before)
		other(`"number":7`, `"number":0`)
		o.must(back...)
		o.same("select count(*) from berth where name = 'B7'", "1")
	})
}

// TestFactsThatAreGone is that a run of which nobody knows any more what it was planned from is neither gone on with
// nor taken back by itself, and that a person who has seen what is run takes it back.
func TestFactsThatAreGone(t *testing.T) {
	beside(t)
	onEach(t, berthsOf(1200), func(t *testing.T, o *office) {
		stoppedMidway(o)
		back := []string{"retreat", "--to", "1", "--let-writers-wait", "--settle", "--yes"}
		o.exec("delete from " + o.ledger("plan"))
		o.wants(o.code(3, "advance", "--yes", "--let-writers-wait"), "plan-differs", "is not recorded")
		before := o.snapshot()
		o.wants(o.code(3, back...), "plan-differs", "is not recorded")
		o.unchanged(before)
		term := o.onTerminal(100, 30, back[:5]...)
		term.until("Type yes to go on")
		term.press("yes\n")
		term.until("Go on with the recorded steps?")
		if !strings.Contains(term.screen(), "kept_1") {
			t.Errorf("what is run is not shown: %s", term.screen())
		}
		term.press("yes\n")
		<-term.done
		o.same("select count(*) from berth where name = 'B7'", "1")
	})
}

// TestWhatIsTakenAwayIsOurs is that a stopped run which is taken back runs nothing of what somebody has written into
// the ledger, neither where it begins nor where it goes on in the middle.
func TestWhatIsTakenAwayIsOurs(t *testing.T) {
	beside(t)
	onEach(t, append(berthsOf(1200), "create table crane (id integer)"), func(t *testing.T, o *office) {
		stoppedMidway(o)
		back := []string{"retreat", "--to", "1", "--yes", "--let-writers-wait", "--settle"}
		write := func(table, column, condition string) (undone func()) {
			of := " from " + o.ledger(table) + " where version = '0002' and " + condition
			was := strings.TrimPrefix(o.query("select max("+column+")"+of), "string:")
			put := func(text string) {
				o.exec("update " + o.ledger(table) + " set " + column + " = '" + strings.ReplaceAll(text, "'", "''") +
					"' where " + strings.SplitN(of, " where ", 2)[1])
			}
			bad := strings.ReplaceAll(was, `"undo":["`, `"undo":["drop table crane","`)
			if bad == was {
				t.Fatalf("nothing in it is taken away again: %s", was)
			}
			put(bad)
			return func() { put(was) }
		}
		refused := func() {
			t.Helper()
			before := o.snapshot()
			o.wants(o.code(3, back...), "plan-differs", "drop table crane", "0002")
			o.unchanged(before)
		}
		number := strings.TrimPrefix(o.query("select max(number) from "+o.ledger("step")+
			" where version = '0002' and state = 'done' and step like '%\"undo\":%'"), "int64:")
		undone := write("step", "step", "number = "+number)
		refused()
		undone()
		o.exec("insert into " + o.ledger("step") + " (version, direction, number, step, state, changed_rows, tries, " +
			"longest_wait) select version, direction, 99, replace(replace(step, '\"number\":" + number + ",', " +
			"'\"number\":99,'), '\"undo\":[\"', '\"undo\":[\"drop table crane\",\"'), 'done', 0, 0, 0 from " + o.ledger("step") +
			" where version = '0002' and number = " + number)
		refused()
		o.exec("delete from " + o.ledger("step") + " where number = 99")

		o.dies("batch-committed:1", back...)
		undone = write("plan", "facts", "direction = 'retreat'")
		refused()
		undone()
		o.must(back...)
		o.same("select count(*) from crane", "0")
		o.same("select count(*) from berth where name = 'B7'", "1")
		o.must("audit")
	})
}

// TestWayBackOutOfTheLedger is that what the ledger alone says of the way back is shown and
// asked about, and run by nobody who has said yes beforehand.
func TestWayBackOutOfTheLedger(t *testing.T) {
	beside(t)
	onEach(t, berthsOf(3), func(t *testing.T, o *office) {
		text := "-- A view of ours\nnative " + engineWord(o) +
			" $$create view deep as select id from berth where depth > 1$$\n  back $$drop view deep$$;\n"
		o.migration("0002-view", text)
		o.must("advance", "--yes")
		file := filepath.Join(o.dir, "migrations", "0002-view.sql")
		o.migration("0002-view", strings.Replace(text, "drop view deep", "drop view  deep", 1))
		before := o.snapshot()
		o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "file-missing", "drop view deep", "ledger 0002 --source")
		if err := os.Remove(file); err != nil {
			t.Fatal(err)
		}
		o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "file-missing", "drop view deep", "ledger 0002 --source")
		o.unchanged(before)
		term := o.onTerminal(100, 30, "retreat", "--to", "1")
		term.until("Type yes to go on")
		if !strings.Contains(term.screen(), "drop view deep") {
			t.Errorf("what is run is not shown: %s", term.screen())
		}
		term.press("no\n")
		<-term.done
		o.unchanged(before)
		if got := o.must("ledger", "2", "--source"); got != text {
			t.Errorf("the text is %q, and was %q", got, text)
		}
		o.migration("0002-view", text)
		o.exec("update " + o.ledger("migration") + " set changes = replace(changes, 'drop view deep', 'drop table " +
			"berth') where version = '0002'")
		o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "file-missing", "drop table berth")
		o.exec("update " + o.ledger("migration") + " set changes = replace(changes, 'drop table berth', 'drop view " +
			"deep') where version = '0002'")
		o.must("retreat", "--to", "1", "--yes", "--let-writers-wait")
		o.same("select count(*) from berth", "3")
	})
}

// engineWord is what a native statement calls the engine of an office.
func engineWord(o *office) string {
	if o.url == "" {
		return "sqlite"
	}
	return o.url[:strings.Index(o.url, ":")]
}
