package test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// byHand runs a script with the engine's own client, as an administrator does who has no Lastboard.
func (o *office) byHand(script string) result {
	o.Helper()
	c := o.client(script)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		o.Fatalf("%v: install what make servers installs", err)
	}
	return result{out.String(), errs.String(), c.ProcessState.ExitCode(), c.ProcessState.ExitCode() == -1}
}

// client is the engine's own client, about to run a script.
func (o *office) client(script string) *exec.Cmd {
	o.Helper()
	var c *exec.Cmd
	switch {
	case o.url == "":
		c = exec.Command("sqlite3", "-init", "/dev/null", "harbour.db")
	case o.onMariaDB():
		u, err := url.Parse(o.url)
		if err != nil {
			o.Fatal(err)
		}
		args := []string{"--no-defaults", "--skip-reconnect", "--protocol=tcp", "-h", u.Hostname(), "-P", u.Port(), "-u",
			u.User.Username(), strings.TrimPrefix(u.Path, "/")}
		if word, ok := u.User.Password(); ok {
			args = append(args[:1:1], append([]string{"--password=" + word}, args[1:]...)...)
		}
		c = exec.Command("mariadb", args...)
	default:
		c = exec.Command("psql", "-X", "-f", "-", o.url)
	}
	c.Dir, c.Stdin = o.dir, strings.NewReader(script)
	return c
}

// filledOffice is an office with some rows whose next migration is a change of a kind.
func filledOffice(t *testing.T, engine string, k interleaved) *office {
	t.Helper()
	o := interleavedOffice(t, engine, nil)
	var values []string
	for n := 1; n <= 900; n++ {
		flag := "null"
		if n%3 > 0 {
			flag = "'NO'"
		}
		values = append(values, strings.NewReplacer("{n}", strconv.Itoa(n), "{flag}", flag).Replace(
			"({n}, {n}, 'ship {n}', {flag}, {n}, {n})"))
	}
	o.exec("insert into vessel (id, orig, name, flag, berth, length) values " + strings.Join(values, ", "))
	o.migration("0002-change", "-- A change\n"+k.statement+";\n")
	return o
}

// TestScriptsRunByHand runs each kind of change as scripts with the engine's own client, forward and back, at once and
// in two stages: they make what advance, settle and retreat make.
func TestScriptsRunByHand(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, everywhere) {
		for i, k := range interleavedKinds {
			if !itsTurn(i, 3) {
				continue
			}
			t.Run(name+"/"+k.name, func(t *testing.T) {
				o := filledOffice(t, name, k)
				before := o.snapshot()
				if name == "MariaDB" && k.name == "rows that come" { // its client alone is told their keys
					o.wants(o.code(3, "forecast", "--script"), "no-script", "the keys of rows that are inserted")
					return
				}
				o.must("advance", "--yes", "--settle", "--let-writers-wait")
				made := o.snapshot()
				o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")

				script := o.must("forecast", "--script", "--settle", "--let-writers-wait")
				if !o.scriptRuns(script) {
					o.unchanged(before)
					return
				}
				o.wants(o.code(0, "status"), "settled")
				o.unchanged(made)
				again := o.byHand(script)
				if again.code == 0 || !strings.Contains(again.String(), "this script was made") {
					t.Errorf("the script ran again: %s", again)
				}
				o.unchanged(made)
				if !o.scriptRuns(o.must("forecast", "--script", "--back", "1", "--settle", "--let-writers-wait")) {
					o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
				}
				o.unchanged(before)

				if r := o.run("forecast", "--script", "--let-writers-wait"); r.code == 0 && o.scriptRuns(r.stdout) {
					if strings.Contains(o.must("status"), "0002  open") &&
						!o.scriptRuns(o.must("settle", "--script", "--let-writers-wait")) {
						o.must("settle", "--yes", "--let-writers-wait")
					}
					o.unchanged(made)
				} else if r.code != 0 {
					o.wants(r, "needs-overlap")
				}
			})
		}
	}
}

// scriptRuns runs a script that has to come to its end. It reports false where the client is too old for it.
func (o *office) scriptRuns(script string) bool {
	o.Helper()
	r := o.byHand(script)
	if o.url == "" && strings.Contains(r.stdout, "this script needs sqlite3 of version 3.53.0 or newer") {
		if r.code == 0 {
			o.Error("the client went on")
		}
		return false
	}
	if r.code != 0 {
		o.Fatalf("the script failed: %s\n%s", r, script)
	}
	o.wants(o.code(0, "audit"), "matches:")
	return true
}

// TestScriptsThatStop cuts scripts off in their middle, at the end of a line and at any moment: advance goes on from
// there to what it would have made, and retreat takes it back.
func TestScriptsThatStop(t *testing.T) {
	beside(t)
	seed := uint64(*day)
	t.Logf("seed %d", seed)
	for _, name := range ofToday(t, everywhere) {
		for i, k := range interleavedKinds {
			if !itsTurn(i, 3) || name == "MariaDB" && k.name == "rows that come" {
				continue
			}
			t.Run(name+"/"+k.name, func(t *testing.T) {
				random := rand.New(rand.NewPCG(seed, uint64(i)))
				o := filledOffice(t, name, k)
				before := o.snapshot()
				o.must("advance", "--yes", "--settle", "--let-writers-wait")
				made := o.snapshot()
				o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
				for try := range 4 {
					script := o.must("forecast", "--script", "--settle", "--let-writers-wait")
					if try%2 == 0 {
						lines := strings.SplitAfter(script, ";\n")
						o.byHand(strings.Join(lines[:random.IntN(len(lines))], ""))
					} else {
						c := o.client(script)
						if err := c.Start(); err != nil {
							t.Fatal(err)
						}
						time.Sleep(time.Duration(random.IntN(150)) * time.Millisecond)
						c.Process.Kill()
						c.Wait()
					}
					o.silent()
					if random.IntN(2) == 0 {
						o.must("advance", "--yes", "--settle", "--let-writers-wait")
						o.unchanged(made)
					}
					if strings.Contains(o.must("status"), "0002  waiting") { // it had done nothing but take the claim
						o.run("audit", "--clear", "--yes")
					} else {
						o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
					}
					o.unchanged(before)
					o.wants(o.code(0, "audit"), "matches:")
				}
			})
		}
	}
}

// silent lets the time pass for which a script of sqlite3 that was killed counts as alive, and a server goes on with
// what the client has sent.
func (o *office) silent() {
	o.Helper()
	busy := "select count(*) from pg_stat_activity where datname = current_database() and application_name = 'psql'"
	switch {
	case o.url == "":
		o.exec("update lastboard_runner set beat = '2020-01-01T00:00:00.000Z' where host = 'script'")
		return
	case o.onMariaDB():
		busy = "select count(*) from (select is_used_lock(concat('lastboard:', database(), '_runner')) as id) l where id > 0"
	}
	for end := time.Now().Add(patience); o.query(busy) != "int64:0"; {
		if time.Now().After(end) {
			o.Fatal("the server does not end what the script has sent")
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// TestScriptsAmongOthers runs scripts where somebody else has been meanwhile: two at once, another's change of the
// table or of its rows, and another run. Whoever comes second is refused, and nothing is lost.
func TestScriptsAmongOthers(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, everywhere) {
		t.Run(name, func(t *testing.T) {
			o := filledOffice(t, name, interleaved{statement: "backfill vessel set berth = berth * 2;\n" +
				"alter table vessel add constraint small check (length < 5000)"})
			if o.url == "" { // its client may be too old for a constraint
				o.migration("0002-change", "-- A change\nbackfill vessel set berth = berth * 2;\nassert not exists "+
					"(select 1 from vessel where length >= 5000);\n")
			}
			before := o.snapshot()
			refused := func(what, script string, texts ...string) {
				t.Helper()
				r := o.byHand(script)
				if r.code == 0 {
					t.Errorf("%s: the script ran", what)
				}
				o.wants(r, texts...)
			}
			forward := []string{"forecast", "--script", "--let-writers-wait"}
			script := o.must(forward...)

			o.exec("alter table vessel add column deck integer")
			refused("another's column", script, "the tables are not as they were when this script was made")
			o.exec("alter table vessel drop column deck")
			o.unchanged(before)

			o.exec("update vessel set length = 9000 where id = 7")
			refused("a row that breaks it", script)
			o.silent()
			if strings.Contains(o.must("status"), "0002  waiting") {
				o.run("audit", "--clear", "--yes")
			} else {
				o.must("retreat", "--to", "1", "--yes", "--let-writers-wait")
			}
			o.exec("update vessel set length = 7 where id = 7")
			o.unchanged(before)

			script = o.must(forward...)
			first, second := o.client(script), o.client(script)
			errs := []error{first.Start(), second.Start()}
			if errs[0] != nil || errs[1] != nil {
				t.Fatal(errs)
			}
			errs[0], errs[1] = first.Wait(), second.Wait()
			if (errs[0] == nil) == (errs[1] == nil) {
				t.Errorf("of two scripts at once, one runs: %v", errs)
			}
			o.same("select count(*) from vessel where berth <> orig * 2", "0")
			o.wants(o.code(0, "audit"), "matches:")
			refused("it has run", script, "this script was made")
			o.must("retreat", "--to", "1", "--yes", "--let-writers-wait")

			first = o.client(o.must(forward...))
			if err := first.Start(); err != nil {
				t.Fatal(err)
			}
			beside := o.run("advance", "--yes", "--let-writers-wait")
			if err := first.Wait(); (err == nil) == (beside.code == 0 && !strings.Contains(beside.stdout, "nothing to do")) {
				t.Errorf("of a script and an advance at once, one runs: %v, %s", err, beside)
			}
			o.silent()
			o.run("advance", "--yes", "--let-writers-wait")
			o.same("select count(*) from vessel where berth <> orig * 2", "0")
			o.must("retreat", "--to", "1", "--yes", "--let-writers-wait")
			o.unchanged(before)
		})
	}
}

// TestScriptsTakeAnyKey fills tables whose keys are texts, numbers and bytes of every kind, several at once, in batches
// that end at them, and from a file.
func TestScriptsTakeAnyKey(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, everywhere) {
		t.Run(name, func(t *testing.T) {
			o := filledOffice(t, name, interleaved{statement: "create table buoy (place varchar(40) not null, n numeric(12,3) " +
				"not null, mark varbinary(20) not null, laid timestamp not null, depth integer, " +
				"primary key (place, n, mark, laid))"})
			o.must("advance", "--yes")
			o.exec("insert into tide (id, n) select id, id from vessel")
			var values []string
			taken := map[string]bool{} // some of them have one key
			for i := range 700 {
				blob := map[string]string{"PostgreSQL": `'\x00ff%02x'`, "MariaDB": "x'00ff%02x'", "SQLite": "x'00ff%02x'"}[name]
				place := []string{"it''s", `say "aye"`, `back\slash`, "per 100%", "$step$", "?", "ünï 名前", ";\n--"}[i%8]
				key := fmt.Sprintf("'%s', %d.125, "+blob+", '2026-05-%02d 10:00:00'", place, i%50, i%7, 1+i%25)
				if !taken[key] {
					values = append(values, fmt.Sprintf("(%s, %d)", key, i))
				}
				taken[key] = true
			}
			o.exec("insert into buoy (place, n, mark, laid, depth) values " + strings.Join(values, ", "))
			o.write("lastboard.toml", strings.Replace(o.read("lastboard.toml"), "batch_time", "lock_tries = 2\nbatch_time", 1))
			o.write("migrations/depths.csv", "id,n\n7,700\n9,\"900\"\n")
			o.migration("0003-change", "-- A change\nalter table buoy add column half numeric(9,1) using (depth / 2.0);\n"+
				"backfill buoy set depth = depth + 1;\n"+
				"backfill tide set n = f.n from csv 'depths.csv' as f on (id = f.id);\n")
			before := o.snapshot()
			script := o.must("forecast", "--script", "--let-writers-wait", "--settle")
			if o.url == "" {
				lines := strings.SplitAfter(script, ";\n")
				o.byHand(strings.Join(lines[:len(lines)*2/3], ""))
			} else {
				o.stuckOn("select * from buoy where place = 'per 100%' and n > 20 for update", script)
			}
			o.silent()
			o.wants(o.code(0, "status"), "0003  stopped")
			o.must("advance", "--yes", "--let-writers-wait", "--settle")
			o.wants(o.code(0, "audit"), "matches:")
			o.same("select count(*) from buoy where half is null or half <> (depth - 1) / 2.0", "0")
			o.same("select id, n from tide where id in (7, 8, 9) order by id", "7|700\n8|8\n9|900")
			made := o.snapshot()
			o.must("retreat", "--to", "2", "--yes", "--let-writers-wait", "--settle")
			o.unchanged(before)
			if !o.scriptRuns(o.must("forecast", "--script", "--let-writers-wait", "--settle")) {
				t.Fatal("the client is too old")
			}
			o.unchanged(made)
		})
	}
}

// stuckOn runs a script while somebody holds rows, until its tries for them are at an end.
func (o *office) stuckOn(rows, script string) {
	o.Helper()
	db := o.open()
	defer db.Close()
	tx, err := db.Begin()
	if err == nil {
		defer tx.Rollback()
		_, err = tx.Exec(rows)
	}
	if err != nil {
		o.Fatal(err)
	}
	if r := o.byHand(script); r.code == 0 {
		o.Errorf("the script ran past rows that somebody holds: %s", r)
	}
}

// TestScriptsOfSQLiteTakeEveryText fills a table whose keys are texts that look like marks and like SQL, and converts
// texts by what sqlite3 has in the place of Lastboard's own functions: cut in the middle, advance goes on with the
// steps that were recorded, and a text that cannot be converted stops it.
func TestScriptsOfSQLiteTakeEveryText(t *testing.T) {
	o := adopted(t, "create table vessel (id text primary key, length text) without rowid",
		"create table plain (id integer primary key)",
		"with recursive s(n) as (select 1 union all select n + 1 from s where n < 9000) insert into vessel select "+
			"char(0) || '; drop table plain; --' || n || char(0), n from s",
		"insert into vessel values (char(0) || 'moment' || char(0), '7'), "+
			"(char(0) || '; drop table plain; --' || char(0), '8')")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = 'sqlite:harbour.db'\nlive = true\n"+
		"[databases.dev.pace]\nlock_wait = '1us'\nbatch_time = '5ms'\n")
	o.migration("0002-lengths", "-- Lengths as numbers, not lastboard_fail('text')\n"+
		"alter table vessel add column feet integer using (cast(length as integer));\n")
	before := o.snapshot()
	script := o.must("forecast", "--script", "--let-writers-wait")
	begun, _, batches := strings.Cut(script, ", part 3 of")
	if !batches {
		t.Fatalf("it has no batches: %s", script)
	}
	o.byHand(begun[:strings.LastIndex(begun, "\n")+1])
	o.silent()
	o.wants(o.code(0, "status"), "0002  stopped")
	o.wants(o.code(5, "audit"), "lastboard advance goes on with it")
	o.must("advance", "--yes", "--let-writers-wait")
	o.same("select count(*) from vessel where feet is null or feet <> length", "0")
	o.same("select count(*) from plain", "0")
	o.wants(o.code(0, "audit"), "matches:")
	o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
	o.unchanged(before)
	o.must("kept", "0002", "--discard", "--yes")
	script = o.must("forecast", "--script", "--let-writers-wait")
	o.exec("update vessel set length = 'long' where length = '8000'")
	if r := o.byHand(script); r.code == 0 || !strings.Contains(o.must("status"), "0002  waiting") {
		t.Errorf("a text became a number: %s", r)
	}
}

// TestScriptsThatAreFrozen stops the client of a script in its middle for longer than anybody may wait: whoever writes
// to the table meanwhile is served.
func TestScriptsThatAreFrozen(t *testing.T) {
	beside(t)
	seed := uint64(*day)
	t.Logf("seed %d", seed)
	for _, name := range ofToday(t, everywhere[1:]) {
		t.Run(name, func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 1))
			k := interleavedKinds[slices.IndexFunc(interleavedKinds, func(k interleaved) bool {
				return k.name == "a not null column that is filled"
			})]
			for range 3 {
				o := filledOffice(t, name, k)
				c := o.client(o.must("forecast", "--script", "--settle", "--let-writers-wait"))
				if err := c.Start(); err != nil {
					t.Fatal(err)
				}
				time.Sleep(time.Duration(random.IntN(250)) * time.Millisecond)
				c.Process.Signal(syscall.SIGSTOP)
				time.Sleep(1500 * time.Millisecond)
				db := o.open()
				ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
				if _, err := db.ExecContext(ctx, "update vessel set name = 'written' where orig = 7"); err != nil {
					t.Errorf("nobody can write while the script is frozen: %v", err)
				}
				cancel()
				db.Close()
				over := strings.Contains(o.must("status"), "0002  settled") // then it is as any other write
				c.Process.Signal(syscall.SIGCONT)
				c.Wait()
				o.silent()
				o.run("advance", "--yes", "--settle", "--let-writers-wait")
				if !over {
					o.same("select count(*) from vessel where "+k.wrong, "0")
				}
				o.wants(o.code(0, "audit"), "matches:")
			}
		})
	}
}
