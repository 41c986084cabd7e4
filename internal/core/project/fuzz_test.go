package project_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/project"
)

// FuzzLoad reads whatever a project's file holds: it is refused as wrong, or says what to work
// on.
func FuzzLoad(f *testing.F) {
	f.Add(office)
	for _, text := range []string{"", "database = 3", "databases = 1\n", "[databases.x]\nurl = '${A}'\n",
		"[databases.x.pace]\nrest = nan\nwork_share = 'nan %'\n", "[databases.\"\"]\nurl = 'sqlite:'\n",
		"[databases.x]\nurl = \"\"\"\n", "a.b.c = {d = [1, {}]}"} {
		f.Add(text)
	}
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, text string) {
		if err := os.WriteFile(filepath.Join(dir, project.File), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		p, err := project.Load(dir)
		if err == nil {
			_, err = p.Pick("", "")
		}
		var wrong *fault.Fault
		if err != nil && (!errors.As(err, &wrong) || wrong.Class != fault.Usage) {
			t.Errorf("%q: %v", text, err)
		}
	})
}
