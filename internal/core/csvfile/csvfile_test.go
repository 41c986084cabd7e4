package csvfile_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"lastboard/internal/core/csvfile"
	"lastboard/internal/sqltext"
)

func file(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "people.csv")
	if err := os.WriteFile(path, []byte(text), 0o666); err != nil {
		t.Fatal(err)
	}
	return path
}

func typesOf(t *testing.T, names ...string) []sqltext.Type {
	t.Helper()
	var list []sqltext.Type
	for _, n := range names {
		typ, ok := sqltext.ParseType(n)
		if !ok {
			t.Fatalf("%s is no type", n)
		}
		list = append(list, typ)
	}
	return list
}

func TestRows(t *testing.T) {
	f, err := csvfile.Open(file(t, "\ufeffid, owner ,active\r\n1,\"Ash, "+
		"\"\"M.\"\"\",TRUE\r\n2,,false\r\n3,\"two\nlines\",\r\n"))
	if err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(f.Columns, []string{"id", "owner", "active"}) {
		t.Errorf("got %q", f.Columns)
	}
	var got [][]any
	var lines []int
	err = f.Rows(typesOf(t, "integer", "text", "boolean"), func(line int, values []any) error {
		got, lines = append(got, values), append(lines, line)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	want := [][]any{{"1", `Ash, "M."`, "1"}, {"2", nil, "0"}, {"3", "two\nlines", nil}}
	for i := range want {
		if !slices.Equal(got[i], want[i]) || lines[i] != i+2 {
			t.Errorf("row %d, line %d: wanted %q, got %q", i+1, lines[i], want[i], got[i])
		}
	}
}

func TestWhatIsNoFile(t *testing.T) {
	if _, err := csvfile.Open(filepath.Join(t.TempDir(), "nosuch.csv")); err == nil ||
		!strings.Contains(err.Error(), "there is no file") {
		t.Errorf("got %v", err)
	}
	for text, says := range map[string]string{
		"":                      "is empty",
		"a,b,A\n":               "two columns A",
		"a,,b\n":                ":1: column 2 has no name",
		"a,b\n1,2\n1\n":         ":3: the line has 1 values, and the header 2",
		"a,b\n1,\"2\n":          ":2:",
		"a\n\x80\n":             ":2: the line is not UTF-8",
		"a\nx\x00y\n":           ":2: the line is not UTF-8",
		"\xff\xfea\x00\n\x001":  "UTF-8",
		"a,b\n1,2\n3,4,5,6\n\n": ":3: the line has 4 values",
	} {
		if _, err := csvfile.Open(file(t, text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: wanted %q, got %v", text, says, err)
		}
	}
}

func TestValuesOfATypeAndKeys(t *testing.T) {
	cases := []struct{ typ, value, says string }{
		{"integer", " -12 ", ""}, {"integer", "1.0", "which is no integer"}, {"bigint", "x", "which is no bigint"},
		{"numeric(6,2)", "1.5e3", ""}, {"numeric(6,2)", "1,5", "which is no numeric(6,2)"}, {"real", ".5", ""},
		{"real", "fast", "which is no real"},
		{"boolean", "true", ""}, {"boolean", "0", ""}, {"boolean", "yes", "which is no boolean"},
		{"date", "2031-05-01", ""}, {"date", "01.05.2031", "which is no date"}, {"timestamp", "2031-05-01T10:00", ""},
		{"timestamp", "noon", "which is no timestamp"},
		{"enum('a', 'b')", "b", ""}, {"enum('a', 'b')", "c", "which is no enum('a', 'b')"}, {"text", "anything", ""},
	}
	for _, c := range cases {
		f, err := csvfile.Open(file(t, "id,v\n1,\""+c.value+"\"\n"))
		if err != nil {
			t.Fatal(err)
		}
		err = f.Check(typesOf(t, "integer", c.typ), []int{0})
		if c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s %q: wanted %q, got %v", c.typ, c.value, c.says, err)
		}
	}
	for text, says := range map[string]string{
		"id,n\n1,1\n,1\n":       ":3: the line has no id",
		"id,n\n1,1\n2,1\n1,1\n": ":4: the line has the same id, n as line 2",
		"id,n\n7,1\n007,1\n":    "the same id, n as line 2",
		"id,n\n7,1\n7,2\n":      "",
	} {
		f, err := csvfile.Open(file(t, text))
		if err != nil {
			t.Fatal(err)
		}
		err = f.Check(typesOf(t, "integer", "integer"), []int{0, 1})
		if says == "" && err != nil || says != "" && (err == nil || !strings.Contains(err.Error(), says)) {
			t.Errorf("%q: wanted %q, got %v", text, says, err)
		}
	}
}

func TestAFileThatChangesMeanwhile(t *testing.T) {
	path := file(t, "a\n1\n")
	f, err := csvfile.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte("a\n2\n"), 0o666); err != nil {
		t.Fatal(err)
	}
	err = f.Rows(typesOf(t, "text"), func(int, []any) error { return nil })
	if err == nil || !strings.Contains(err.Error(), "has changed since it was checked") {
		t.Errorf("got %v", err)
	}
}
