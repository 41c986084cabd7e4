package sqltext_test

import (
	"os"
	"path/filepath"
	"testing"

	"lastboard/internal/sqltext"
)

func TestTidyKeepsComments(t *testing.T) {
	cases := []struct{ name, source, want string }{
		{"title and reason", "-- Papers\n-- Why.\nALTER TABLE vessel ADD a INT;",
			"-- Papers\n-- Why.\nalter table vessel\n  add column a integer;\n"},
		{"apart stays apart", "-- Papers\n\n-- first\ndrop view v;\n\n\n\n-- second\ndrop view w;",
			"-- Papers\n\n-- first\ndrop view v;\n\n-- second\ndrop view w;\n"},
		{"beside an action", "-- T\nalter table vessel\n add a int, -- the first\n add b int; -- the last\n",
			"-- T\nalter table vessel\n  add column a integer, -- the first\n  add column b integer; -- the last\n"},
		{"above an action", "-- T\nalter table vessel\n  -- the first\n  add a int,\n  /* the\n second */ add b int;",
			"-- T\nalter table vessel\n  -- the first\n  add column a integer,\n  /* the\n second */\n  add column b " +
				"integer;\n"},
		{"columns of a table", "-- T\ncreate table t ( -- open\n id int primary key, -- key\n -- name\n name text -- " +
			"last\n);", "-- T\ncreate table t (\n  -- open\n  id integer primary key, -- key\n  -- name\n  name text -- " +
			"last\n);\n"},
		{"before the semicolon", "-- T\nalter table vessel add a int -- why\n;",
			"-- T\nalter table vessel\n  add column a integer -- why\n;\n"},
		{"behind the last statement", "-- T\ndrop view v;\n-- the end\n", "-- T\ndrop view v;\n\n-- the end\n"},
		{"of a backfill", "-- T\nbackfill vessel set -- all\n a = 1, -- one\n b = 2 where true;",
			"-- T\nbackfill vessel set\n  -- all\n  a = 1, -- one\n  b = 2\n  where true;\n"},
		{"in a query", "-- T\ncreate view v as select a -- here\n from t;",
			"-- T\ncreate view v as select a from t\n  -- here\n;\n"},
		{"windows", "\ufeff-- T\r\nalter table vessel add a int; -- x\r\n",
			"-- T\nalter table vessel\n  add column a integer; -- x\n"},
		{"nothing but comments", "-- T\n-- later\n", "-- T\n-- later\n"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f, err := sqltext.Parse("t.sql", c.source)
			if err != nil {
				t.Fatal(err)
			}
			got, err := sqltext.Tidy(f)
			if err != nil {
				t.Fatal(err)
			}
			if got != c.want {
				t.Errorf("wanted\n%q\ngot\n%q", c.want, got)
			}
			stable(t, got)
		})
	}
}

// stable asserts that tidying again changes nothing.
func stable(t *testing.T, text string) {
	t.Helper()
	f, err := sqltext.Parse("t.sql", text)
	if err != nil {
		t.Fatal(err)
	}
	again, err := sqltext.Tidy(f)
	if err != nil || again != text {
		t.Errorf("tidied again: %v\nwanted\n%s\ngot\n%s", err, text, again)
	}
}

// TestTidyEveryStatement tidies each file of testdata.
func TestTidyEveryStatement(t *testing.T) {
	files, err := filepath.Glob("testdata/good/*.sql")
	if err != nil || len(files) == 0 {
		t.Fatalf("no files: %v", err)
	}
	for _, file := range files {
		source, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		f, err := sqltext.Parse(file, string(source))
		if err != nil {
			t.Fatal(err)
		}
		text, err := sqltext.Tidy(f)
		if err != nil {
			t.Fatal(err)
		}
		stable(t, text)
	}
}
