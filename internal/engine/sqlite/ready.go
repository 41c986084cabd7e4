package sqlite

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"lastboard/internal/engine"
)

// Ready implements engine.Database.
func (d *database) Ready(ctx context.Context) ([]engine.Standing, error) {
	folder := filepath.Dir(d.path)
	file := engine.Standing{What: "file", Found: d.path + " can be written to"}
	switch {
	case d.missing && writable(folder):
		file.Found = d.path + " is not there yet: the first advance makes it"
	case !writable(folder): // the journal stands beside the file
		file = engine.Standing{What: "file", Level: engine.Wrong, Found: "nothing can be written in " + folder,
			Cure: "check that the folder exists, and the permissions of it: a journal stands beside the file"}
	case !writable(d.path):
		file = engine.Standing{What: "file", Level: engine.Wrong, Found: d.path + " can be read and not written",
			Cure: "check the permissions of the file"}
	}
	list := []engine.Standing{file}
	if space, ok := d.space(folder); ok {
		list = append(list, space)
	}
	for _, a := range d.Advice(ctx) {
		list = append(list, engine.Standing{What: "journal", Level: engine.Look, Found: a,
			Cure: "pragma journal_mode = wal, once, in the sqlite3 client"})
	}
	return list, nil
}

// space compares what is free on the disk with the file: a table that is copied needs its size
// again, and the journal as much.
func (d *database) space(folder string) (engine.Standing, bool) {
	free, ok := freeSpace(folder)
	if !ok {
		return engine.Standing{}, false
	}
	s := engine.Standing{What: "space", Found: engine.Size(free) + " are free on the disk"}
	if info, err := os.Stat(d.path); err == nil {
		s.Found = fmt.Sprintf("%s, and the file has %s", s.Found, engine.Size(info.Size()))
		if free < 2*info.Size() {
			s.Level = engine.Look
			s.Cure = "make room: a table that is copied needs its size again, and its journal as much"
		}
	}
	return s, true
}
