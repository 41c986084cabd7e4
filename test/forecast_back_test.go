package test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
)

// TestForecastOfTheWayBack is that forecast --back shows the steps that a retreat takes, and what is left
// of a run that has stopped, and changes nothing.
func TestForecastOfTheWayBack(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table vessel (id integer primary key, name varchar(20) not null, flag varchar(20))",
		"insert into vessel values (1, 'Tern', 'NO'), (2, 'Skua', 'DK'), (3, 'Ember', null)"},
		func(t *testing.T, o *office) {
			o.migration("0002-marks", "-- Marks\nalter table vessel add column mark varchar(20) not null using "+
				"(upper(name)), drop "+
				"column flag;\nbackfill vessel set name = lower(name);\n")
			o.migration("0003-number", "-- A number\nalter table vessel add column number integer default 5;\n")
			o.wants(o.code(0, "forecast", "--back", "1"), "there is nothing to take back")
			o.must("advance", "--yes")
			before := o.snapshot()
			steps := func(args ...string) (list []string) {
				t.Helper()
				var doc struct {
					Migrations []struct {
						Version, Direction string
						Steps              []struct{ What string }
					}
				}
				if err := json.Unmarshal([]byte(o.must(append([]string{"forecast", "--json"}, args...)...)), &doc); err != nil {
					t.Fatal(err)
				}
				for _, m := range doc.Migrations {
					for _, s := range m.Steps {
						list = append(list, m.Direction+" "+m.Version+" "+s.What)
					}
				}
				return list
			}
			all := steps("--back", "1")
			if len(all) < 4 || !strings.HasPrefix(all[0], "retreat 0003") || !strings.HasPrefix(all[len(all)-1], "retreat "+
				"0002") {
				t.Errorf("wanted 0003, then 0002: %q", all)
			}
			o.unchanged(before)
			o.wants(o.code(2, "forecast", "--back", "9"), "no migration 9 has run")
			o.wants(o.code(2, "forecast", "--back", "1", "--to", "3"), "say one")
			o.must("retreat", "--to", "2", "--yes")
			alone := steps("--back", "1")
			if !slices.Equal(alone, all[len(all)-len(alone):]) {
				t.Errorf("of 0002 alone wanted the same steps: %q, %q", alone, all)
			}
			if engineWord(o) != "mariadb" { // elsewhere the whole is one transaction
				return
			}
			p := o.pausedAt("after-commit:2", "retreat", "--to", "1", "--yes")
			if p == nil {
				t.Fatal("it was not stopped")
			}
			p.cmd.Process.Kill()
			p.goOn()
			if rest := steps("--back", "1"); len(rest) > len(alone) || len(rest) > 0 && !slices.Contains(alone,
				rest[len(rest)-1]) {
				t.Errorf("wanted what is left of %q, got %q", alone, rest)
			}
			o.must("retreat", "--to", "1", "--yes")
		})
}

// TestForecastBeforeTheQuestion is that who is asked sees before it what would be done, and afterwards what it
// took.
func TestForecastBeforeTheQuestion(t *testing.T) {
	o := adopted(t, pier...)
	o.migration("0002-marks", "-- Marks\nalter table berth add column mark text not null using (upper(code));\n")
	on := o.onTerminal(100, 60, "advance")
	screen := on.until("Type yes to go on")
	for _, text := range []string{"writers wait", "0002-marks", "in all; the longest that a writer waits"} {
		if !strings.Contains(screen, text) {
			t.Errorf("wanted %q in\n%s", text, screen)
		}
	}
	on.press("yes\n")
	if screen = on.until("done: 0002 is settled"); !strings.Contains(screen, "2 rows written in") ||
		!strings.Contains(screen, "(forecast") {
		t.Errorf("wanted what it took in\n%s", screen)
	}
	on.ends()
	o.migration("0003-wrong", "-- Wrong\nalter table berth drop column nothing;\n")
	on = o.onTerminal(100, 60, "advance")
	if screen = on.until("error name-unknown"); strings.Contains(screen, "Type yes") {
		t.Errorf("it asks before it looks:\n%s", screen)
	}
}

// TestWhatCannotFailIsNotProven is that types which only get wider are proven by nothing, and that those of
// several columns are one step, whose wait is said.
func TestWhatCannotFailIsNotProven(t *testing.T) {
	beside(t)
	for _, engine := range []string{"PostgreSQL", "MariaDB"} {
		t.Run(engine, func(t *testing.T) {
			o := officeOn(t, engine, []string{"create table vessel (id integer primary key, n integer, m smallint not null, d " +
				"numeric(6,2))", "insert into vessel values (1, 2, 3, 4.5), (2, null, 32767, null)"})
			before := o.canonical(true)
			o.migration("0002-wider", "-- Wider\nalter table vessel alter n set data type bigint, alter m set data type "+
				"integer, "+
				"alter d set data type numeric(9,2);\n")
			steps := o.forecast()
			if len(steps) != 1 || steps[0].Proof || !strings.Contains(steps[0].What, "make n bigint, make m integer, make d "+
				"numeric(9,2)") {
				t.Errorf("wanted one step: %v", steps)
			}
			o.must("advance", "--yes")
			o.exec("update vessel set n = 5000000000, d = 1234567.89 where id = 1")
			o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "5000000000")
			o.exec("update vessel set n = 2, d = 4.5 where id = 1")
			o.must("retreat", "--to", "1", "--yes")
			o.isAgain(before)
			o.migration("0002-wider", "-- Narrower\nalter table vessel alter m set data type integer, alter d set data type "+
				"numeric(4,2);\n")
			if steps = o.forecast(); !steps[0].Proof {
				t.Errorf("wanted a proof of d: %v", steps)
			}
			o.migration("0002-wider", "-- Not null\nalter table vessel alter n set data type bigint, alter n set not null;\n")
			o.wants(o.code(3, "advance", "--yes"), "null")
		})
	}
}

// TestForecastOfSomeRows is that a fill with a condition is forecast by the rows that it picks, unless to count them
// would call what is not of the language.
func TestForecastOfSomeRows(t *testing.T) {
	beside(t)
	var rows []string
	for i := range 1000 {
		rows = append(rows, fmt.Sprintf("(%d, %d, 'vessel')", i+1, i))
	}
	onEach(t, []string{"create table vessel (id integer primary key, n integer, name varchar(20))",
		"insert into vessel values " + strings.Join(rows, ", ")}, func(t *testing.T, o *office) {
		for condition, want := range map[string]string{"id <= 3": "3", "length(name) = 9": "0", "hex(n) = '1'": "1000"} {
			if strings.Contains(condition, "hex") && engineWord(o) == "postgres" {
				condition = "md5(name) = '1'"
			}
			o.migration("0002-fill", "-- A fill\nbackfill vessel set n = n + 1 where "+condition+";\n")
			var doc struct {
				Migrations []struct {
					Steps []struct {
						Kind string
						Rows int
					}
				}
			}
			if err := json.Unmarshal([]byte(o.must("forecast", "--json")), &doc); err != nil {
				t.Fatal(err)
			}
			for _, s := range doc.Migrations[0].Steps {
				if s.Kind == "backfill" && fmt.Sprint(s.Rows) != want {
					t.Errorf("where %s: wanted %s rows, got %d", condition, want, s.Rows)
				}
			}
		}
	})
}

// TestForecastOfAllAtOnce shows a drop on a live database as it is without an overlap.
func TestForecastOfAllAtOnce(t *testing.T) {
	o := adopted(t, "create table vessel (id integer primary key, name text, registry text)",
		"insert into vessel values (1, 'a', 'b')")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = 'sqlite:harbour.db'\nlive = true\n")
	o.migration("0002-drop", "-- Drop\nalter table vessel drop column registry;\n")
	o.wants(o.code(0, "forecast"), "once it is settled", "lastboard settle 0002")
	r := o.code(0, "forecast", "--settle")
	o.wants(r, "drop column registry", "advance needs --settle")
	if strings.Contains(r.stdout, "once it is settled") {
		t.Errorf("it has two stages: %s", r)
	}
	o.wants(o.code(2, "forecast", "--let-writers-wait"), "is for --script")
	o.wants(o.code(2, "forecast", "--script", "--why"), "--script goes with none of")
}
