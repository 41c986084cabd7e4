package migration_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	_ "lastboard/internal/engine/mariadb"
	_ "lastboard/internal/engine/postgres"
	_ "lastboard/internal/engine/sqlite"
)

// folder writes files and gives their folder.
func folder(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

func TestOrderIsNumeric(t *testing.T) {
	list, err := migration.Load(folder(t, map[string]string{
		"10000-last.sql": "", "0002-second.sql": "-- Second\n-- Because.\n-- And so on.\n",
		"0010-third.sql": "/* Third\n * why */", "notes.txt": "not a migration",
	}))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, m := range list {
		names = append(names, m.Full()+"|"+m.File.Title+"|"+m.File.Reason)
	}
	want := "0002-second|Second|Because.\nAnd so on.\n0010-third|Third|why\n10000-last||"
	if got := strings.Join(names, "\n"); got != want {
		t.Errorf("wanted\n%s\ngot\n%s", want, got)
	}
	if next := migration.NextVersion(list); next != "10001" {
		t.Errorf("the next number is %s", next)
	}
	if m := migration.Find(list, "10"); m == nil || m.Name != "third" {
		t.Errorf("10 finds %v", m)
	}
	for _, text := range []string{"11", "x", ""} {
		if m := migration.Find(list, text); m != nil {
			t.Errorf("%q finds %v", text, m)
		}
	}
}

func TestEverythingWrongIsSaidAtOnce(t *testing.T) {
	_, err := migration.Load(folder(t, map[string]string{
		"0001-a.sql": "alter tabel t;", "0001-b.sql": "drop tabel t;", "1-short.sql": "", "0002-Capital.sql": "",
		"0003-x.SQL": "",
	}))
	var list fault.List
	if !errors.As(err, &list) {
		t.Fatalf("wanted faults, got %v", err)
	}
	count := map[string]int{}
	for _, f := range list {
		count[f.Rule]++
		if f.Class != fault.Usage || f.Where.File == "" || f.Cure == "" {
			t.Errorf("%+v has no class, place or cure", f)
		}
	}
	if count["syntax"] != 2 || count["number-twice"] != 1 || count["file-name"] != 3 {
		t.Errorf("wanted 2 of syntax, 1 of number-twice and 3 of file-name, got %v", count)
	}
}

func TestChecksumCoversTheCanonicalFormAlone(t *testing.T) {
	sum := func(text string) string {
		t.Helper()
		m, err := migration.Parse("x", "0001", "x", text)
		if err != nil {
			t.Fatal(err)
		}
		return m.Checksum()
	}
	same := sum("alter table t add a integer;")
	for _, text := range []string{"-- Title\nALTER TABLE t\r\n\tADD COLUMN a int;",
		"\ufeff/* x */ alter table t add a integer -- end\n;", `alter table "t" add "a" integer;;`} {
		if sum(text) != same {
			t.Errorf("%q has another checksum", text)
		}
	}
	for _, text := range []string{"alter table t add b integer;", "alter table t add a bigint;",
		`alter table "T" add a integer;`, "alter table t add a integer; drop table t;"} {
		if sum(text) == same {
			t.Errorf("%q has the same checksum", text)
		}
	}
}

func TestSlugs(t *testing.T) {
	for title, want := range map[string]string{"Vessels carry a call sign": "vessels-carry-a-call-sign", "  A--B! ": "a-b",
		"größe 2": "gr-e-2"} {
		if got, ok := migration.Slug(title); got != want || !ok {
			t.Errorf("%q gives %q, wanted %q", title, got, want)
		}
	}
	if _, ok := migration.Slug("группа"); ok {
		t.Error("a title without a-z and digits has no slug")
	}
}
