package csvfile_test

import (
	"os"
	"path/filepath"
	"testing"
	"unicode/utf8"

	"lastboard/internal/core/csvfile"
	"lastboard/internal/sqltext"
)

// FuzzOpen reads whatever a file holds: it is refused, or each of its rows has a value for each
// column, and texts alone.
func FuzzOpen(f *testing.F) {
	for _, text := range []string{"id,name\n1,Tern\n", "\ufeffid\r\n1\r\n", "id,\"na\nme\"\n1,\"x\"\"y\"\n", "id\n\"",
		"a,a\n", ",\n", "id\n\x00\n", "id,name\n1\n"} {
		f.Add([]byte(text))
	}
	path := filepath.Join(f.TempDir(), "people.csv")
	f.Fuzz(func(t *testing.T, data []byte) {
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		file, err := csvfile.Open(path)
		if err != nil {
			return
		}
		types := make([]sqltext.Type, len(file.Columns))
		for i := range types {
			types[i] = sqltext.Type{Name: "text"}
		}
		lines := 0
		err = file.Rows(types, func(line int, values []any) error {
			if line <= lines {
				t.Errorf("line %d follows line %d", line, lines)
			}
			lines = line
			for i, v := range values {
				if s, ok := v.(string); v != nil && (!ok || !utf8.ValidString(s)) || i >= len(types) {
					t.Errorf("line %d has %q", line, v)
				}
			}
			return nil
		})
		if err != nil {
			t.Errorf("it was opened, and then: %v", err)
		}
		file.Check(types, []int{0})
	})
}
