package test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestFilesThatAreNoDatabase(t *testing.T) {
	beside(t)
	cases := []struct {
		name string
		make func(o *office, path string)
		code int
		says string
	}{
		{"no file", func(o *office, path string) { os.Remove(path) }, 1, "there is no file"},
		{"a text", func(o *office, path string) {
			o.write("harbour.db", strings.Repeat("this is no database at all\n", 100))
		}, 1, "is not a SQLite database"},
		{"a folder", func(o *office, path string) { os.Remove(path); os.Mkdir(path, 0o777) }, 1, "is a folder"},
		{"no tables", func(o *office, path string) { o.write("harbour.db", "") }, 3, "the database has no tables"},
		{"half a database", func(o *office, path string) {
			if err := os.Truncate(path, 5000); err != nil {
				o.Fatal(err)
			}
		}, 1, "damaged"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			o := newOffice(t, pier...)
			path := filepath.Join(o.dir, "harbour.db")
			c.make(o, path)
			before, _ := os.ReadFile(path)
			o.wants(o.code(c.code, "adopt", "--yes"), c.says)
			after, _ := os.ReadFile(path)
			if string(before) != string(after) {
				t.Error("the file has changed")
			}
			if _, err := os.Stat(filepath.Join(o.dir, "migrations", "0001-adopted.sql")); err == nil {
				t.Error("a migration was written")
			}
		})
	}
}

func TestLockedDatabase(t *testing.T) {
	o := adopted(t, pier...)
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = "+
		"'sqlite:harbour.db'\n[databases.dev.pace]\nlock_tries = 1\n")
	o.migration("0002-change", "-- A change\nalter table berth add a text;\n")
	before := o.snapshot()
	db := o.open()
	defer db.Close()
	conn, err := db.Conn(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if _, err := conn.ExecContext(context.Background(), "begin immediate"); err != nil {
		t.Fatal(err)
	}
	o.wants(o.code(1, "advance", "--yes"), "somebody else is writing")
	if _, err := conn.ExecContext(context.Background(), "rollback"); err != nil {
		t.Fatal(err)
	}
	o.unchanged(before)
	o.must("advance", "--yes")
}

func TestReadOnlyFile(t *testing.T) {
	o := adopted(t, pier...)
	o.migration("0002-change", "-- A change\nalter table berth add a text;\n")
	before := o.snapshot()
	// The owner of a file may write it whatever its mode says, if that is root; so
	// the file is on a file system that is read-only itself.
	dir := t.TempDir()
	bindReadOnly(t, o.dir, dir)
	ro := &office{T: t, dir: dir}
	ro.must("status")
	ro.must("forecast")
	r := ro.run("advance", "--yes")
	if r.code != 1 {
		t.Fatalf("wanted exit 1, got %s", r)
	}
	o.unchanged(before)
}

// TestTablesOfEveryKind changes tables as other programs make them, and takes it
// back.
func TestTablesOfEveryKind(t *testing.T) {
	beside(t)
	cases := []struct{ name, create, rows, change string }{
		{"without a primary key", "create table t (a text, b integer)", "insert into t values ('x', 1), ('x', 1)",
			"alter table t add c text not null using (a || '!'), alter b set default 4"},
		{"without row numbers", "create table t (a text primary key, b integer) without rowid",
			"insert into t values ('x', 1), ('y', 2)",
			"alter table t add c text not null using (a || '!'), drop b; backfill t set c = c || '?'"},
		{"strict", "create table t (id integer primary key, a text not null, b any, c real) strict",
			"insert into t values (1, 'x', x'00', 1.5), (2, 'y', 2, null)",
			"alter table t add d varchar(5) not null default 'd', add e boolean default true, add f numeric(5,2) using (id " +
				"* 1.5), alter a set default 'z', drop c"},
		{"with conflict clauses", "create table t (id integer primary key on conflict replace, a text unique on " +
			"conflict ignore, b text constraint bb not null on conflict abort)",
			"insert into t values (1, 'x', 'b'), (2, 'y', 'c')", "alter table t alter a set default 'q', add d text"},
		{"with keys in order and collations", "create table t (a text collate nocase, b integer, primary key (a desc, " +
			"b), unique (b collate binary desc))",
			"insert into t values ('x', 1), ('y', 2)", "alter table t alter b set default 3"},
		{"with deferred references", "create table p (id integer primary key); create table t (id integer primary key, " +
			"a integer references p deferrable initially deferred, b integer, constraint fk foreign key (b) references p " +
			"(id) match full on update set null)",
			"insert into p values (1), (2); insert into t values (1, 1, 2), (2, null, 1)",
			"alter table t alter a set default 1, add c integer references p"},
		{"with gaps and big numbers", "create table t (id integer primary key autoincrement, a text)",
			"insert into t values (-5, 'a'), (0, 'b'), (9223372036854775800, 'c')",
			"alter table t alter a set default 'z', add n text not null using (cast(id as text))"},
		{"with computed columns", "create table t (id integer primary key, a integer, b integer as (a * 2) stored, c " +
			"text generated always as (b || 'x') virtual)", "insert into t (id, a) values (1, 2), (2, null)",
			"alter table t alter a set default 9, drop c"},
		{"with expression and partial indexes", "create table t (id integer primary key, a text, b integer); create " +
			"index i on t (lower(a), b desc) where b > 0; create unique index u on t ((b % 100)) where a is not null",
			"insert into t values (1, 'A', 1), (2, 'B', 2)", "alter table t alter a set default 'x', rename b to n"},
		{"with triggers and views", "create table t (id integer primary key, a text, b text); create table log (x " +
			"text); create trigger tr after update of a on t when new.a is not null begin insert into log values (old.a || " +
			"new.b); end; create view v as select a, count(*) as n from t group by a; create view w as select n from v",
			"insert into t values (1, 'x', 'y')", "alter table t rename a to label, alter b set default 'b'"},
		{"full-text tables beside it", "create virtual table notes using fts5(body); create table t (id integer primary " +
			"key, a text)", "insert into notes values ('hello'); insert into t values (1, 'x')",
			"alter table t add b text not null default 'b', alter a set default 'q'"},
		{"no types at all", "create table t (a, b, c)", "insert into t values (1, 'x', x'01'), (null, 2.5, '')",
			"alter table t alter b set default 'x', add d integer"},
		{"names of every kind", `create table "Order ""of"" the day" ("select" integer primary key, [two words] text, ` +
			"`größe`" + ` real, "группа" text check ("группа" <> 'x'))`,
			`insert into "Order ""of"" the day" values (1, 'a', 1.5, 'b'), (2, null, null, null)`,
			`alter table "Order ""of"" the day" rename "two words" to "three whole words", alter größe set default 2, add "a""b" text not null using (coalesce("two words", 'none')), drop constraint "Order ""of"" the day_группа_check"`},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			o := adopted(t, c.create, c.rows)
			start := o.snapshot()
			o.migration("0002-change", "-- A change\n"+c.change+";\n")
			o.must("advance", "--yes")
			end := o.snapshot()
			if end == start {
				t.Fatal("nothing has changed")
			}
			o.same("pragma integrity_check", "ok")
			o.must("retreat", "--to", "1", "--yes")
			o.unchanged(start)
			o.must("advance", "--yes")
			o.unchanged(end)
		})
	}
}

// TestValuesThatCannotBePutBack is that what cannot be told apart by row is
// refused, or given up in so many words.
func TestValuesThatCannotBePutBack(t *testing.T) {
	o := adopted(t, "create table t (a text, b integer)", "insert into t values ('x', 1), ('x', 2)")
	before := o.snapshot()
	for _, s := range []string{"alter table t drop b", "backfill t set b = 3"} {
		o.migration("0002-change", "-- A change\n"+s+";\n")
		o.wants(o.code(3, "advance", "--yes"), "has no primary key", "discard")
		o.unchanged(before)
	}
	o.migration("0002-change", "-- A change\nbackfill t set b = 3 discard;\n")
	o.must("advance", "--yes")
	o.same("select a, b from t", "x|3\nx|3")
}

func TestMigrationFilesOfEveryKind(t *testing.T) {
	o := adopted(t, pier...)
	o.migration("0002-empty", "")
	o.migration("0003-comment", "-- Only a comment\n")
	o.migration("0004-windows", "\ufeff-- Windows\r\nalter table berth\r\n  add a text; -- why\r\n")
	before := o.snapshot()
	for _, command := range [][]string{{"check"}, {"advance", "--yes"}} {
		o.wants(o.code(3, command...), "migration-empty", "write its statements, or delete the file")
	}
	o.unchanged(before)
	for _, name := range []string{"0002-empty", "0003-comment"} {
		if err := os.Remove(filepath.Join(o.dir, "migrations", name+".sql")); err != nil {
			t.Fatal(err)
		}
	}
	o.must("advance", "--yes")
	// Line ends, marks and comments do not count; a word does.
	o.migration("0004-windows", "-- Unix, and a better comment\nalter table berth add column a text;\n")
	o.must("advance", "--yes")
	o.migration("0004-windows", "-- Windows\nalter table berth add column b text;\n")
	o.wants(o.code(3, "advance", "--yes"), "migration 0004-windows was edited after it ran", "add column a text",
		"add column b text")
}

func TestFilesThatDoNotFit(t *testing.T) {
	beside(t)
	change := "-- A change\nalter table berth add a text;\n"
	cases := []struct {
		name  string
		spoil func(o *office)
		code  int
		says  string
	}{
		{"one number twice", func(o *office) { o.migration("0002-other", change) }, 2,
			"0002-change.sql and 0002-other.sql have one number"},
		{"a missing file", func(o *office) { os.Remove(filepath.Join(o.dir, "migrations/0002-change.sql")) }, 3,
			"its file is not in"},
		{"a late file", func(o *office) {
			o.migration("0005-later", "-- Later\nalter table berth add c text;\n")
			o.must("advance", "--yes")
			o.migration("0004-late", "-- Late\nalter table berth add d text;\n")
		}, 3, "rename it to 0006-late.sql"},
		{"a bad name", func(o *office) { o.migration("3_Change", change) }, 2, "is not the name of a migration"},
		{"changed by hand", func(o *office) {
			o.exec("alter table berth add by_hand text")
			o.migration("0003-more", "-- More\nalter table berth add c text;\n")
		}, 3, "column by_hand of table berth is there and should not be"},
		{"not UTF-8", func(o *office) { o.migration("0003-latin", "-- caf\xe9\n") }, 2, "is not in UTF-8"},
		{"a newer ledger", func(o *office) {
			o.exec("update lastboard_meta set value = '99' where name = 'format'",
				"update lastboard_meta set value = '7.5.0' where name = 'needs'")
		}, 3, "install Lastboard 7.5.0 or later"},
		{"several errors in one run", func(o *office) {
			o.migration("0003-slips", "-- Slips\nalter table berth ad b text;\ncreate tabel t (a text);\n")
		}, 2, "0003-slips.sql:3:8: error: \"table\", \"index\" or \"view\" is expected here"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			o := adopted(t, pier...)
			o.migration("0002-change", change)
			o.must("advance", "--yes")
			before := o.query("select sql from sqlite_schema where name = 'berth'")
			c.spoil(o)
			if c.name != "changed by hand" && c.name != "a late file" &&
				o.query("select sql from sqlite_schema where name = 'berth'") != before {
				t.Fatal("the case itself changed the table")
			}
			o.wants(o.code(c.code, "advance", "--yes"), c.says)
		})
	}
}

func TestConfigurationsThatAreWrong(t *testing.T) {
	beside(t)
	cases := []struct{ name, text, says string }{
		{"unknown setting", "databse = 'x'\n[databases.x]\nurl = 'sqlite:x.db'\n", "did you mean database?"},
		{"unknown setting of a database", "[databases.x]\nurl = 'sqlite:x.db'\nlve = true\n", "did you mean live?"},
		{"no TOML", "database = \n", "lastboard.toml:1"},
		{"no such database", "database = 'harbor'\n[databases.harbour]\nurl = 'sqlite:x.db'\n", "did you mean harbour?"},
		{"no url", "[databases.x]\nlive = true\n", "has no url"},
		{"no time", "[databases.x]\nurl = 'sqlite:x.db'\n[databases.x.pace]\nbatch_time = 'quick'\n", "is not a time"},
		{"missing variable", "[databases.x]\nurl = '${HARBOUR_URL_THAT_IS_NOT_SET}'\n",
			"needs the environment variable HARBOUR_URL_THAT_IS_NOT_SET"},
		{"another engine", "[databases.x]\nurl = 'carrier-pigeon:loft'\n", "no engine for carrier-pigeon"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			o := newOffice(t, pier...)
			o.write("lastboard.toml", c.text)
			r := o.run("status")
			if r.code != 2 && r.code != 3 {
				t.Errorf("wanted exit 2 or 3, got %s", r)
			}
			o.wants(r, c.says)
		})
	}
}

func TestCommandLinesThatAreWrong(t *testing.T) {
	o := newOffice(t, pier...)
	for _, args := range [][]string{{"advanse"}, {"advance", "--too", "4"}, {"describe", "a", "b"}, {"retreat"},
		{"status", "extra"}} {
		if r := o.run(args...); r.code != 2 {
			t.Errorf("%v: wanted exit 2, got %s", args, r)
		}
	}
	o.wants(o.code(2, "advanse"), "did you mean advance?")
	o.wants(o.code(2, "describe", "vesel"), "did you mean vessel?")
	// Nothing to do makes nothing.
	none := &office{T: t, dir: t.TempDir()}
	none.must("init", "--url", "sqlite:none.db")
	none.wants(none.code(0, "advance", "--yes"), "nothing to do", "not there yet")
	if _, err := os.Stat(filepath.Join(none.dir, "none.db")); err == nil {
		t.Error("a run with nothing to do made the database")
	}
	o.wants(o.code(3, "adopt"), "nobody is there to confirm")
	o.wants(o.code(3, "init"), "there is a project already")
}

func TestConfirmationNamesTheDatabase(t *testing.T) {
	o := newOffice(t, pier...)
	o.write("lastboard.toml", "database = 'harbour'\n[databases.harbour]\nurl = 'sqlite:harbour.db'\nconfirm = true\n")
	o.wants(o.code(3, "adopt", "--yes"), "add --yes=harbour")
	o.wants(o.code(3, "adopt", "--yes=dev"), "add --yes=harbour")
	o.must("adopt", "--yes=harbour")
}

func TestLiveDatabaseIsNotMadeToWaitUnasked(t *testing.T) {
	o := adopted(t, "create table vessel (id integer primary key, name text)",
		"insert into vessel select value, 'v' || value from (with recursive s(value) as (select 1 union all select "+
			"value + 1 from s where value < 60000) select value from s)")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = 'sqlite:harbour.db'\nlive = "+
		"true\n[databases.dev.pace]\nlock_wait = '50ms'\n")
	before := o.snapshot()
	o.migration("0002-change", "-- A change\nalter table vessel alter name set default 'x';\n")
	o.wants(o.code(0, "forecast"), "throughout", "--let-writers-wait", "pragma journal_mode = wal")
	o.wants(o.code(3, "advance", "--yes"), "--let-writers-wait")
	o.unchanged(before)
	o.must("advance", "--yes", "--let-writers-wait")
	o.migration("0003-more", "-- More\nalter table vessel rename to ship;\n")
	o.wants(o.code(3, "advance", "--yes"), "needs an overlap", "--settle")
	o.must("advance", "--yes", "--settle")
}

func TestOutputIsPlainInAPipe(t *testing.T) {
	o := adopted(t, append(pier, "insert into berth values (3, 'bad' || char(27) || '[31mred' || char(10) || 'two "+
		"lines')")...)
	o.migration("0002-change", "-- A change\nalter table berth add a text not null;\n")
	for _, args := range [][]string{{"describe"}, {"describe", "berth", "--rows", "5"}, {"check"}, {"forecast"},
		{"status"}, {"ledger"}, {"advance", "--yes"}, {"help", "advance"}} {
		r := o.run(args...)
		if strings.ContainsRune(r.stdout+r.stderr, '\x1b') {
			t.Errorf("%v writes escapes into a pipe: %q", args, r.stdout+r.stderr)
		}
	}
}

// TestHelpHasExamples is that every command says what it is for and shows how.
func TestHelpHasExamples(t *testing.T) {
	o := newOffice(t, pier...)
	for _, c := range []string{"demo", "init", "adopt", "describe", "draft", "check", "forecast", "advance", "retreat",
		"status", "ledger", "kept", "tidy", "audit", "version"} {
		o.wants(o.code(0, "help", c), "Examples:", "lastboard "+c)
	}
	// Where something is typed, what may stand there is offered, out of files alone.
	o.code(0, "init", "--url", "sqlite:harbour.db", "office")
	in := &office{T: t, dir: filepath.Join(o.dir, "office")}
	in.migration("0001-open", "-- Open the office\ncreate table vessel (id integer primary key);\n")
	in.migration("0002-broken", "-- Broken\nalter tabel vessel;\n")
	for line, offered := range map[string]string{"advance --to": "0001\tOpen the office", "retreat --to": "0\ttake back",
		"describe": "vessel\t1 columns", "describe --at": "0001\tOpen", "describe --compare": "0001\tOpen",
		"settle": "0001\t", "ledger": "0001\t", "kept": "0001\t", "status --database": "dev\tSQLite",
		"advance --yes": "dev\t", "status --url": "mariadb://\tMariaDB", "help": "cookbook\t"} {
		args := append([]string{"__complete"}, strings.Fields(line)...)
		if strings.HasSuffix(line, "--yes") {
			args[len(args)-1] += "="
		} else {
			args = append(args, "")
		}
		if out := in.must(args...); !strings.Contains(out, offered) {
			t.Errorf("%s: wanted %q in\n%s", line, offered, out)
		}
	}
	for _, c := range []string{"check", "forecast", "draft", "audit", "describe vessel"} {
		if out := in.must(append(append([]string{"__complete"}, strings.Fields(c)...), "")...); out != ":4\n" {
			t.Errorf("%s: wanted nothing, not even files: %q", c, out)
		}
	}
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		if len(o.must("completion", shell)) < 500 {
			t.Errorf("no completion for %s", shell)
		}
	}
}

func TestDemoTellsItsStory(t *testing.T) {
	beside(t)
	o := &office{T: t, dir: t.TempDir()}
	out := o.must("demo", "office", "--rows", "30000")
	for _, text := range []string{"is no number in", "berth_id is null in", "0014 is taken back", "0013 is settled",
		"matches:", "dropped column", "that were there at the start: nothing", "0 lost, 0 refused"} {
		if !strings.Contains(out, text) {
			t.Errorf("wanted %q in\n%s", text, out)
		}
	}
	inside := &office{T: t, dir: filepath.Join(o.dir, "office")}
	inside.must("tidy", "--check")
	inside.must("retreat", "--to", "3", "--settle", "--let-writers-wait", "--yes")
	// the numbers of 0013 are in use by now
	inside.must("advance", "--settle", "--let-writers-wait", "--yes", "--to", "12")
}

func TestFreshProjectMakesItsDatabase(t *testing.T) {
	beside(t)
	o := &office{T: t, dir: t.TempDir()}
	o.must("init", "--url", "sqlite:harbour.db")
	o.must("draft", "Open the office")
	o.migration("0001-open-the-office", "-- Open the office\ncreate table vessel (id integer primary key generated "+
		"by default as identity, name varchar(40) not null unique, sailed boolean default false, kind enum('tug', "+
		"'ferry'));\ncomment on table vessel is 'what floats';\n")
	o.wants(o.code(0, "check", "--offline"), "nothing found")
	o.wants(o.code(0, "forecast"), "not there yet", "create table vessel")
	if _, err := os.Stat(filepath.Join(o.dir, "harbour.db")); err == nil {
		t.Fatal("the forecast made the database")
	}
	o.must("advance", "--yes")
	o.wants(o.code(0, "describe", "vessel"), "varchar(40)", "enum('tug', 'ferry')", "boolean", "what floats",
		"numbers itself")
	o.exec("insert into vessel (name, kind) values ('Ember', 'tug')")
	o.must("retreat", "--to", "0", "--yes")
	o.same("select count(*) from sqlite_schema where name = 'vessel'", "0")
	o.must("advance", "--yes")
	o.same("select name, kind from vessel", "Ember|tug")
}
