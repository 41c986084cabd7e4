package sqlite

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"lastboard/internal/schema"
)

// FuzzReadSchema reads whatever schema SQLite itself takes: it is understood, and
// survives being written again and read again, or it is said not to be. Nothing
// panics, whatever the text.
func FuzzReadSchema(f *testing.F) {
	for _, sql := range definitions {
		f.Add(sql)
	}
	files, err := filepath.Glob("../../../test/testdata/schemas/*.sql")
	if err != nil || len(files) == 0 {
		f.Fatalf("no schemas: %v", err)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			f.Fatal(err)
		}
		for part := range strings.SplitSeq(string(text), ";\n") {
			f.Add(part)
		}
	}
	f.Fuzz(func(t *testing.T, sql string) {
		_, _ = readTable(sql)
		if !harmless(sql) {
			return
		}
		ctx := context.Background()
		first := memoryWith(t)
		if _, err := first.conn.ExecContext(ctx, sql); err != nil {
			return // SQLite itself does not take it
		}
		read, err := first.Schema(ctx)
		if err != nil {
			t.Fatalf("%s: %v", sql, err)
		}
		for _, table := range read.Tables {
			if table.Opaque == "" {
				writtenAgain(t, sql, table)
			}
		}
	})
}

const noteTable = "create table lastboard_note (table_name, object, kind, text, primary key (table_name, object, kind))"

// harmless leaves out what would reach beyond the memory of the test.
func harmless(sql string) bool {
	lower := strings.ToLower(sql)
	for _, word := range []string{"attach", "pragma", "vacuum", "virtual", "load_extension", "lastboard", "sqlite_",
		"temp", "rollback", "recursive"} {
		if strings.Contains(lower, word) {
			return false
		}
	}
	return strings.HasPrefix(strings.TrimSpace(lower), "create table")
}

// writtenAgain makes a table anew from what was read of it, and reads that.
func writtenAgain(t *testing.T, sql string, table *schema.Table) {
	ctx := context.Background()
	again := memoryWith(t, noteTable)
	bare := *table
	bare.Triggers, bare.Own = nil, nil
	for _, s := range (Engine{}).CreateSQL(&bare) {
		if _, err := again.conn.ExecContext(ctx, s); err != nil {
			t.Fatalf("%s\nwas read and written as\n%s\n%v", sql, s, err)
		}
	}
	read, err := again.Schema(ctx)
	if err != nil {
		t.Fatal(err)
	}
	found := read.Table(table.Name)
	if found == nil {
		t.Fatalf("%s: table %s is not there when it is written again", sql, table.Name)
	}
	if d := schema.CompareTables(&bare, found, Engine{}.Text); len(d) > 0 {
		t.Fatalf("%s\nwritten again as\n%s\ndiffers: %v", sql, strings.Join((Engine{}).CreateSQL(&bare), ";\n"), d)
	}
}
