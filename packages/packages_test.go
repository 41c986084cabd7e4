package main

import (
	"archive/tar"
	"compress/gzip"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"lastboard/internal/cli"
)

// made is the folder with what was made.
func made(t *testing.T) string {
	t.Helper()
	dir := os.Getenv("LASTBOARD_PACKAGES")
	if dir == "" {
		t.Fatal("LASTBOARD_PACKAGES does not say where the packages are: make packages")
	}
	return dir
}

// commands lists the names of all man pages that there have to be.
func commands() (list []string) {
	for _, c := range cli.Root().Commands() {
		if c.IsAvailableCommand() && !c.IsAdditionalHelpTopicCommand() { // whose pages are in docs/
			list = append(list, "lastboard-"+c.Name()+".1")
		}
	}
	return append(list, "lastboard.1")
}

// TestArchives is that each platform has one with the program, the licence, the pages and completions.
func TestArchives(t *testing.T) {
	for _, p := range platforms {
		f, err := os.Open(filepath.Join(made(t), p.name()+".tar.gz"))
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		zip, err := gzip.NewReader(f)
		if err != nil {
			t.Fatal(err)
		}
		found := map[string]int64{}
		r := tar.NewReader(zip)
		for {
			h, err := r.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				t.Fatal(err)
			}
			found[strings.TrimPrefix(h.Name, p.name()+"/")] = h.Size
		}
		want := []string{p.program(), "LICENSE", "README.md", "docs/language.md"}
		for _, name := range commands() {
			want = append(want, "man/"+name)
		}
		for _, name := range shells {
			want = append(want, "completions/"+name)
		}
		for _, name := range want {
			if found[name] == 0 {
				t.Errorf("%s: there is no %s", p.name(), name)
			}
		}
		if found[p.program()] < 5<<20 {
			t.Errorf("%s: the program has %d bytes", p.name(), found[p.program()])
		}
	}
}

// TestSums is that the checksums are those of all files.
func TestSums(t *testing.T) {
	text, err := os.ReadFile(filepath.Join(made(t), "SHA256SUMS"))
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	entries, err := os.ReadDir(made(t))
	if err != nil {
		t.Fatal(err)
	}
	if len(lines) != len(entries)-1 {
		t.Errorf("%d of %d files have a checksum", len(lines), len(entries)-1)
	}
	for _, line := range lines {
		sum, name, _ := strings.Cut(line, "  ")
		data, err := os.ReadFile(filepath.Join(made(t), name))
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprintf("%x", sha256.Sum256(data)); got != sum {
			t.Errorf("%s has %s", name, got)
		}
	}
}

// TestParts is that the list of parts names the libraries that the program is built from.
func TestParts(t *testing.T) {
	for _, p := range platforms {
		text, err := os.ReadFile(filepath.Join(made(t), p.name()+".cdx.json"))
		if err != nil {
			t.Fatal(err)
		}
		var doc struct {
			BOMFormat  string
			Components []struct{ Name, Version, Purl string }
		}
		if err := json.Unmarshal(text, &doc); err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, c := range doc.Components {
			names = append(names, c.Name)
			if c.Version == "" || !strings.HasPrefix(c.Purl, "pkg:golang/") {
				t.Errorf("%s: %v", p.name(), c)
			}
		}
		for _, want := range []string{"std", "github.com/jackc/pgx/v5", "github.com/go-sql-driver/mysql",
			"modernc.org/sqlite"} {
			if !slices.Contains(names, want) {
				t.Errorf("%s: %s is not among %v", p.name(), want, names)
			}
		}
	}
}

// command gives what a command prints.
func command(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v: %s", name, args, err, out)
	}
	return string(out)
}

// TestDeb installs the deb below a folder, tries the program, and removes it: nothing is left.
func TestDeb(t *testing.T) {
	root := t.TempDir()
	for _, dir := range []string{"info", "updates", "triggers"} {
		if err := os.MkdirAll(filepath.Join(root, "var/lib/dpkg", dir), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	deb := filepath.Join(made(t), "lastboard_"+cli.Version+"_"+command(t, "dpkg", "--print-architecture"))
	deb = strings.TrimSpace(deb) + ".deb"
	if found, _ := filepath.Glob(strings.Replace(deb, "_"+cli.Version+"_", "_"+cli.Version+"*_", 1)); len(found) == 1 {
		deb = found[0]
	}
	command(t, "dpkg", "--root="+root, "-i", deb)
	got := command(t, filepath.Join(root, "usr/bin/lastboard"), "version")
	if !strings.HasPrefix(got, "lastboard "+cli.Version) {
		t.Errorf("it says %s", got)
	}
	for _, path := range []string{"usr/share/man/man1/lastboard-advance.1", "usr/share/doc/lastboard/copyright",
		"usr/share/bash-completion/completions/lastboard", "usr/share/zsh/vendor-completions/_lastboard",
		"usr/share/fish/vendor_completions.d/lastboard.fish"} {
		if s, err := os.Stat(filepath.Join(root, path)); err != nil || s.Size() == 0 {
			t.Errorf("%s: %v", path, err)
		}
	}
	command(t, "dpkg", "--root="+root, "-r", "lastboard")
	left, err := filepath.Glob(filepath.Join(root, "usr/bin/*"))
	if err != nil || len(left) > 0 {
		t.Errorf("left are %v %v", left, err)
	}
	if _, err := os.Stat(filepath.Join(root, "usr/share/man/man1/lastboard.1")); err == nil {
		t.Error("its man page is left")
	}
}

// TestRPM is that the rpm has the same files.
func TestRPM(t *testing.T) {
	found, err := filepath.Glob(filepath.Join(made(t), "*.rpm"))
	if err != nil || len(found) != 2 {
		t.Fatalf("%v %v", found, err)
	}
	for _, path := range found {
		list := strings.Fields(command(t, "rpm", "-qpl", path))
		for _, want := range []string{"/usr/bin/lastboard", "/usr/share/man/man1/lastboard-advance.1",
			"/usr/share/bash-completion/completions/lastboard", "/usr/share/doc/lastboard/language.md"} {
			if !slices.Contains(list, want) {
				t.Errorf("%s: there is no %s", path, want)
			}
		}
		if got := command(t, "rpm", "-qp", "--queryformat", "%{NAME} %{VERSION} %{LICENSE}", path); !strings.HasPrefix(got,
			"lastboard "+cli.Version+" MIT") {
			t.Errorf("it says %s", got)
		}
	}
}

// TestManPages is that man shows them without a complaint.
func TestManPages(t *testing.T) {
	dir := t.TempDir()
	at, err := changed("..")
	if err != nil {
		t.Fatal(err)
	}
	list, err := pages("..", dir, at)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range list {
		if !strings.HasPrefix(f.to, "man/") {
			continue
		}
		c := exec.Command("man", "--warnings", "-E", "UTF-8", "-l", "-Tutf8", f.from)
		c.Env = append(os.Environ(), "MANWIDTH=80", "LC_ALL=C.UTF-8")
		var complaints strings.Builder
		c.Stderr = &complaints
		if out, err := c.Output(); err != nil || len(out) < 300 || complaints.Len() > 0 {
			t.Errorf("%s: %v, %d bytes: %.300s", f.to, err, len(out), complaints.String())
		}
	}
}
