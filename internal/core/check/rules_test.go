package check_test

import (
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"lastboard/internal/core/check"
	_ "lastboard/internal/engine/mariadb"
	_ "lastboard/internal/engine/postgres"
	_ "lastboard/internal/engine/sqlite"
)

var update = flag.Bool("update", false, "write the page of rules")

// TestEveryRuleIsListed reads the rules that the core and the engines give in their
// own source, and wants each in the list that check and its page show.
func TestEveryRuleIsListed(t *testing.T) {
	var known []string
	for _, r := range check.Rules() {
		if slices.Contains(known, r.ID) {
			t.Errorf("rule %s is listed twice", r.ID)
		}
		if r.Meaning == "" || !strings.HasSuffix(r.Meaning, ".") {
			t.Errorf("rule %s has no meaning that is a sentence", r.ID)
		}
		known = append(known, r.ID)
	}
	pattern := regexp.MustCompile(`(?:problem\([^"]*|Rule: +|note\(fault\.[A-Z][a-z]+, |c\.add\(fault\.[A-Za-z]+, [^"]*|fault\.New\(0, )"([a-z]+(?:-[a-z]+)*)"`)
	found := map[string]string{}
	for _, dir := range []string{"../../schema", "../check", "../plan", "../run", "../csvfile", "../draft",
		"../../engine/planning", "../../engine/sqlite", "../../engine/postgres", "../../engine/mariadb"} {
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			if strings.HasSuffix(f, "_test.go") {
				continue
			}
			text, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			for _, m := range pattern.FindAllStringSubmatch(string(text), -1) {
				found[m[1]] = f
			}
		}
	}
	if len(found) < 40 {
		t.Fatalf("only %d rules were found in the source: the pattern has lost its aim", len(found))
	}
	for rule, file := range found {
		if strings.Contains(rule, "-") && !slices.Contains(known, rule) { // an engine's kinds of constraints have one word
			t.Errorf("%s gives rule %s, which is not listed", file, rule)
		}
	}
}

func TestPageOfRules(t *testing.T) {
	const page = "../../../docs/rules.md"
	if *update {
		if err := os.WriteFile(page, []byte(check.Page()), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	text, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	if string(text) != check.Page() {
		t.Error("docs/rules.md is not what the rules are: go test ./internal/core/check -update")
	}
}
