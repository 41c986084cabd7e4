package test

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math"
	"math/rand/v2"
	"net/http"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"lastboard/test/server"
)

// filled is a backfill at work, in a process of its own.
type filled struct {
	*office
	cmd    *exec.Cmd
	output *strings.Builder
	ended  chan error
}

// filling makes a database that applications use, with a table that a backfill takes a
// while for, and starts it. more are settings of the database, pace those of its pace.
func filling(t *testing.T, url string, rows int, more, pace string, args ...string) *filled {
	t.Helper()
	o := &office{T: t, dir: t.TempDir(), url: url}
	engine, share := "", "work_share = '66 %'\n" // the usual pace of a server would take long
	series := fmt.Sprintf("with recursive s(n) as (select 1 union all select n + 1 from s where n < %d) select n, "+
		"'note ' || n from s", rows)
	switch {
	case url == "":
		o.exec("pragma journal_mode = wal")
		url, share = "sqlite:harbour.db", ""
	case o.onMariaDB():
		engine = " engine=InnoDB character set utf8mb4 collate utf8mb4_nopad_bin"
		series = fmt.Sprintf("select seq, concat('note ', seq) from seq_1_to_%d", rows)
	}
	o.exec("create table call_ (id integer primary key, note varchar(60), other integer)"+engine,
		"insert into call_ (id, note) "+series)
	o.must("init", "--url", url)
	o.must("adopt", "--yes")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+url+"'\nlive = true\n"+more+
		"[databases.dev.pace]\nbatch_time = '5ms'\n"+share+pace)
	o.migration("0002-fill", "-- Fill\nbackfill call_ set note = upper(note) || '!';\n")
	f := &filled{office: o, output: &strings.Builder{}, ended: make(chan error, 1)}
	f.start(args...)
	return f
}

func (f *filled) start(args ...string) {
	f.Helper()
	f.cmd = f.command(append([]string{"advance", "--yes", "--let-writers-wait"}, args...)...)
	f.cmd.Stdout, f.cmd.Stderr = f.output, f.output
	if err := f.cmd.Start(); err != nil {
		f.Fatal(err)
	}
	f.Cleanup(func() { f.cmd.Process.Kill() })
	go func() { f.ended <- f.cmd.Wait() }()
}

// work gives what the run says that it does; nil when nothing runs.
func (f *filled) work() map[string]any {
	f.Helper()
	var out struct{ Work map[string]any }
	if err := json.Unmarshal([]byte(f.must("pace", "--json")), &out); err != nil {
		f.Fatal(err)
	}
	return out.Work
}

// wanted gives the share of time that somebody wants it to work.
func (f *filled) wanted() float64 {
	f.Helper()
	var out struct {
		Pace struct {
			Share float64 `json:"work_share"`
		}
	}
	if err := json.Unmarshal([]byte(f.must("pace", "--json")), &out); err != nil {
		f.Fatal(err)
	}
	return out.Pace.Share
}

// until waits for something of the work.
func (f *filled) until(what string, is func(w map[string]any) bool) map[string]any {
	f.Helper()
	var w map[string]any
	for began := time.Now(); time.Since(began) < patience; time.Sleep(20 * time.Millisecond) {
		select {
		case err := <-f.ended:
			f.Fatalf("it ended before it came to %s: %v\n%s", what, err, f.output)
		default:
		}
		if w = f.work(); w != nil && is(w) {
			return w
		}
	}
	f.Fatalf("it never came to %s: %v\n%s", what, w, f.output)
	return nil
}

func begun(w map[string]any) bool { return w["kind"] == "backfill" && w["rows"].(float64) > 0 }

func holding(w map[string]any) bool { return w["holding"] != nil }

func goesOn(w map[string]any) bool { return w["holding"] == nil }

// end lets the run come to its end, as fast as it may, and counts.
func (f *filled) end() {
	f.Helper()
	for range 6 { // until it has ended, perhaps
		f.run("pace", "--faster", "--batch-time", "500ms")
	}
	select {
	case err := <-f.ended:
		if err != nil {
			f.Fatalf("%v\n%s", err, f.output)
		}
	case <-time.After(patience):
		f.Fatalf("it does not end: %v\n%s", f.work(), f.output)
	}
	f.same("select count(*) from call_ where note not like 'NOTE %!' or note like '%!!'", "0")
}

// paced are the engines, each with what gives a new database; "" is a file.
var paced = map[string]func(*testing.T) string{"SQLite": func(*testing.T) string { return "" }, "PostgreSQL": postgres,
	"MariaDB": mariadb}

// TestPace holds a backfill from another terminal, slows it, speeds it and releases it: it
// heeds each within a second and says so wherever one looks.
func TestPace(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, slices.Sorted(maps.Keys(paced))) {
		database := paced[name]
		t.Run(name, func(t *testing.T) {
			beside(t)
			port, err := server.FreePort()
			if err != nil {
				t.Fatal(err)
			}
			f := filling(t, database(t), map[string]int{"SQLite": 600_000}[name]+80_000, "", "", "--metrics",
				fmt.Sprint("127.0.0.1:", port), "--metrics-file", "metrics.prom")
			f.until("its rows", begun)
			f.must("pace", "--hold")
			asked := time.Now()
			w := f.until("holding", holding)
			if took := time.Since(asked); took > 2*time.Second { // with the time that the program takes to ask
				t.Errorf("it held after %s", took)
			}
			if why := w["holding"].(string); !strings.HasPrefix(why, "held by ") {
				t.Errorf("it holds: %s", why)
			}
			rows := w["rows"]
			f.wants(f.follows(1), "holding: held by ", "step 3 of ", "rows/s")
			body := metricsOf(t, port)
			for _, want := range []string{"lastboard_holding 1\n",
				`lastboard_step{direction="advance",kind="backfill",migration="0002",table="call_"} 3`,
				"# TYPE lastboard_batch_seconds histogram\n", "lastboard_holds_total 1\n"} {
				if !strings.Contains(body, want) {
					t.Errorf("the metrics lack %q:\n%s", want, body)
				}
			}
			f.wants(f.code(3, "advance", "--yes"), "another Lastboard is changing this database")
			f.must("pace", "--slower", "--batch-time", "2ms")
			if now := f.work()["rows"]; now != rows {
				t.Errorf("it went from %v to %v rows while it held", rows, now)
			}
			wanted := f.wanted()
			var steering sync.WaitGroup
			for range 3 { // each doubles what the others have made
				steering.Go(func() { f.must("pace", "--slower") })
			}
			steering.Wait()
			if now, want := f.wanted(), 1/(1+8*(1/wanted-1)); math.Abs(now-want) > 1e-9 {
				t.Errorf("three that doubled the pauses of a share of %v at once made it %v, not %v", wanted, now, want)
			}
			f.must("pace", "--release")
			w = f.until("going on", func(w map[string]any) bool {
				return goesOn(w) &&
					w["batch_goal_seconds"].(float64) == 0.002
			})
			if w["held_seconds"].(float64) <= 0 || w["work_share"].(float64) > 0.75 {
				t.Errorf("it says %v", w)
			}
			f.must("pace", "--reset")
			f.must("pace", "--faster")
			f.must("pace", "--batch-time", "200ms")
			f.end()
			file := f.read("metrics.prom")
			written := regexp.MustCompile(`(?m)^lastboard_rows_written_total (\S+)$`).FindStringSubmatch(file)
			if rows, err := strconv.ParseFloat(strings.Join(written[1:], ""), 64); err != nil || rows < 80_000 ||
				!strings.Contains(file, "lastboard_commit_seconds_bucket{") {
				t.Errorf("%v: the file of metrics has\n%s", err, file)
			}
			f.wants(f.code(0, "pace"), "nothing is running")
			f.wants(f.code(3, "pace", "--hold"), "nothing is running")
			f.wants(f.code(0, "follow"), "nothing is running")
			f.wants(f.code(0, "ledger", "2"), "backfill", "forecast", "80,000")
			var facts struct {
				Steps []struct {
					Seconds  float64
					Forecast float64 `json:"forecast_seconds"`
					Rows     int64
				}
			}
			if err := json.Unmarshal([]byte(f.must("ledger", "2", "--json")), &facts); err != nil {
				t.Fatal(err)
			}
			if last := facts.Steps[2]; last.Rows%100_000 != 80_000 || last.Seconds <= 0 || last.Forecast <= 0 {
				t.Errorf("the ledger says %+v", last)
			}
			if !strings.Contains(f.output.String(), "holding: held by") || !strings.Contains(f.output.String(), "going on") {
				t.Errorf("the run itself says\n%s", f.output)
			}
		})
	}
}

// follows runs follow on a pipe for some seconds.
func (f *filled) follows(seconds int) result {
	f.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Duration(seconds)*time.Second+500*time.Millisecond)
	defer cancel()
	cmd := f.command("follow")
	var out strings.Builder
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		f.Fatal(err)
	}
	<-ctx.Done()
	cmd.Process.Kill()
	cmd.Wait()
	return result{stdout: out.String()}
}

func metricsOf(t *testing.T, port int) string {
	t.Helper()
	r, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/metrics", port))
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	if err != nil {
		t.Fatal(err)
	}
	line := regexp.MustCompile(`^(# (TYPE|UNIT|HELP) lastboard_\w+ .+|# EOF|` +
		`lastboard_\w+(\{\w+="[^"]*"(,\w+="[^"]*")*\})? [0-9.e+-]+)$`)
	for l := range strings.Lines(string(body)) {
		if !line.MatchString(strings.TrimSuffix(l, "\n")) {
			t.Errorf("the metrics have a line %q", l)
		}
	}
	return string(body)
}

// reader begins a transaction that reads the table and stays open.
func (f *filled) reader(db *sql.DB) *sql.Tx {
	f.Helper()
	tx, err := db.BeginTx(f.Context(), &sql.TxOptions{Isolation: sql.LevelRepeatableRead})
	if err != nil {
		f.Fatal(err)
	}
	if _, err := tx.Exec("select count(*) from call_"); err != nil {
		f.Fatal(err)
	}
	return tx
}

// TestPaceWithWriters holds and releases at random while others write: none of what they
// write is lost.
func TestPaceWithWriters(t *testing.T) {
	beside(t)
	for name, database := range engines {
		t.Run(name, func(t *testing.T) {
			beside(t)
			f := filling(t, database(t), 60_000, "", "", "--workers", "2")
			mark := map[bool]string{true: "?", false: "$1"}[f.onMariaDB()]
			stop := f.meanwhile(2, func(db *sql.DB, r *rand.Rand) error {
				_, err := db.Exec("update call_ set other = coalesce(other, 0) + 1 where id = "+mark, 1+r.IntN(60_000))
				time.Sleep(time.Millisecond)
				return err
			})
			f.until("its rows", begun)
			for range 3 {
				f.run("pace", "--hold")
				time.Sleep(300 * time.Millisecond)
				f.run("pace", "--release", "--slower")
				time.Sleep(200 * time.Millisecond)
			}
			f.run("pace", "--reset", "--batch-time", "100ms")
			f.end()
			f.same("select sum(other) from call_", fmt.Sprint(stop()))
		})
	}
}

// TestTheSecondWorkerHoldsAlone is that a run whose first worker has done its part still heeds who
// wants it to hold.
func TestTheSecondWorkerHoldsAlone(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, slices.Sorted(maps.Keys(engines))) {
		database := engines[name]
		t.Run(name, func(t *testing.T) {
			beside(t)
			f := filling(t, database(t), 60_000, "", "", "--workers", "2")
			f.until("its rows", begun)
			db := f.open()
			defer db.Close()
			tx, err := db.Begin()
			if err != nil {
				t.Fatal(err)
			}
			defer tx.Rollback()
			if _, err := tx.Exec("update call_ set other = 1 where id = 55000"); err != nil {
				t.Fatal(err)
			}
			f.until("all that it can do", func(w map[string]any) bool { return w["rows"].(float64) >= 50_000 })
			f.must("pace", "--hold")
			if err := tx.Commit(); err != nil {
				t.Fatal(err)
			}
			f.until("the hold", holding)
			f.must("pace", "--release")
			f.end()
		})
	}
}

// TestABatchLetsGoOfRows has somebody hold one row of a table that is filled: the batch
// that comes to it lets go of the rows beside it, says who is in the way, comes down to
// that row alone, and goes on when it is free.
func TestABatchLetsGoOfRows(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, slices.Sorted(maps.Keys(engines))) {
		database := engines[name]
		t.Run(name, func(t *testing.T) {
			beside(t)
			f := filling(t, database(t), 60_000, "", "", "--workers", "1")
			f.until("its rows", begun)
			f.must("pace", "--hold")
			f.until("the hold", holding)
			db := f.open()
			defer db.Close()
			tx, err := db.Begin()
			if err != nil {
				t.Fatal(err)
			}
			defer tx.Rollback()
			const held = 40_000
			if _, err := tx.Exec(fmt.Sprintf("update call_ set other = 1 where id = %d", held)); err != nil {
				t.Fatal(err)
			}
			f.must("pace", "--release")
			f.until("the row that is held", func(w map[string]any) bool { return w["try"] != nil })
			// MariaDB waits for the row behind those that a select locks, too.
			f.until("that row alone", func(w map[string]any) bool {
				return w["rows"].(float64) == held-1 || f.onMariaDB() && w["rows"].(float64) == held-2
			})
			// The rows beside it are free, those before and those after.
			bound := map[bool]string{true: "set innodb_lock_wait_timeout = 20", false: "set lock_timeout = '20s'"}[f.onMariaDB()]
			f.exec(bound, "update call_ set other = 2 where id = 39998", "update call_ set other = 2 where id = 40001")
			if err := tx.Commit(); err != nil {
				t.Fatal(err)
			}
			f.end()
			f.same("select count(*), sum(other) from call_ where other is not null", "3|5")
			if !strings.Contains(f.output.String(), "in the way is ") {
				t.Errorf("it did not say who is in the way:\n%s", f.output)
			}
		})
	}
}
