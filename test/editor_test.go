package test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
	"unicode/utf16"
)

// client is an editor that speaks with the program.
type client struct {
	*testing.T
	cmd    *exec.Cmd
	in     io.WriteCloser
	out    *bufio.Reader
	errors *bytes.Buffer
	asked  int
	told   map[string][]map[string]any // the findings of each document, as they were told last
}

// edits starts the program for an editor, which counts characters in an encoding.
func (o *office) edits(encoding string, args ...string) *client {
	o.Helper()
	c := &client{T: o.T, cmd: o.command(append([]string{"editor"}, args...)...), errors: &bytes.Buffer{},
		told: map[string][]map[string]any{}}
	c.cmd.Stderr = c.errors
	var err error
	if c.in, err = c.cmd.StdinPipe(); err != nil {
		o.Fatal(err)
	}
	out, err := c.cmd.StdoutPipe()
	if err != nil {
		o.Fatal(err)
	}
	c.out = bufio.NewReader(out)
	if err := c.cmd.Start(); err != nil {
		o.Fatal(err)
	}
	o.Cleanup(func() { c.cmd.Process.Kill() })
	got := c.ask("initialize", map[string]any{"capabilities": map[string]any{"general": map[string]any{
		"positionEncodings": []string{encoding}}}}).(map[string]any)["capabilities"].(map[string]any)
	if got["positionEncoding"] != encoding {
		o.Fatalf("it counts in %v", got["positionEncoding"])
	}
	c.say("initialized", map[string]any{})
	return c
}

func (c *client) send(m map[string]any) {
	c.Helper()
	m["jsonrpc"] = "2.0"
	text, err := json.Marshal(m)
	if err != nil {
		c.Fatal(err)
	}
	if _, err := fmt.Fprintf(c.in, "Content-Length: %d\r\n\r\n%s", len(text), text); err != nil {
		c.Fatal(err)
	}
}

func (c *client) say(method string, params any) {
	c.Helper()
	c.send(map[string]any{"method": method, "params": params})
}

// ask gives the answer to a question, and takes what is told before it.
func (c *client) ask(method string, params any) any {
	c.Helper()
	c.asked++
	c.send(map[string]any{"id": c.asked, "method": method, "params": params})
	for {
		m := c.next()
		if m["id"] == float64(c.asked) {
			if m["error"] != nil {
				return m["error"]
			}
			return m["result"]
		}
	}
}

func (c *client) next() map[string]any {
	c.Helper()
	length := 0
	for {
		line, err := c.out.ReadString('\n')
		if err != nil {
			c.Fatalf("it has left: %v %s", err, c.errors)
		}
		if line = strings.TrimSpace(line); line == "" {
			break
		}
		if n, ok := strings.CutPrefix(line, "Content-Length: "); ok {
			length, _ = strconv.Atoi(n)
		}
	}
	text := make([]byte, length)
	if _, err := io.ReadFull(c.out, text); err != nil {
		c.Fatal(err)
	}
	var m map[string]any
	if err := json.Unmarshal(text, &m); err != nil {
		c.Fatal(err)
	}
	if m["method"] == "textDocument/publishDiagnostics" {
		p := m["params"].(map[string]any)
		list := []map[string]any{}
		for _, d := range p["diagnostics"].([]any) {
			list = append(list, d.(map[string]any))
		}
		c.told[p["uri"].(string)] = list
	}
	return m
}

func (o *office) uri(name string) string {
	return (&url.URL{Scheme: "file", Path: filepath.Join(o.dir, "migrations", name)}).String()
}

// opens lets the editor open a document, and gives its findings as "line:from-to rule".
func (c *client) opens(uri, text string) []string {
	c.Helper()
	c.say("textDocument/didOpen", map[string]any{"textDocument": map[string]any{"uri": uri, "text": text}})
	return c.findings(uri)
}

func (c *client) changes(uri, text string) []string {
	c.Helper()
	c.say("textDocument/didChange", map[string]any{"textDocument": map[string]any{"uri": uri},
		"contentChanges": []any{map[string]any{"text": text}}})
	return c.findings(uri)
}

func (c *client) findings(uri string) (list []string) {
	c.Helper()
	c.ask("no/such", nil) // what comes before its answer has been told
	for _, d := range c.told[uri] {
		where := d["range"].(map[string]any)
		start, end := where["start"].(map[string]any), where["end"].(map[string]any)
		list = append(list, fmt.Sprintf("%v:%v-%v %v", start["line"], start["character"], end["character"], d["code"]))
	}
	return list
}

// at asks about the place behind the mark | in a text, which the editor has without it.
func (c *client) at(method, uri, text string, units func(string) int) any {
	c.Helper()
	before, after, _ := strings.Cut(text, "|")
	c.changes(uri, before+after)
	line := before[strings.LastIndex(before, "\n")+1:]
	return c.ask(method, map[string]any{"textDocument": map[string]any{"uri": uri},
		"position": map[string]any{"line": strings.Count(before, "\n"), "character": units(line)}})
}

func inUTF16(s string) int { return len(utf16.Encode([]rune(s))) }
func inUTF8(s string) int  { return len(s) }

// labels gives what is offered.
func labels(t *testing.T, answer any) (list []string) {
	t.Helper()
	doc, ok := answer.(map[string]any)
	if !ok {
		t.Fatalf("wanted what can be written, got %v", answer)
	}
	for _, item := range doc["items"].([]any) {
		list = append(list, item.(map[string]any)["label"].(string))
	}
	return list
}

// TestEditorsAreServed is what an editor is told of migrations that are written: findings at their
// places in its own units, what mends them, what can be written, what a name stands for, and the
// canonical form; of the text as it is there, whatever the files say.
func TestEditorsAreServed(t *testing.T) {
	beside(t)
	for encoding, units := range map[string]func(string) int{"utf-16": inUTF16, "utf-8": inUTF8} {
		t.Run(encoding, func(t *testing.T) {
			o := newOffice(t)
			o.write("lastboard.toml", "[databases.dev]\nurl = 'postgres://office@db.example/harbour'\nlive = true\n")
			o.migration("0001-vessels", "-- Vessels\ncreate table vessel (id integer primary key, name varchar(40) not null, "+
				"\"order\" integer);\n")
			o.migration("0003-later", "-- Later\nalter table vessel add column tons integer;\n")
			c := o.edits(encoding)
			second, third := o.uri("0002-tags.sql"), o.uri("0003-later.sql")
			found := c.opens(second, "-- Tags 'ä😀'\nalter table vessel add column tag text using ('ä😀'), add colum nope text;\n")
			line := "alter table vessel add column tag text using ('ä😀'), add "
			want := fmt.Sprintf("[1:%d-%d syntax]", units(line), units(line+"colum"))
			if fmt.Sprint(found) != want {
				t.Errorf("found %v and wanted %s", found, want)
			}
			list := c.ask("textDocument/codeAction", map[string]any{"textDocument": map[string]any{"uri": second},
				"range": map[string]any{"start": map[string]any{"line": 1}, "end": map[string]any{"line": 1}}}).([]any)
			if len(list) != 1 || list[0].(map[string]any)["title"] != "write column" {
				t.Errorf("mended by %v", list)
			}
			// A later migration is checked on what the open one makes of the tables, unsaved as it is.
			if found = c.opens(third, "-- Later\nalter table vessel add column tag integer;\n"); len(found) != 0 {
				t.Errorf("found %v", found)
			}
			c.changes(second, "-- Tags\nalter table vessel add column tag text;\n")
			if found = c.findings(third); len(found) != 1 || !strings.Contains(found[0], "name-taken") {
				t.Errorf("found %v", found)
			}

			offered := fmt.Sprint(labels(t, c.at("textDocument/completion", second, "-- 😀\nalter table v|", units)))
			if offered != "[vessel]" {
				t.Errorf("offered %s", offered)
			}
			offered = fmt.Sprint(labels(t, c.at("textDocument/completion", second, "-- 😀\nalter table vessel drop column |",
				units)))
			for _, name := range []string{"id", "name", "order"} {
				if !strings.Contains(offered, name) {
					t.Errorf("offered %s", offered)
				}
			}
			offered = fmt.Sprint(labels(t, c.at("textDocument/completion", second, "alter table vessel add column tag var|",
				units)))
			if !strings.Contains(offered, "varchar") || strings.Contains(offered, "vessel") {
				t.Errorf("offered %s", offered)
			}
			items := c.at("textDocument/completion", second, "alter table vessel drop column ord|", units).(map[string]any)
			if text := items["items"].([]any)[0].(map[string]any)["insertText"]; text != `"order"` {
				t.Errorf("it writes %v", text)
			}

			hover := func(text string) string {
				answer, ok := c.at("textDocument/hover", second, text, units).(map[string]any)
				if !ok {
					return ""
				}
				return answer["contents"].(map[string]any)["value"].(string)
			}
			for text, want := range map[string]string{
				"-- 😀\nalter table ves|sel drop column name;\n":                         "name  varchar(40) not null",
				"-- 😀\nalter table vessel drop column na|me;\n":                         "varchar(40) not null, of vessel",
				"-- 😀\nal|ter table vessel add column tag text not null using ('😀');\n": "lock: access exclusive",
				"-- 😀\nbackfill vessel set \"order\" = i|d;\n":                          "(guess)",
			} {
				if got := hover(text); !strings.Contains(got, want) {
					t.Errorf("%s: %q does not say %q", text, got, want)
				}
			}

			c.changes(second, "-- 😀\nALTER table vessel ADD column tag text;")
			edits := c.ask("textDocument/formatting", map[string]any{"textDocument": map[string]any{"uri": second}}).([]any)
			if len(edits) != 1 || edits[0].(map[string]any)["newText"] != "-- 😀\nalter table vessel\n  add column tag text;\n" {
				t.Errorf("the canonical form is %v", edits)
			}
			// What is no migration is left alone.
			other := (&url.URL{Scheme: "file", Path: filepath.Join(o.dir, "notes.sql")}).String()
			if found = c.opens(other, "alter tabel"); len(found) != 0 {
				t.Errorf("found %v", found)
			}
			if found = c.opens(o.uri("Notes.sql"), "alter tabel"); len(found) != 1 || !strings.Contains(found[0], "file-name") {
				t.Errorf("found %v", found)
			}
			c.say("textDocument/didClose", map[string]any{"textDocument": map[string]any{"uri": second}})
			if got := c.ask("no/such", nil).(map[string]any)["code"]; got != float64(-32601) {
				t.Errorf("an unknown question gets %v", got)
			}
			c.ask("shutdown", nil)
			c.say("exit", nil)
			if err := c.cmd.Wait(); err != nil {
				t.Errorf("%v %s", err, c.errors)
			}
			if s := o.snapshotOfFiles(); strings.Contains(s, "harbour.db") {
				t.Errorf("it has made %s", s)
			}
		})
	}
}

// snapshotOfFiles lists the files of the office.
func (o *office) snapshotOfFiles() string {
	list, err := filepath.Glob(filepath.Join(o.dir, "*"))
	if err != nil {
		o.Fatal(err)
	}
	return strings.Join(list, "\n")
}

// TestEditorsThatAreNone is that what is no message ends the session with an error, and at once.
func TestEditorsThatAreNone(t *testing.T) {
	o := newOffice(t)
	for _, text := range []string{"hello\r\n\r\n", "Content-Length: 99999999999\r\n\r\n", "Content-Length: -1\r\n\r\n",
		"Content-Length: 40\r\n\r\n{", ""} {
		c := o.command("editor")
		c.Stdin = strings.NewReader(text)
		began := time.Now()
		if err := c.Run(); err == nil || time.Since(began) > time.Minute {
			t.Errorf("%q: %v", text, err)
		}
	}
	// A message that cannot be read, or that comes too early, is answered.
	c := o.command("editor")
	var session strings.Builder
	for _, text := range []string{"{", `{"id":1,"method":"textDocument/hover"}`, `{"method":"exit"}`} {
		fmt.Fprintf(&session, "Content-Length: %d\r\n\r\n%s", len(text), text)
	}
	c.Stdin = strings.NewReader(session.String())
	out, _ := c.Output()
	for _, want := range []string{"-32700", "-32002"} {
		if !strings.Contains(string(out), want) {
			t.Errorf("%s is not in %s", want, out)
		}
	}
}

// TestEditorsWithManyMigrations says how long the findings of a document take in a folder of a
// thousand.
func TestEditorsWithManyMigrations(t *testing.T) {
	o := newOffice(t)
	o.migration("0001-first", "-- First\ncreate table vessel (id integer primary key);\n")
	for n := 2; n < 1000; n++ {
		o.migration(fmt.Sprintf("%04d-more", n), fmt.Sprintf("-- More\nalter table vessel\n  add column c%d integer;\n", n))
	}
	c := o.edits("utf-16")
	uri := o.uri("1000-last.sql")
	began := time.Now()
	c.opens(uri, "-- Last\nalter table vessel drop column c7;\n")
	opened := time.Since(began)
	began = time.Now()
	const times = 20
	for n := range times {
		found := c.changes(uri, fmt.Sprintf("-- Last\nalter table vessel add column c%d integer;\n", n+990))
		if taken := n+990 < 1000; taken != (len(found) == 1) {
			t.Fatalf("found %v of column c%d", found, n+990)
		}
	}
	t.Logf("opened in %v, %v for each change", opened, time.Since(began)/times)
}

// TestEditorsLookAtADatabase starts the editor's server with a database: what its rows break, and what a statement
// costs there, comes behind what the text itself says. A database that asks to be confirmed is left alone.
func TestEditorsLookAtADatabase(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, everywhere) {
		t.Run(name, func(t *testing.T) {
			o := filledOffice(t, name, interleaved{statement: "backfill vessel set berth = 1"})
			before, files := o.snapshot(), o.snapshotOfFiles()
			c := o.edits("utf-16", "--database", "dev")
			uri := o.uri("0002-change.sql")
			text := "-- A change\nalter table vessel alter flag set not null;\nalter table vessel add column deck integer;\n"
			c.opens(uri, text)
			c.waits(uri, "rows-would-break")
			marked := "-- A change\nbackfill ves|sel set berth = 2;\nalter table vessel add column deck integer;\n"
			c.changes(uri, strings.ReplaceAll(marked, "|", ""))
			c.waits(uri, "")
			said := ""
			for end := time.Now().Add(patience); !strings.Contains(said, "on this database:") && time.Now().Before(end); {
				time.Sleep(20 * time.Millisecond)
				said = fmt.Sprint(c.at("textDocument/hover", uri, marked, inUTF16))
			}
			if !strings.Contains(said, "900 rows; about") {
				t.Errorf("it does not say what the statement costs: %s", said)
			}
			o.unchanged(before)
			if now := o.snapshotOfFiles(); now != files {
				t.Errorf("the files have changed: %s", firstDifference(files, now))
			}

			o.write("lastboard.toml", strings.Replace(o.read("lastboard.toml"), "live = true",
				"live = true\nconfirm = true", 1))
			c = o.edits("utf-16", "--database", "dev")
			c.opens(uri, "-- A change\nalter table vessel alter flag set not null;\n")
			c.waits(uri, "database")
			if list := fmt.Sprint(c.told[uri]); strings.Contains(list, "rows-would-break") ||
				!strings.Contains(list, "has confirm = true") {
				t.Errorf("it looked at a database that asks to be confirmed: %s", list)
			}
		})
	}
}

// waits takes what is told until the findings of a document have a rule, or none at all.
func (c *client) waits(uri, rule string) {
	c.Helper()
	has := func() bool {
		for _, d := range c.told[uri] {
			if rule == "" || d["code"] == rule {
				return rule != ""
			}
		}
		return rule == ""
	}
	for !has() {
		c.next()
	}
}

// TestNeovim lets the editor itself speak with the program: it shows a finding, what a name stands for and what to
// write, and writes the canonical form.
func TestNeovim(t *testing.T) {
	o := adopted(t, "create table vessel (id integer primary key, name text)")
	o.migration("0002-change", "-- A change\nALTER TABLE vessel ADD COLUMN flag VARCHAR(2), ALTER nmae SET NOT NULL;\n")
	o.write("drive.lua", `
local function fail(why) io.stderr:write(why .. "\n"); vim.cmd("cquit 1") end
local client = vim.lsp.start_client({ name = "lastboard", cmd = { vim.env.PROGRAM, "editor" }, root_dir = vim.fn.getcwd() })
vim.lsp.buf_attach_client(0, client)
local function found(code)
  for _, d in ipairs(vim.diagnostic.get(0)) do if d.code == code then return d end end
end
if not vim.wait(60000, function() return found("name-unknown") end, 20) then fail("no finding: " .. vim.inspect(vim.diagnostic.get(0))) end
local at = found("name-unknown")
io.stdout:write("finding at " .. at.lnum .. ":" .. at.col .. " " .. at.message .. "\n")
local function ask(method, params)
  local answer = vim.lsp.buf_request_sync(0, method, params, 60000)
  if not answer or not answer[client] or answer[client].err then fail(method .. ": " .. vim.inspect(answer)) end
  return answer[client].result
end
local params = vim.lsp.util.make_range_params()
params.range = { start = { line = 1, character = 0 }, ["end"] = { line = 1, character = 80 } }
params.context = { diagnostics = {} }
for _, action in ipairs(ask("textDocument/codeAction", params)) do
  if action.kind == "quickfix" then vim.lsp.util.apply_workspace_edit(action.edit, "utf-16"); break end
end
if not vim.wait(60000, function() return not found("name-unknown") end, 20) then fail("it is not mended") end
vim.api.nvim_win_set_cursor(0, { 2, 14 })
io.stdout:write("hover " .. ask("textDocument/hover", vim.lsp.util.make_position_params()).contents.value .. "\n")
local items = ask("textDocument/completion", vim.lsp.util.make_position_params())
io.stdout:write("completion of " .. #items.items .. "\n")
vim.lsp.util.apply_text_edits(ask("textDocument/formatting", vim.lsp.util.make_formatting_params()), 0, "utf-16")
vim.cmd("write")
vim.cmd("qall")
`)
	c := exec.Command("nvim", "--headless", "-u", "NONE", "-i", "NONE", "-n", "-c", "luafile drive.lua",
		"migrations/0002-change.sql")
	c.Dir = o.dir
	c.Env = append(c.Environ(), "PROGRAM="+program, "HOME="+o.dir, "XDG_STATE_HOME="+o.dir, "XDG_CACHE_HOME="+o.dir)
	out, err := c.CombinedOutput()
	if err != nil {
		t.Fatalf("%v (make servers installs neovim): %s", err, out)
	}
	for _, want := range []string{"finding at 1:", "did you mean name?", "table vessel", "completion of "} {
		if !strings.Contains(string(out), want) {
			t.Errorf("wanted %q in %s", want, out)
		}
	}
	if got := o.read("migrations/0002-change.sql"); got != "-- A change\nalter table vessel\n  add column flag "+
		"varchar(2),\n  alter column name set not null;\n" {
		t.Errorf("it has written %q", got)
	}
}
