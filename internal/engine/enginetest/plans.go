package enginetest

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

var update = flag.Bool("update", false, "write the golden files")

// Planned gives the steps of a statement on tables that other statements make, for a
// number of rows of table vessel.
func Planned(t *testing.T, e engine.Engine, s *schema.Schema, tables, statement string, rows int64, live bool) []*engine.Step {
	t.Helper()
	f, err := sqltext.Parse("plan", tables+statement+";")
	if err != nil {
		t.Fatal(err)
	}
	for i, st := range f.Statements {
		after, change, err := schema.Apply(s, st, e.About().Env(nil))
		if err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
		if change.Table != nil && change.Table.After != nil {
			*change.Table.After = *e.Holds(change.Table)
		}
		if i < len(f.Statements)-1 {
			s = after
			continue
		}
		n := 0
		steps, err := e.Steps(change, engine.Facts{
			Schema: s, Rows: map[string]int64{"vessel": rows, "berth": 3}, Bytes: map[string]int64{"vessel": 200 * rows}, Short: 0.2, Live: live, Now: "2031-05-01 10:00:00",
			KeptTable: func() string { n++; return fmt.Sprint("lastboard_kept_", n) },
		})
		if err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
		return steps
	}
	return nil
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
