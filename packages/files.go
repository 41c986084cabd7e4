package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra/doc"

	"lastboard/internal/cli"
)

// file is one of what goes into a package, with its place there.
type file struct {
	from, to string
	mode     int64
}

// shells are those for which there are completions, and how their files are called.
var shells = map[string]string{"bash": "lastboard", "zsh": "_lastboard", "fish": "lastboard.fish",
	"powershell": "lastboard.ps1"}

// pages writes the man pages and the completions, and lists what goes with the program.
func pages(root, dir string, at time.Time) ([]file, error) {
	man := filepath.Join(dir, "man")
	if err := os.MkdirAll(man, 0o755); err != nil {
		return nil, err
	}
	list := []file{{filepath.Join(root, "LICENSE"), "LICENSE", 0o644},
		{filepath.Join(root, "README.md"), "README.md", 0o644}}
	docs, err := filepath.Glob(filepath.Join(root, "docs", "*.md"))
	if err != nil {
		return nil, err
	}
	for _, p := range docs {
		list = append(list, file{p, "docs/" + filepath.Base(p), 0o644})
	}
	top := cli.Root()
	top.DisableAutoGenTag = true
	header := &doc.GenManHeader{Title: "LASTBOARD", Section: "1", Source: "Lastboard " + cli.Version, Date: &at}
	if err := doc.GenManTree(top, header, man); err != nil {
		return nil, err
	}
	pages, err := filepath.Glob(filepath.Join(man, "*.1"))
	if err != nil {
		return nil, err
	}
	for _, p := range pages {
		list = append(list, file{p, "man/" + filepath.Base(p), 0o644})
	}
	for shell, name := range shells {
		var text bytes.Buffer
		switch shell {
		case "bash":
			err = top.GenBashCompletionV2(&text, true)
		case "zsh":
			err = top.GenZshCompletion(&text)
		case "fish":
			err = top.GenFishCompletion(&text, true)
		default:
			err = top.GenPowerShellCompletionWithDesc(&text)
		}
		if err != nil {
			return nil, err
		}
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, text.Bytes(), 0o644); err != nil {
			return nil, err
		}
		list = append(list, file{path, "completions/" + name, 0o644})
	}
	slices.SortFunc(list, func(a, b file) int { return strings.Compare(a.to, b.to) })
	return list, nil
}

// archive writes files into one, below a folder.
func archive(path, folder string, list []file, at time.Time) (err error) {
	out, err := os.Create(path)
	if err != nil {
		return err
	}
	defer func() {
		if closed := out.Close(); err == nil {
			err = closed
		}
	}()
	zip := gzip.NewWriter(out)
	w := tar.NewWriter(zip)
	for _, f := range list {
		text, err := os.ReadFile(f.from)
		if err != nil {
			return err
		}
		head := &tar.Header{Name: folder + "/" + f.to, Mode: f.mode, Size: int64(len(text)), ModTime: at,
			Format: tar.FormatPAX}
		if err := w.WriteHeader(head); err != nil {
			return err
		}
		if _, err := w.Write(text); err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	return zip.Close()
}

// sums writes the checksums of all that was made.
func sums(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	var text strings.Builder
	for _, e := range entries {
		f, err := os.Open(filepath.Join(dir, e.Name()))
		if err != nil {
			return err
		}
		h := sha256.New()
		_, err = io.Copy(h, f)
		f.Close()
		if err != nil {
			return err
		}
		fmt.Fprintf(&text, "%x  %s\n", h.Sum(nil), e.Name())
	}
	return os.WriteFile(filepath.Join(dir, "SHA256SUMS"), []byte(text.String()), 0o644)
}
