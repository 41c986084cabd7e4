// Package csvfile reads the CSV files that migrations fill tables from. Everything
// that can be wrong with one is found before the first row of a table is touched.
package csvfile

import (
	"bufio"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"unicode/utf8"

	"lastboard/internal/files"
	"lastboard/internal/pattern"
	"lastboard/internal/sqltext"
)

// File is a CSV file that was found to be one.
type File struct {
	Path    string
	Columns []string // the header
	Sum     string   // SHA-256 of the file, in hexadecimal
}

// Open reads the whole file once: it has to be UTF-8 with a header of different
// names and as many values in every row. A mark at its beginning that says UTF-8 is
// left out. The error says what is wrong, and in which line.
func Open(path string) (*File, error) {
	f := &File{Path: path}
	sum := sha256.New()
	err := read(path, sum, func(line int, values []string) error {
		if f.Columns == nil {
			f.Columns = values
			return f.header()
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if f.Columns == nil {
		return nil, fmt.Errorf("%s is empty: its first line names the columns", path)
	}
	f.Sum = hex.EncodeToString(sum.Sum(nil))
	return f, nil
}

func (f *File) header() error {
	for i, c := range f.Columns {
		f.Columns[i] = strings.TrimSpace(c)
		if f.Columns[i] == "" {
			return fmt.Errorf("%s:1: column %d has no name", f.Path, i+1)
		}
		if slices.ContainsFunc(f.Columns[:i], func(o string) bool { return strings.EqualFold(o, f.Columns[i]) }) {
			return fmt.Errorf("%s:1: there are two columns %s", f.Path, f.Columns[i])
		}
	}
	return nil
}

// Rows gives every row behind the header with the number of its line; an empty value
// is nil, and true and false are 1 and 0 where the type is boolean. It fails if the
// file is not the one that was opened.
func (f *File) Rows(types []sqltext.Type, do func(line int, values []any) error) error {
	sum := sha256.New()
	first := true
	err := read(f.Path, sum, func(line int, values []string) error {
		if first {
			first = false
			return nil
		}
		row := make([]any, len(values))
		for i, v := range values {
			switch truth := strings.ToLower(v); {
			case v == "":
			case types[i].Name == "boolean" && truth == "true":
				row[i] = "1"
			case types[i].Name == "boolean" && truth == "false":
				row[i] = "0"
			default:
				row[i] = v
			}
		}
		return do(line, row)
	})
	if err == nil && hex.EncodeToString(sum.Sum(nil)) != f.Sum {
		return fmt.Errorf("%s has changed since it was checked", f.Path)
	}
	return err
}

// Check asserts that every value can be what its column's type wants, and that no two
// rows have the same keys; keys are the numbers of columns. The error names the line.
func (f *File) Check(types []sqltext.Type, keys []int) error {
	seen := map[string]int{}
	return f.Rows(types, func(line int, values []any) error {
		for i, v := range values {
			if text, ok := v.(string); ok && !possible(text, types[i]) {
				return fmt.Errorf("%s:%d: %s is '%s', which is no %s", f.Path, line, f.Columns[i], text, types[i])
			}
		}
		var key []string
		for _, i := range keys {
			text, ok := values[i].(string)
			if !ok {
				return fmt.Errorf("%s:%d: the line has no %s, by which its row is found", f.Path, line, f.Columns[i])
			}
			if types[i].IsInteger() {
				text = strings.TrimLeft(strings.TrimLeft(strings.TrimSpace(text), "+"), "0")
			}
			key = append(key, text)
		}
		all := strings.Join(key, "\x00")
		if before, ok := seen[all]; ok {
			return fmt.Errorf("%s:%d: the line has the same %s as line %d", f.Path, line, f.keyNames(keys), before)
		}
		seen[all] = line
		return nil
	})
}

func (f *File) keyNames(keys []int) string {
	names := make([]string, len(keys))
	for i, k := range keys {
		names[i] = f.Columns[k]
	}
	return strings.Join(names, ", ")
}

var (
	wholeNumber = pattern.Of(`^\s*[+-]?[0-9]+\s*$`)
	anyNumber   = pattern.Of(`^\s*[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?\s*$`)
	calendarDay = pattern.Of(`^[0-9]{4}-(0[1-9]|1[0-2])-(0[1-9]|[12][0-9]|3[01])`)
)

// possible reports whether a text can be a value of a type. Lengths and ranges are
// proven in the database.
func possible(text string, t sqltext.Type) bool {
	switch {
	case t.IsInteger():
		return wholeNumber().MatchString(text)
	case t.Name == "numeric", t.Name == "real", t.Name == "double precision":
		return anyNumber().MatchString(text)
	case t.Name == "boolean":
		return slices.Contains([]string{"0", "1", "true", "false"}, strings.ToLower(text))
	case t.Name == "date", t.Name == "timestamp":
		return calendarDay().MatchString(text)
	case t.Name == "enum":
		return slices.Contains(t.Values, text)
	}
	return true
}

const mark = "\ufeff"

// longest is how many bytes a row may have.
const longest = 8 << 20

var errLong = errors.New("a row is too long")

// line reads from elsewhere until there is more of one row than a row may have.
type line struct {
	from io.Reader
	got  int
}

func (l *line) Read(p []byte) (int, error) {
	if l.got > longest {
		return 0, errLong
	}
	n, err := l.from.Read(p)
	l.got += n
	return n, err
}

// read gives every record of a file; sum sees every byte.
func read(path string, sum io.Writer, do func(line int, values []string) error) error {
	file, err := files.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("there is no file %s", path)
	}
	if err != nil {
		return fmt.Errorf("%s cannot be read: %w", path, err)
	}
	defer file.Close()
	bounds := &line{from: io.TeeReader(file, sum)}
	source := bufio.NewReader(bounds)
	if start, err := source.Peek(len(mark)); err == nil && string(start) == mark {
		if _, err := source.Discard(len(mark)); err != nil {
			return err
		}
	}
	r := csv.NewReader(source)
	last := 0
	for {
		bounds.got = 0
		values, err := r.Read()
		if err == io.EOF {
			return nil
		}
		var wrong *csv.ParseError
		switch {
		case errors.Is(err, errLong):
			return fmt.Errorf("%s:%d: the row is longer than %d MB; is a quotation mark left open?", path, last+1, longest>>20)
		case errors.As(err, &wrong) && errors.Is(err, csv.ErrFieldCount):
			return fmt.Errorf("%s:%d: the line has %d values, and the header %d", path, wrong.Line, len(values),
				r.FieldsPerRecord)
		case errors.As(err, &wrong):
			return fmt.Errorf("%s:%d: %w", path, wrong.Line, wrong.Err)
		case err != nil:
			return fmt.Errorf("%s cannot be read: %w", path, err)
		}
		line, _ := r.FieldPos(0)
		last, _ = r.FieldPos(len(values) - 1)
		for _, v := range values {
			if !utf8.ValidString(v) || strings.ContainsRune(v, 0) {
				return fmt.Errorf("%s:%d: the line is not UTF-8 text: save the file as UTF-8", path, line)
			}
		}
		if err := do(line, values); err != nil {
			return err
		}
	}
}
