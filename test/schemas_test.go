package test

import (
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

var schemas = flag.String("schemas", "testdata/schemas", "a folder of SQLite schemas: .sql files and database files")

// TestSchemasOfOthers takes schemas that nobody here made under care: what is there
// is read so that an audit finds no difference, every table that is understood can be
// copied without changing anything, and what is not understood is said.
func TestSchemasOfOthers(t *testing.T) {
	beside(t)
	files, err := filepath.Glob(filepath.Join(*schemas, "*"))
	if err != nil || len(files) == 0 {
		t.Fatalf("no schemas in %s: %v", *schemas, err)
	}
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) { takeUnderCare(t, file) })
	}
}

func takeUnderCare(t *testing.T, file string) {
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var o *office
	if strings.HasPrefix(string(data), "SQLite format 3\x00") {
		o = &office{T: t, dir: t.TempDir()}
		o.write("harbour.db", string(data))
		o.must("init", "--url", "sqlite:harbour.db")
	} else {
		o = newOffice(t, string(data))
	}
	o.must("adopt", "--yes")
	o.wants(o.code(0, "audit"), "matches:")
	start := o.snapshot()
	var doc described
	if err := json.Unmarshal([]byte(o.must("describe", "--json")), &doc); err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	b.WriteString("-- Copy all that can be copied\n")
	copied, opaque := 0, []string{}
	for _, table := range doc.Tables {
		if r := o.must("describe", table.Name); strings.Contains(r, "cannot be changed:") {
			_, why, _ := strings.Cut(r, "cannot be changed:")
			why, _, _ = strings.Cut(why, "\n")
			opaque = append(opaque, table.Name+":"+why)
			continue
		}
		copied++
		b.WriteString("alter table " + quoted(table.Name) + " rebuild;\n")
	}
	if copied > 0 {
		o.migration("0002-copy", b.String())
		o.must("advance", "--yes")
		o.unchanged(start)
		o.wants(o.code(0, "audit"), "matches:")
	}
	t.Logf("%d tables, %d not understood: %s", len(doc.Tables), len(opaque), strings.Join(opaque, "; "))
}
