package docs_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"lastboard/internal/core/check"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/sqltext"
	"lastboard/internal/engine/sqlite"
)

var sqlBlocks = regexp.MustCompile("(?s)```sql\n(.*?)```")

// blocks gives the SQL of a page.
func blocks(t *testing.T, page string) []string {
	t.Helper()
	text, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	var list []string
	for _, m := range sqlBlocks.FindAllStringSubmatch(string(text), -1) {
		list = append(list, m[1])
	}
	return list
}

// TestEveryExampleIsOfTheLanguage parses all SQL of all pages.
func TestEveryExampleIsOfTheLanguage(t *testing.T) {
	pages, err := filepath.Glob("*.md")
	if err != nil || len(pages) < 5 {
		t.Fatalf("%v: %v", pages, err)
	}
	found := 0
	for _, page := range pages {
		for _, text := range blocks(t, page) {
			found++
			if _, err := sqltext.Parse(page, text); err != nil {
				t.Errorf("%s: %v\n%s", page, err, text)
			}
		}
	}
	if found < 25 {
		t.Errorf("only %d examples were found", found)
	}
}

// TestTheCookbookWorks plays each of its migrations on the office as it opens.
func TestTheCookbookWorks(t *testing.T) {
	opening, err := os.ReadFile("../demo/migrations/0001-open-the-office.sql")
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range blocks(t, "cookbook.md") {
		dir := t.TempDir()
		for i, m := range []string{string(opening), text} {
			if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("%04d-change.sql", i+1)), []byte(m), 0o666); err != nil {
				t.Fatal(err)
			}
		}
		list, err := migration.Load(dir)
		if err != nil {
			t.Errorf("%v\n%s", err, text)
			continue
		}
		for _, f := range check.Migrations(list, sqlite.Engine{}) {
			if f.Level == "" || f.Level == fault.Error {
				t.Errorf("%s\n%s", f, text)
			}
		}
	}
}

// TestLinksLeadSomewhere follows the links between pages.
func TestLinksLeadSomewhere(t *testing.T) {
	link := regexp.MustCompile(`\]\(([^)#:]+)\)`)
	for _, page := range []string{"../README.md", "../ARCHITECTURE.md", "cookbook.md", "engines.md", "guide.md", "config.md", "exit.md", "language.md", "rules.md", "safety.md"} {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range link.FindAllStringSubmatch(string(text), -1) {
			if _, err := os.Stat(filepath.Join(filepath.Dir(page), m[1])); err != nil && !strings.HasPrefix(m[1], "http") {
				t.Errorf("%s links to %s: %v", page, m[1], err)
			}
		}
	}
}

// TestArchitecture holds the page of that name against the packages: each is in its table, and
// none imports what it says that none does.
func TestArchitecture(t *testing.T) {
	page, err := os.ReadFile("../ARCHITECTURE.md")
	if err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", "lastboard/internal/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	everybodys := []string{"core/mishap", "files"}
	vocabulary := []string{"core/sqltext", "core/schema"}
	seen := 0
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		name := strings.TrimPrefix(fields[0], "lastboard/internal/")
		if seen++; !strings.Contains(string(page), "`internal/"+name+"`") {
			t.Errorf("the page does not say what %s is for", name)
		}
		for _, imported := range fields[1:] {
			to, ours := strings.CutPrefix(imported, "lastboard/internal/")
			if !ours || slices.Contains(everybodys, to) {
				continue
			}
			core, engine := strings.HasPrefix(name, "core/"), strings.HasPrefix(name, "engine")
			switch {
			case to == "cli":
				t.Errorf("%s imports the commands", name)
			case to == "view" && name != "cli":
				t.Errorf("%s imports the view", name)
			case slices.Contains(vocabulary, name) && !slices.Contains(vocabulary, to), slices.Contains(everybodys, name):
				t.Errorf("%s imports %s", name, to)
			case engine && strings.HasPrefix(to, "core/") && !slices.Contains(vocabulary, to):
				t.Errorf("%s imports %s of the core", name, to)
			case core && strings.HasPrefix(to, "engine/"):
				t.Errorf("%s imports the engine %s", name, to)
			}
		}
	}
	if seen < 20 {
		t.Errorf("only %d packages were found", seen)
	}
}
