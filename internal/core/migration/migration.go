// Package migration reads a project's folder of migrations: their order, titles
// and checksums. It knows files and the language, and no database.
package migration

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"

	"lastboard/internal/core/csvfile"
	"lastboard/internal/core/fault"
	"lastboard/internal/files"
	"lastboard/internal/pattern"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Migration is one numbered file of changes.
type Migration struct {
	Version string // the digits of the file's name: "0005"
	Number  int
	Name    string // "registry-in-two"
	Path    string // as it is shown to a person
	File    *sqltext.File

	checksum string
	csv      map[string]*csvfile.File
}

// Undecided gives the first comment that asks a person to decide something; nil if
// there is none.
func (m *Migration) Undecided() *sqltext.Comment {
	for i, c := range m.File.Comments {
		if strings.HasPrefix(strings.ToLower(c.Text), "-- decide:") {
			return &m.File.Comments[i]
		}
	}
	return nil
}

// CSV gives the columns of a CSV file that the migration names: its path is as seen
// from the migration's folder.
func (m *Migration) CSV(name string) (*schema.Table, error) {
	f, err := m.Data(name)
	if err != nil {
		return nil, err
	}
	t := &schema.Table{Name: name}
	for _, c := range f.Columns {
		t.Columns = append(t.Columns, &schema.Column{Name: c, Type: sqltext.Type{Name: "text"}})
	}
	return t, nil
}

// Data opens a CSV file that the migration names, once.
func (m *Migration) Data(name string) (*csvfile.File, error) {
	if f := m.csv[name]; f != nil {
		return f, nil
	}
	f, err := csvfile.Open(filepath.Join(filepath.Dir(m.Path), filepath.FromSlash(name)))
	if err != nil {
		return nil, err
	}
	if m.csv == nil {
		m.csv = map[string]*csvfile.File{}
	}
	m.csv[name] = f
	return f, nil
}

// Checksum gives the checksum of the canonical form without comments.
func (m *Migration) Checksum() string {
	if m.checksum == "" {
		sum := sha256.Sum256([]byte(sqltext.Print(m.File)))
		m.checksum = hex.EncodeToString(sum[:])
	}
	return m.checksum
}

// Full gives "0005-registry-in-two".
func (m *Migration) Full() string { return m.Version + "-" + m.Name }

var fileName = pattern.Of(`^(\d{4,})-([a-z0-9]+(?:-[a-z0-9]+)*)\.sql$`)

// Load reads every migration of a folder in numeric order. The error is a
// [fault.List] with all that is wrong in all files.
func Load(dir string) ([]*Migration, error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fault.List{fault.New(fault.Usage, "folder-missing", "make it, or set migrations in lastboard.toml",
			"there is no folder %s", dir)}
	}
	if err != nil {
		return nil, err
	}
	var paths []string
	for _, e := range entries {
		if !e.IsDir() && strings.HasSuffix(strings.ToLower(e.Name()), ".sql") {
			paths = append(paths, filepath.Join(dir, e.Name()))
		}
	}
	var list []*Migration
	var faults fault.List
	for _, r := range readAll(paths) {
		var l fault.List
		if errors.As(r.err, &l) {
			faults = append(faults, l...)
		} else if r.err != nil {
			return nil, r.err
		}
		if r.m != nil {
			list = append(list, r.m)
		}
	}
	slices.SortStableFunc(list, func(a, b *Migration) int { return a.Number - b.Number })
	for i := 1; i < len(list); i++ {
		if list[i].Number == list[i-1].Number {
			faults = append(faults, &fault.Fault{
				Level: fault.Error, Class: fault.Usage, Rule: "number-twice",
				Where:   fault.Where{File: list[i].Path, Line: 1, Column: 1},
				Message: fmt.Sprintf("%s and %s have one number", filepath.Base(list[i-1].Path), filepath.Base(list[i].Path)),
				Cure: fmt.Sprintf("give the one that has not run (lastboard ledger says which has) the number %s",
					NextVersion(list)),
			})
		}
	}
	if len(faults) > 0 {
		return list, faults
	}
	return list, nil
}

type readResult struct {
	m   *Migration
	err error
}

// readAll reads files side by side, and gives the results in their order.
func readAll(paths []string) []readResult {
	results := make([]readResult, len(paths))
	var wait sync.WaitGroup
	workers := min(runtime.NumCPU(), len(paths))
	for w := range workers {
		wait.Go(func() {
			for i := w; i < len(paths); i += workers {
				results[i].m, results[i].err = read(paths[i])
			}
		})
	}
	wait.Wait()
	return results
}

// Named makes a migration of a text that a file of this name may hold. The error is a [fault.List].
func Named(path, src string) (*Migration, error) {
	parts, err := named(path)
	if err != nil {
		return nil, err
	}
	m, err := Parse(path, parts[1], parts[2], src)
	m.Number, _ = strconv.Atoi(parts[1])
	return m, err
}

// named parts the name of a migration's file.
func named(path string) ([]string, error) {
	parts := fileName().FindStringSubmatch(filepath.Base(path))
	if parts == nil {
		return nil, fault.List{{
			Level: fault.Error, Class: fault.Usage, Rule: "file-name", Where: fault.Where{File: path, Line: 1, Column: 1},
			Message: fmt.Sprintf("%s is not the name of a migration", filepath.Base(path)),
			Cure: "name it with four or more digits, a hyphen and words of a-z and 0-9 with hyphens: " +
				"0005-registry-in-two.sql",
		}}
	}
	return parts, nil
}

func read(path string) (*Migration, error) {
	parts, err := named(path)
	if err != nil {
		return nil, err
	}
	src, err := files.Read(path, files.Migration)
	if large := (*files.TooLarge)(nil); errors.As(err, &large) {
		return nil, fault.List{{Level: fault.Error, Class: fault.Usage, Rule: "file-unreadable", Message: err.Error(),
			Cure: "put the rows into a CSV file, and insert from that", Where: fault.Where{File: path}}}
	}
	if err != nil {
		return nil, fault.List{{Level: fault.Error, Class: fault.Usage, Rule: "file-unreadable",
			Message: fmt.Sprintf("%s cannot be read: %v", filepath.Base(path), err), Where: fault.Where{File: path}}}
	}
	n, err := strconv.Atoi(parts[1])
	if err != nil {
		return nil, fault.List{{Level: fault.Error, Class: fault.Usage, Rule: "file-name",
			Message: "the number " + parts[1] + " of the file's name is too large", Cure: "count from 0001",
			Where: fault.Where{File: path, Line: 1, Column: 1}}}
	}
	m, err := Parse(path, parts[1], parts[2], string(src))
	m.Number = n
	return m, err
}

// Parse makes a migration of a text. The error is a [fault.List].
func Parse(path, version, name, src string) (*Migration, error) {
	m := &Migration{Version: version, Name: name, Path: path}
	file, err := sqltext.Parse(path, src)
	m.File = file
	var list sqltext.Errors
	if !errors.As(err, &list) {
		return m, err
	}
	var faults fault.List
	for _, e := range list {
		faults = append(faults, &fault.Fault{
			Level: fault.Error, Class: fault.Usage, Rule: "syntax", Message: e.Message, Cure: e.Cure, Source: e.Line,
			Where: fault.Where{File: path, Line: e.Pos.Line, Column: e.Pos.Column},
		})
	}
	return m, faults
}

// NextVersion gives the number for the next migration, as wide as the last.
func NextVersion(list []*Migration) string {
	if len(list) == 0 {
		return "0001"
	}
	last := list[len(list)-1]
	return fmt.Sprintf("%0*d", max(4, len(last.Version)), last.Number+1)
}

// Slug gives a file name's words for a title, and whether anything was left.
func Slug(title string) (string, bool) {
	words := strings.FieldsFunc(strings.ToLower(title), func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9')
	})
	return strings.Join(words, "-"), len(words) > 0
}

// Find gives the migration that a person means by "5", "0005" or "0005-name".
func Find(list []*Migration, version string) *Migration {
	digits, _, _ := strings.Cut(version, "-")
	n, err := strconv.Atoi(digits)
	if err != nil {
		return nil
	}
	for _, m := range list {
		if m.Number == n {
			return m
		}
	}
	return nil
}
