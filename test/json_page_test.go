package test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

// jsonKey is a key of a document as the page of --json has it.
type jsonKey struct {
	types    []string
	optional bool
	seen     bool
}

var jsonRow = regexp.MustCompile("(?m)^\\| `([^`]+)` \\| ([^|]+) \\|")

// jsonPage reads the page: the keys of each of its sections, with those of the types that it names
// put in their places.
func jsonPage(t *testing.T) map[string]map[string]*jsonKey {
	t.Helper()
	text, err := os.ReadFile("../docs/json.md")
	if err != nil {
		t.Fatal(err)
	}
	said := map[string][][]string{}
	for _, section := range strings.Split(string(text), "\n## ")[1:] {
		name, rest, _ := strings.Cut(section, "\n")
		said[name] = jsonRow.FindAllStringSubmatch(rest, -1)
	}
	var keys func(section, at string, optional bool, into map[string]*jsonKey)
	keys = func(section, at string, optional bool, into map[string]*jsonKey) {
		for _, row := range said[section] {
			path := at + strings.ReplaceAll(row[1], "?", "")
			k := &jsonKey{optional: optional || strings.Contains(row[1], "?")}
			for typ := range strings.SplitSeq(strings.TrimSpace(row[2]), " or ") {
				if _, named := said[typ]; named {
					keys(typ, path+".", false, into)
					typ = "object"
				}
				k.types = append(k.types, typ)
			}
			into[path] = k
		}
	}
	page := map[string]map[string]*jsonKey{}
	for name := range said {
		if slices.Contains([]string{"everywhere", "database", "finding", "difference", "work"}, name) {
			continue
		}
		for one := range strings.SplitSeq(name, ", ") {
			page[one] = map[string]*jsonKey{}
			keys(name, "", false, page[one])
			keys("everywhere", "", true, page[one])
		}
	}
	return page
}

// fits asserts that a document has the keys that the page says, with the types, and no others.
func fits(t *testing.T, what string, keys map[string]*jsonKey, doc map[string]any) {
	t.Helper()
	objects, found := map[string]int{"": 1}, map[string]int{}
	var walk func(v any, path string)
	typed := func(path, typ string) {
		k := keys[path]
		if k == nil {
			for p := range keys { // what it holds is said
				if strings.HasPrefix(p, path+".") && (typ == "object" || typ == "list") {
					return
				}
			}
			t.Errorf("%s: the page does not know %s (%s)", what, path, typ)
			return
		}
		k.seen = true
		ok := slices.Contains(k.types, typ) || typ == "list" && strings.HasSuffix(path, "[]") ||
			typ == "yes" && slices.Contains(k.types, "yes")
		if !ok {
			t.Errorf("%s: %s is %s, and not %v", what, path, typ, k.types)
		}
	}
	walk = func(v any, path string) {
		switch v := v.(type) {
		case nil:
			typed(path, "null")
		case string:
			typed(path, "text")
		case float64:
			typed(path, "number")
		case bool:
			typed(path, "yes")
		case []any:
			typed(path, "list")
			if k := keys[path]; k != nil && slices.Contains(k.types, "list") {
				return // of whatever there is
			}
			for _, x := range v {
				walk(x, path)
			}
		case map[string]any:
			if path != "" {
				typed(path, "object")
				objects[path]++
				path += "."
			}
			for key, x := range v {
				to := path + key
				if _, list := x.([]any); list {
					to += "[]"
				}
				found[to]++
				walk(x, to)
			}
		}
	}
	walk(doc, "")
	if list, _ := doc["errors"].([]any); len(list) > 0 {
		return // it failed, and says why
	}
	for path, k := range keys {
		parent := path[:max(0, strings.LastIndex(path, "."))]
		if !k.optional && found[path] < objects[parent] {
			t.Errorf("%s: %s is missing", what, path)
		}
	}
}

// TestJSONIsAsThePageSays compares what commands write, done and refused, with the page, and the page
// with what they write.
func TestJSONIsAsThePageSays(t *testing.T) {
	beside(t)
	page := jsonPage(t)
	o := &office{T: t, dir: t.TempDir()}
	asked := map[string]int{}
	ask := func(section string, args ...string) {
		t.Helper()
		if page[section] == nil {
			t.Fatalf("the page has no section %q", section)
		}
		asked[section]++
		r := o.run(append(args, "--json")...)
		for _, doc := range o.documents(r) {
			fits(t, fmt.Sprint(args), page[section], doc)
		}
		if r.stdout == "" {
			t.Errorf("%v writes nothing: %s", args, r)
		}
	}
	all := func() {
		t.Helper()
		for _, c := range [][]string{{"describe"}, {"describe", "vessel", "--rows", "2"}, {"check"}, {"forecast"}, {"status"},
			{"follow"}, {"pace"}, {"ledger"}, {"kept"}, {"tidy", "--diff"}, {"tidy", "--check"}, {"audit"}, {"ready"}} {
			ask(c[0], c...)
		}
	}
	ask("version", "version")
	ask("init", "init", "--url", "sqlite:harbour.db")
	all() // nothing is there yet
	o.exec("pragma journal_mode = wal", "create table berth (id integer primary key, code varchar(8) not null unique)",
		"create table vessel (id integer primary key autoincrement, name varchar(40) collate nocase not null, flag text "+
			"default "+
			"'NO', berth_id integer references berth (id) on delete cascade, length numeric(6,1), check (length(name) > 1))",
		"create view named as select name from vessel", "create index by_name on vessel (name, upper(name)) where "+
			"berth_id > 0",
		"create trigger seen after insert on vessel begin select 1; end", "create virtual table notes using fts5 (body)",
		"insert into berth values (1, 'A1')", "insert into vessel (name, flag, berth_id, length) with recursive s(n) as "+
			"(select 1 "+
			"union all select n + 1 from s where n < 3000) select 'vessel ' || n, 'NO', 1, n / 10 from s")
	ask("adopt", "adopt", "--yes")
	all()
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = 'sqlite:harbour.db'\nlive = true\n"+
		"[databases.dev.pace]\nlock_wait = '1us'\nbatch_time = '2ms'\n")
	ask("draft", "draft", "More of it")
	o.migration("0002-more-of-it", "-- More of it\nalter table vessel\n  add column twice numeric(8,1) generated "+
		"always as "+
		"(length * 2) virtual,\n  add column tag text not null comment 'for the quay' using (hex(name)), drop column "+
		"flag;\n"+
		"backfill vessel set name = name || '!';\n")
	ask("forecast", "forecast")
	ask("forecast --script", "forecast", "--script", "--settle", "--let-writers-wait")
	ask("advance", "advance", "--yes")
	p := o.pausedAt("batch-committed:2", "advance", "--yes", "--let-writers-wait", "--settle")
	if p == nil {
		t.Fatalf("it was not stopped: %s", o.run("forecast"))
	}
	time.Sleep(50 * time.Millisecond)
	ask("pace", "pace", "--slower")
	ask("status", "status")
	watch := o.command("follow", "--json")
	var lines strings.Builder
	watch.Stdout = &lines
	if err := watch.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Second)
	watch.Process.Signal(syscall.SIGINT)
	watch.Wait()
	list := o.documents(result{stdout: lines.String()})
	for _, doc := range list {
		fits(t, "follow", page["follow"], doc)
	}
	if len(list) == 0 || list[0]["work"] == nil {
		t.Errorf("follow saw nothing: %s", lines.String())
	}
	p.cmd.Process.Kill()
	p.goOn()
	all()
	ask("advance", "advance", "--yes", "--let-writers-wait")
	all()
	spare := map[string]string{"0003-spare": "add column spare text", "0004-spare": "drop column spare"}
	for _, name := range slices.Sorted(maps.Keys(spare)) {
		o.migration(name, "-- Spare\nalter table vessel "+spare[name]+";\n")
		o.must("advance", "--yes")
	}
	o.exec("create view spares as select spare from vessel")
	ask("settle --check", "settle", "--check")
	o.exec("drop view spares")
	ask("settle", "settle", "--yes", "--let-writers-wait", "--trial", "1s")
	ask("settle", "settle", "--yes", "--let-writers-wait")
	o.must("retreat", "--to", "2", "--yes", "--settle", "--let-writers-wait")
	for name := range spare {
		if err := os.Remove(filepath.Join(o.dir, "migrations", name+".sql")); err != nil {
			t.Fatal(err)
		}
	}
	ask("ledger VERSION", "ledger", "2")
	ask("ledger VERSION", "ledger", "2", "--source")
	ask("describe", "describe", "vessel", "--at", "1")
	ask("describe --compare", "describe", "--compare", "1")
	o.exec("alter table vessel add column mine text")
	all()
	o.migration("0003-mine", "-- Mine\nalter table vessel add column mine varchar(9);\n")
	ask("adopt VERSION", "adopt", "3", "--yes")
	o.exec("alter table vessel drop column mine")
	o.exec("alter table vessel add column mine varchar(9)")
	ask("adopt VERSION", "adopt", "3", "--yes")
	ask("retreat", "retreat", "--to", "1", "--yes", "--settle")
	ask("retreat", "retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
	ask("kept", "kept", "--older-than", "0s", "--discard", "--yes")
	o.migration("0003-wrong", "-- Wrong\nalter table vessel alter column length set not null, add constraint short check "+
		"(length < 5);\n")
	o.exec("update vessel set length = null where id < 9")
	all()
	ask("advance", "advance", "--yes", "--to", "3")
	o.migration("0003-wrong", "-- Wrong\nalter tabel vessel;\n")
	all()
	ask("audit", "audit", "--clear", "--yes")
	ask("demo", "demo", "office", "--rows", "1000")
	for _, section := range slices.Sorted(maps.Keys(page)) {
		if asked[section] == 0 {
			t.Errorf("nothing was asked of %s", section)
		}
		for path, k := range page[section] {
			common := strings.Contains(path, "errors[]") || strings.HasPrefix(path, "database.")
			if !k.seen && !k.optional && !common {
				t.Errorf("%s: nobody has seen %s", section, path)
			}
		}
	}
}
