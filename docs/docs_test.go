package docs_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"lastboard/internal/core/check"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	_ "lastboard/internal/engine/mariadb"
	_ "lastboard/internal/engine/postgres"
	"lastboard/internal/engine/sqlite"
	"lastboard/internal/sqltext"
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
		if tidy, err := sqltext.Tidy(list[1].File); err != nil || tidy != text {
			t.Errorf("in its canonical form (%v) it is\n%s\nand not\n%s", err, tidy, text)
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
	for _, page := range []string{"../README.md", "../ARCHITECTURE.md", "cookbook.md", "engines.md", "guide.md",
		"config.md", "exit.md", "language.md", "rules.md", "safety.md"} {
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
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}",
		"lastboard/internal/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	// What each folder may import, beside its own packages.
	may := map[string][]string{
		"files": nil, "mishap": nil, "pattern": nil, "sqltext": nil, "schema": {"sqltext", "pattern"},
		"engine": {"schema", "sqltext", "files", "mishap", "pattern"},
		"core":   {"engine", "schema", "sqltext", "files", "mishap", "pattern"},
		"view":   {"core", "engine", "schema", "sqltext", "pattern"},
		"editor": {"core", "engine", "schema", "sqltext", "pattern"},
		"cli":    {"editor", "view", "core", "engine", "schema", "sqltext", "files", "mishap", "pattern"},
	}
	seen := 0
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		name := strings.TrimPrefix(fields[0], "lastboard/internal/")
		if seen++; !strings.Contains(string(page), "`internal/"+name+"`") {
			t.Errorf("the page does not say what %s is for", name)
		}
		folder, _, _ := strings.Cut(name, "/")
		allowed, known := may[folder]
		if !known {
			t.Errorf("no rule says what %s may import", name)
		}
		for _, imported := range fields[1:] {
			to, ours := strings.CutPrefix(imported, "lastboard/internal/")
			top, part, _ := strings.Cut(to, "/")
			switch {
			case !ours:
			case top != folder && !slices.Contains(allowed, top):
				t.Errorf("%s imports %s", name, to)
			case top == "engine" && part != "" && folder != "engine" && name != "cli":
				t.Errorf("%s imports the engine %s", name, part)
			}
		}
	}
	if seen < 20 {
		t.Errorf("only %d packages were found", seen)
	}
}

// TestNoEngineIsKnownByName is that what is not an engine's own names none: another engine is a
// folder, and a line that lets it register itself.
func TestNoEngineIsKnownByName(t *testing.T) {
	words := []string{"sqlite", "postgres", "postgresql", "mariadb", "mysql", "SQLite", "PostgreSQL", "MariaDB", "sqlite:",
		"postgres:", "mariadb:", "postgres://", "mariadb://", "sqlite_"}
	files := 0
	for _, folder := range []string{"core", "view", "schema", "sqltext", "cli"} {
		err := filepath.WalkDir("../internal/"+folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			files++
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING {
					if text, err := strconv.Unquote(l.Value); err == nil && slices.Contains(words, text) {
						t.Errorf("%s: %s", path, l.Value)
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if files < 100 {
		t.Errorf("only %d files were read", files)
	}
}

// TestLinesAreShort is that no line of the code has more than 120 characters, but for those of
// texts of several lines.
func TestLinesAreShort(t *testing.T) {
	seen := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
			return err
		}
		source, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		seen++
		var s scanner.Scanner
		files := token.NewFileSet()
		file := files.AddFile(path, -1, len(source))
		s.Init(file, source, nil, 0)
		raw := map[int]bool{}
		for {
			pos, kind, text := s.Scan()
			if kind == token.EOF {
				break
			}
			if kind == token.STRING && text[0] == '`' {
				for i := range 1 + strings.Count(text, "\n") {
					raw[file.Line(pos)+i] = true
				}
			}
		}
		for i, line := range strings.Split(string(source), "\n") {
			if utf8.RuneCountInString(line) > 120 && !raw[i+1] {
				t.Errorf("%s:%d has %d characters", path, i+1, utf8.RuneCountInString(line))
			}
		}
		return nil
	})
	if err != nil || seen < 100 {
		t.Errorf("%d files were read: %v", seen, err)
	}
}
