package test

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"slices"
	"strings"
	"testing"
)

// documents gives the JSON values that a command writes.
func (o *office) documents(r result) (list []map[string]any) {
	o.Helper()
	d := json.NewDecoder(strings.NewReader(r.stdout))
	for {
		var v map[string]any
		err := d.Decode(&v)
		if errors.Is(err, io.EOF) {
			return list
		}
		if err != nil {
			o.Errorf("%v in %s", err, r)
			return list
		}
		list = append(list, v)
	}
}

// readers are commands that change nothing, runs those that change a database, which write an
// object a line.
var (
	readers = [][]string{
		{"describe"}, {"describe", "vessel"}, {"describe", "vessel", "--rows", "2"}, {"check"}, {"check", "--offline"},
		{"forecast"}, {"forecast", "--statements"}, {"status"}, {"status", "--waiting"},
		{"ledger"}, {"ledger", "1"}, {"audit"}, {"kept"}, {"tidy", "--check"}, {"pace"}, {"follow"},
	}
	runs = [][]string{{"advance", "--yes"}, {"retreat", "--to", "1", "--yes"}}
)

// TestJSON is that every command writes JSON alone to standard output, one document or an
// object a line, and ends with the same code as without.
func TestJSON(t *testing.T) {
	o := newOffice(t, "create table vessel (id integer primary key, name text)", "insert into vessel values (1, 'Tern')")
	one := func(args ...string) map[string]any {
		t.Helper()
		r := o.run(append(args, "--json")...)
		if list := o.documents(r); len(list) == 1 {
			return list[0]
		}
		t.Errorf("%v writes %s", args, r)
		return nil
	}
	one("version")
	one("adopt", "--yes")
	one("draft", "A flag")
	if err := os.Remove(o.dir + "/migrations/0002-a-flag.sql"); err != nil {
		t.Error(err)
	}
	o.migration("0002-flag", "-- A flag\nalter table vessel add column flag text using (upper(name));\n")
	for _, args := range readers {
		plain := o.run(args...)
		r := o.run(append(slices.Clone(args), "--json")...)
		if n := len(o.documents(r)); r.code != plain.code || n != 1 {
			t.Errorf("%v writes %d documents and ends with %d, not %d: %s", args, n, r.code, plain.code, r)
		}
	}
	for _, args := range runs {
		r := o.run(append(slices.Clone(args), "--json")...)
		list := o.documents(r)
		if r.code != 0 || len(list) < 3 || strings.Count(r.stdout, "\n") != len(list) {
			t.Fatalf("%v writes %s", args, r)
		}
		if last, ok := list[len(list)-1]["result"].(map[string]any); !ok || last["outcome"] != "done" ||
			len(last["errors"].([]any)) != 0 {
			t.Errorf("%v ends with %v", args, list[len(list)-1])
		}
	}
	one("demo", "elsewhere", "--rows", "300")
}

// TestErrorsAsJSON is that what is wrong is JSON, too, on standard output, with the code that
// the table of exit codes has for it.
func TestErrorsAsJSON(t *testing.T) {
	o := adopted(t, "create table vessel (id integer primary key, name text)")
	wrong := func(code int, rule string, args ...string) {
		t.Helper()
		r := o.run(append(slices.Clone(args), "--json")...)
		list := o.documents(r)
		if r.code != code || len(list) == 0 || r.stderr != "" {
			t.Errorf("%v ends with %d, not %d: %s", args, r.code, code, r)
			return
		}
		last := list[len(list)-1]
		if result, ok := last["result"].(map[string]any); ok {
			last = result
		}
		var found []any
		for _, key := range []string{"errors", "findings"} {
			if of, ok := last[key].([]any); ok {
				found = append(found, of...)
			}
		}
		if len(found) == 0 {
			t.Errorf("%v has no errors: %s", args, r)
			return
		}
		f := found[0].(map[string]any)
		if f["rule"] != rule || f["level"] != "error" || f["message"] == "" || f["where"] == nil {
			t.Errorf("%v says %v, and not %s", args, f, rule)
		}
	}
	wrong(2, "usage", "nonsense")
	wrong(2, "usage", "status", "--nonsense")
	wrong(2, "usage", "advance", "3")
	wrong(2, "version-unknown", "advance", "--to", "9", "--yes")
	o.migration("0002-wrong", "-- Wrong\nalter tabel vessel;\n")
	for _, args := range [][]string{{"check"}, {"forecast"}, {"status"}, {"audit"}, {"advance", "--yes"},
		{"retreat", "--to", "0", "--yes"}, {"tidy", "--check"}} {
		wrong(2, "syntax", args...)
	}
	o.migration("0002-wrong", "-- Wrong\nalter table vesel drop column name;\n")
	for _, args := range [][]string{{"check"}, {"forecast"}, {"advance", "--yes"}} {
		wrong(3, "name-unknown", args...)
	}
	o.migration("0002-wrong", "-- Edited\nalter table vessel add column flag text;\n")
	o.must("advance", "--yes")
	o.migration("0002-wrong", "-- Edited\nalter table vessel add column flags text;\n")
	for _, args := range [][]string{{"check"}, {"forecast"}, {"status"}, {"advance", "--yes"}} {
		wrong(3, "edited-after-run", args...)
	}
	toml := o.read("lastboard.toml")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = 'postgres://pilot@127.0.0.1:1/harbour'\n")
	for _, args := range slices.Concat([][]string{{"describe"}, {"check"}, {"forecast"}, {"status"}, {"ledger"}, {"audit"},
		{"kept"}, {"pace"}, {"follow"}}, runs) {
		wrong(1, "cannot-open", args...)
	}
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurk = 'x'\n")
	for _, args := range slices.Concat([][]string{{"describe"}, {"draft", "x"}, {"adopt", "--yes"}}, readers, runs) {
		wrong(2, "configuration", args...)
	}
	o.write("lastboard.toml", toml)
}

// TestForecastByWorkShare is that a backfill which may work for a tenth of the time is forecast to
// take longer than one that may work for half of it.
func TestForecastByWorkShare(t *testing.T) {
	o := adopted(t, "create table vessel (id integer primary key, name text)",
		"insert into vessel with recursive s(n) as (select 1 union all select n + 1 from s where n < 50000) select n, "+
			"'Tern' from s")
	o.migration("0002-fill", "-- Fill\nbackfill vessel set name = upper(name);\n")
	seconds := func(share string) float64 {
		t.Helper()
		o.paced("lock_wait = '1ms'\nwork_share = '" + share + "'\n")
		var out struct {
			Migrations []struct {
				Steps []struct {
					Kind    string
					Seconds float64
				}
			}
		}
		if err := json.Unmarshal([]byte(o.must("forecast", "--json")), &out); err != nil || len(out.Migrations) != 1 {
			t.Fatalf("%v: %+v", err, out)
		}
		for _, s := range out.Migrations[0].Steps {
			if s.Kind == "backfill" {
				return s.Seconds
			}
		}
		t.Fatalf("there is no backfill in %+v", out)
		return 0
	}
	if half, tenth := seconds("50 %"), seconds("10 %"); half <= 0 || tenth < 4.9*half || tenth > 5.1*half {
		t.Errorf("working half of the time takes %v s, and a tenth %v s", half, tenth)
	}
}
