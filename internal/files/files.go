// Package files opens and reads the files that people give: regular ones, and no more of them
// than memory is meant to hold. A pipe or a device would never end, or keep the program
// waiting beyond any signal.
package files

import (
	"errors"
	"fmt"
	"io"
	"os"
)

// The sizes, in bytes, up to which files are read.
const (
	Settings  = 1 << 20  // of a project, of an engine's clients
	Migration = 16 << 20 // of a migration, of wanted tables
)

// Irregular is the error for what is no regular file.
type Irregular struct{ Path, Is string }

func (e *Irregular) Error() string { return e.Path + " is " + e.Is + ", and no regular file" }

// TooLarge is the error for a file of more bytes than are read.
type TooLarge struct {
	Path       string
	Size, Most int64
}

func (e *TooLarge) Error() string {
	return fmt.Sprintf("%s has %d MB, and at most %d MB are read", e.Path, (e.Size+1<<20-1)>>20, e.Most>>20)
}

// Open opens a regular file. The error is [os.ErrNotExist] inside or an [Irregular], among
// others of the system.
func Open(path string) (*os.File, error) {
	before, err := os.Stat(path)
	if err == nil {
		err = regular(path, before)
	}
	if err != nil {
		return nil, err
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	now, err := f.Stat()
	if err == nil {
		err = regular(path, now)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

func regular(path string, info os.FileInfo) error {
	mode := info.Mode()
	switch {
	case mode.IsRegular():
		return nil
	case mode.IsDir():
		return &Irregular{path, "a folder"}
	case mode&os.ModeNamedPipe != 0:
		return &Irregular{path, "a pipe"}
	case mode&os.ModeSocket != 0:
		return &Irregular{path, "a socket"}
	}
	return &Irregular{path, "a device"}
}

// Read gives what a regular file of at most so many bytes holds. The error may be a
// [TooLarge], beside those of [Open].
func Read(path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err == nil && info.Size() > most {
		err = &TooLarge{path, info.Size(), most}
	}
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(data)) > most { // it has grown meanwhile
		err = &TooLarge{path, int64(len(data)), most}
	}
	return data, err
}
