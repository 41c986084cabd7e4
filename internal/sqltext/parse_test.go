package sqltext_test

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"lastboard/internal/sqltext"
)

var update = flag.Bool("update", false, "rewrite the expected texts beside the cases")

// expect compares got with the file, or rewrites it.
func expect(t *testing.T, file, got string) {
	t.Helper()
	if *update {
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if string(want) != got {
		t.Errorf("%s: wanted\n%s\ngot\n%s", file, want, got)
	}
}

func cases(t *testing.T, pattern string) []string {
	t.Helper()
	files, err := filepath.Glob(pattern)
	if err != nil || len(files) == 0 {
		t.Fatalf("no cases match %s (%v)", pattern, err)
	}
	return files
}

func TestGoodFilesPrintCanonically(t *testing.T) {
	for _, file := range cases(t, "testdata/good/*.sql") {
		src, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		f, err := sqltext.Parse(file, string(src))
		if err != nil {
			t.Errorf("%s: %v", file, err)
			continue
		}
		printed := sqltext.Print(f)
		expect(t, strings.TrimSuffix(file, ".sql")+".printed", "title: "+f.Title+"\nreason: "+f.Reason+"\n"+printed)
		samePrintedAgain(t, printed)
	}
}

// samePrintedAgain asserts that the printer is the parser's inverse.
func samePrintedAgain(t *testing.T, printed string) {
	t.Helper()
	again, err := sqltext.Parse("printed", printed)
	if err != nil {
		t.Fatalf("what was printed does not parse: %v\n%s", err, printed)
	}
	if got := sqltext.Print(again); got != printed {
		t.Fatalf("printing again differs: wanted\n%s\ngot\n%s", printed, got)
	}
}

func TestBadFilesReportEveryError(t *testing.T) {
	for _, file := range cases(t, "testdata/bad/*.sql") {
		src, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		_, err = sqltext.Parse(filepath.Base(file), string(src))
		list, ok := err.(sqltext.Errors)
		if !ok {
			t.Errorf("%s: wanted errors, got %v", file, err)
			continue
		}
		var b strings.Builder
		for _, e := range list {
			b.WriteString(e.Error() + "\n")
			if e.Line != "" {
				b.WriteString("  " + e.Line + "\n  " + strings.Repeat(" ", max(0, e.Pos.Column-1)) + "^\n")
			}
			if e.Cure != "" {
				b.WriteString("cure: " + e.Cure + "\n")
			}
		}
		expect(t, strings.TrimSuffix(file, ".sql")+".errors", b.String())
	}
}

func TestLineEndsAndMarksDoNotChangeTheCanonicalForm(t *testing.T) {
	unix := "-- Title\nalter table t\n  add a integer; -- more\n"
	want, err := sqltext.Parse("unix", unix)
	if err != nil {
		t.Fatal(err)
	}
	for _, variant := range []string{"\ufeff" + unix, strings.ReplaceAll(unix, "\n", "\r\n"),
		strings.ReplaceAll(unix, " ", "\t"), strings.ToUpper(unix)} {
		got, err := sqltext.Parse("variant", variant)
		if err != nil {
			t.Fatalf("%q: %v", variant, err)
		}
		if sqltext.Print(got) != sqltext.Print(want) {
			t.Errorf("%q prints\n%swanted\n%s", variant, sqltext.Print(got), sqltext.Print(want))
		}
	}
}

func TestDeepNestingIsAnErrorNotACrash(t *testing.T) {
	for _, part := range []string{"(", "not ", "- ", "case when ", "coalesce("} {
		if _, err := sqltext.Parse("deep", "assert "+strings.Repeat(part, 100_000)); err == nil {
			t.Errorf("%q nested without end was accepted", part)
		}
	}
	for _, op := range []string{" + 1", " or a", " is null"} {
		if _, err := sqltext.Parse("long", "assert a"+strings.Repeat(op, 100_000)+";"); err == nil {
			t.Errorf("a chain of 100,000%s was accepted", op)
		}
	}
}

// FuzzParse asserts that no text makes the parser panic, and that what it
// accepts is printed in a form that means the same.
func FuzzParse(f *testing.F) {
	for _, pattern := range []string{"testdata/good/*.sql", "testdata/bad/*.sql"} {
		files, err := filepath.Glob(pattern)
		if err != nil {
			f.Fatal(err)
		}
		for _, file := range files {
			src, err := os.ReadFile(file)
			if err != nil {
				f.Fatal(err)
			}
			f.Add(string(src))
			for part := range strings.SplitSeq(string(src), ";") {
				f.Add(part + ";")
			}
		}
	}
	f.Fuzz(func(t *testing.T, src string) {
		file, err := sqltext.Parse("fuzz", src)
		if err != nil {
			return
		}
		samePrintedAgain(t, sqltext.Print(file))
		text, err := sqltext.Tidy(file)
		if err != nil {
			t.Fatalf("%q: %v", src, err)
		}
		stable(t, text)
	})
}
