package test

import (
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write what the commands print to testdata/outputs; read it before it is "+
	"committed")

// unsteady is what differs from run to run in what is printed.
var unsteady = []struct {
	pattern *regexp.Regexp
	by      string
}{
	{regexp.MustCompile(`on dev: SQLite [0-9.]+, \S+/harbour\.db`), "on dev: SQLite N, harbour.db"},
	{regexp.MustCompile(`\d{4}-\d\d-\d\d \d\d:\d\d(:\d\d)?`), "TIME"},
	{regexp.MustCompile(`under 10 ms|~\d+(\.\d+)? m?s|\d+ ms|\d+\.\d s|0 s`), "SPAN"},
	{regexp.MustCompile(`\d+(\.\d)? (kB|B)\b`), "SIZE"},
	{regexp.MustCompile(`\S+ on \S+ +SPAN`), "WHO  SPAN"},
	{regexp.MustCompile(`lastboard \(process \d+\)`), "PROGRAM"},
	{regexp.MustCompile(` +`), " "},
}

func steadied(r result) string {
	text := r.stdout
	if r.stderr != "" {
		text += "--- on standard error\n" + r.stderr
	}
	for _, u := range unsteady {
		text = u.pattern.ReplaceAllString(text, u.by)
	}
	var lines []string
	for line := range strings.SplitSeq(text, "\n") {
		lines = append(lines, strings.TrimRight(line, " "))
	}
	return strings.Join(lines, "\n")
}

// TestWhatIsPrinted goes through a day's work and compares what each command prints,
// blanks between words aside, with what was read and found good.
func TestWhatIsPrinted(t *testing.T) {
	o := newOffice(t, quay...)
	steps := []struct {
		name string
		code int
		give string // a migration that is written first: name, then its text
		args []string
	}{
		{"adopt", 0, "", []string{"adopt", "--yes"}},
		{"describe", 0, "", []string{"describe"}},
		{"describe-table", 0, "", []string{"describe", "vessel", "--rows", "2"}},
		{"describe-unknown", 2, "", []string{"describe", "vesel"}},
		{"check-rows", 3, "0002-papers\n-- Papers\n-- The new office wants numbers.\nalter table vessel\n  alter column " +
			"registry set data type integer,\n  add column \"order\" text default 5,\n  drop column length_ft;\n",
			[]string{"check"}},
		{"check-syntax", 2, "0002-papers\n-- Papers\nalter tabel vessel drop flag;\nalter table vessel add column a " +
			"intger(;\n", []string{"check"}},
		{"check-good", 0, "0002-papers\n-- Papers\n-- The new office wants numbers.\nalter table vessel\n  alter column " +
			"registry set data type integer\n    using (case when registry = 'x' then null else cast(registry as integer) " +
			"end)\n    restore using (cast(registry as text)),\n  add column code varchar(12) not null using " +
			"(upper(name)),\n  drop column seen;\n", []string{"check"}},
		{"forecast", 0, "", []string{"forecast"}},
		{"forecast-rows", 0, "", []string{"forecast", "--rows", "2"}},
		{"forecast-statements", 0, "", []string{"forecast", "--statements"}},
		{"advance", 0, "", []string{"advance", "--yes"}},
		{"advance-nothing", 0, "", []string{"advance", "--yes"}},
		{"kept", 0, "", []string{"kept"}},
		{"compare", 0, "", []string{"describe", "vessel", "--compare", "1"}},
		{"describe-at", 0, "", []string{"describe", "vessel", "--at", "1"}},
		{"status", 0, "0003-rows\n-- Rows come and go\ninsert into berth (id, code) values (7, 'C1');\ndelete from dues " +
			"where year = 2030;\nbackfill vessel set length_ft = b.depth_cm from berth as b on (berth_id = b.id);\n",
			[]string{"status"}},
		{"forecast-rows-3", 0, "", []string{"forecast", "--rows", "2"}},
		{"advance-3", 0, "", []string{"advance", "--yes"}},
		{"ledger", 0, "", []string{"ledger"}},
		{"retreat", 0, "", []string{"retreat", "--to", "2", "--yes"}},
		{"retreat-all", 0, "", []string{"retreat", "--to", "1", "--yes"}},
		{"audit", 0, "", []string{"audit"}},
		{"not-confirmed", 3, "", []string{"advance"}},
		{"usage", 2, "", []string{"advanse"}},
	}
	for _, s := range steps {
		if s.give != "" {
			name, text, _ := strings.Cut(s.give, "\n")
			o.migration(name, text)
		}
		got := "$ lastboard " + strings.Join(s.args, " ") + "\n" + steadied(o.code(s.code, s.args...))
		path := filepath.Join("testdata", "outputs", s.name+".txt")
		if *update {
			if err := os.WriteFile(path, []byte(got), 0o666); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if got != string(want) {
			t.Errorf("%s: %s", s.name, firstDifference(string(want), got))
		}
	}
}
