package editor

import (
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"lastboard/internal/core/check"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/project"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// folder is a project's migrations, as they are in files and in documents that are open.
type folder struct {
	project *project.Project
	engine  engine.Engine
	live    bool
	list    []*migration.Migration
	before  []*schema.Schema // the tables before each of the first of them
}

// openFolder reads the project that a file belongs to; nil where it belongs to none as a migration.
func openFolder(path string, engineOf func(*project.Project) engine.Engine) (*folder, error) {
	p, err := project.Load(project.Above(filepath.Dir(path)))
	if err != nil {
		return nil, err
	}
	if filepath.Dir(path) != filepath.Clean(p.Migrations) {
		return nil, nil
	}
	f := &folder{project: p, engine: engineOf(p)}
	if d, err := p.Pick("", ""); err == nil {
		f.live = d.Live
	}
	f.list, err = migration.Load(p.Migrations)
	var wrong fault.List
	if err != nil && !errors.As(err, &wrong) {
		return nil, err // what is wrong in files is said of those that are open
	}
	return f, nil
}

// put takes a document in place of its file, and gives its place and what is wrong with it.
func (f *folder) put(path, source string) (int, fault.List) {
	m, err := migration.Named(path, source)
	var wrong fault.List
	errors.As(err, &wrong)
	if m == nil {
		return -1, wrong
	}
	i, found := slices.BinarySearchFunc(f.list, m, func(a, b *migration.Migration) int {
		if a.Number != b.Number {
			return a.Number - b.Number
		}
		return strings.Compare(a.Path, b.Path)
	})
	if found {
		f.list[i] = m
	} else {
		f.list = slices.Insert(f.list, i, m)
	}
	f.before = f.before[:min(len(f.before), i+1)]
	return i, wrong
}

// tables gives the tables before a migration.
func (f *folder) tables(i int) *schema.Schema {
	if len(f.before) == 0 {
		f.before = []*schema.Schema{{}}
	}
	for len(f.before) <= i {
		n := len(f.before) - 1
		_, after := check.One(f.list[n], f.before[n], f.engine)
		f.before = append(f.before, after)
	}
	return f.before[i]
}

// findings gives what is wrong or dangerous in a document.
func (f *folder) findings(path, source string) fault.List {
	i, wrong := f.put(path, source)
	if len(wrong) > 0 || i < 0 {
		return wrong
	}
	list, _ := check.One(f.list[i], f.tables(i), f.engine)
	if i > 0 && f.list[i-1].Number == f.list[i].Number || i+1 < len(f.list) && f.list[i+1].Number == f.list[i].Number {
		list = append(list, &fault.Fault{Level: fault.Error, Rule: "number-twice",
			Message: "another migration has this number", Cure: "give the one that has not run another",
			Where: fault.Where{File: path, Line: 1, Column: 1}})
	}
	return list
}
