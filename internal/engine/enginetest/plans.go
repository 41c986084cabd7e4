package enginetest

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

var update = flag.Bool("update", false, "write the golden files")

// Planned gives the steps of a statement on tables that other statements make, for a
// number of rows of table vessel.
func Planned(t *testing.T, e engine.Engine, s *schema.Schema, tables, statement string, rows int64,
	live bool) []*engine.Step {
	t.Helper()
	list, err := stepsOf(t, e, s, tables, statement, map[string]int64{"vessel": rows, "berth": 3}, live, false)
	if err != nil {
		t.Fatalf("%s: %v", statement, err)
	}
	return list
}

// Golden compares what each statement becomes, at once on a small table and on a large one
// that applications use, with every statement that is sent, with testdata/plans.txt.
// planned gives the steps.
func Golden(t *testing.T, statements []string, planned func(statement string, rows int64, live bool) []*engine.Step) {
	t.Helper()
	var b strings.Builder
	for _, statement := range statements {
		for _, rows := range []int64{10, 1_000_000} {
			fmt.Fprintf(&b, "## %s; %d rows\n", statement, rows)
			for _, s := range planned(statement, rows, rows > 10) {
				fmt.Fprintf(&b, "%s: %s [%s; writers wait: %s]", s.Kind, s.What, s.Lock, s.WritersWait)
				if s.Alone || s.Outside != nil {
					b.WriteString(" alone")
				}
				b.WriteString("\n")
				if s.Proof == nil {
					for _, sql := range s.SQL {
						b.WriteString("    " + strings.ReplaceAll(engine.Shown(sql), "\n", " ") + "\n")
					}
				}
			}
			b.WriteString("\n")
		}
	}
	const golden = "testdata/plans.txt"
	if *update {
		if err := os.WriteFile(golden, []byte(b.String()), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	was, now := strings.Split(string(want), "\n"), strings.Split(b.String(), "\n")
	for i := range max(len(was), len(now)) {
		if i >= len(was) || i >= len(now) || was[i] != now[i] {
			t.Fatalf("line %d of %s: wanted\n%s\ngot\n%s", i+1, golden, at(was, i), at(now, i))
		}
	}
}

func at(lines []string, i int) string {
	if i < len(lines) {
		return lines[i]
	}
	return "nothing"
}
