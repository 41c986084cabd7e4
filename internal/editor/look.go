package editor

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
)

// Look reads what a database says of a project's migrations as they are in the editor, and changes nothing.
type Look func(ctx context.Context, dir string, list []*migration.Migration) (Seen, error)

// Seen is what came of a look.
type Seen struct {
	Findings fault.List   // of what waits
	Plans    []*plan.Plan // as far as they could be made
}

// longestLook is how long the database is asked after a change.
const longestLook = 2 * time.Second

// looked is a look that has come to its end.
type looked struct {
	dir  string
	docs map[string]string // the documents as they were
	seen Seen
	err  error
}

// of reports whether a look is of a document as it is now.
func (l *looked) of(path, source string) bool {
	if l == nil {
		return false
	}
	was, there := l.docs[path]
	return there && was == source
}

// look begins one where a session has a database, unless one is on its way: what has changed meanwhile is looked at
// behind that.
func (s *Server) look(dir string) {
	f := s.folders[dir]
	if s.Look == nil || f == nil {
		return
	}
	if s.looking {
		s.lookAgain = dir
		return
	}
	s.looking = true
	l := &looked{dir: dir, docs: maps.Clone(s.docs)}
	var sources [][2]string
	for _, m := range f.list {
		if m.File == nil {
			break // what comes behind stands on it
		}
		sources = append(sources, [2]string{m.Path, m.File.Source})
	}
	project := f.project.Dir
	go func() {
		l.seen, l.err = s.lookAt(project, sources)
		s.looks <- l
	}()
}

// lookAt looks at the database with migrations of its own: those of the session change as one types.
func (s *Server) lookAt(project string, sources [][2]string) (seen Seen, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("it could not be looked at: %v", r)
		}
	}()
	var list []*migration.Migration
	for _, source := range sources {
		m, err := migration.Named(source[0], source[1])
		if err != nil {
			return seen, err
		}
		list = append(list, m)
	}
	ctx, cancel := context.WithTimeout(context.Background(), longestLook)
	defer cancel()
	seen, err = s.Look(ctx, project, list)
	if ctx.Err() != nil {
		err = fmt.Errorf("it takes longer than %s", longestLook)
	}
	return seen, err
}

// hasLooked takes what came of a look, and tells the findings of documents that are still as they were.
func (s *Server) hasLooked(l *looked) error {
	s.looking = false
	s.last[l.dir] = l
	for path, source := range s.docs {
		if l.of(path, source) {
			if err := s.tell(path, s.diagnostics(path)); err != nil {
				return err
			}
		}
	}
	if again := s.lookAgain; again != "" {
		s.lookAgain = ""
		s.look(again)
	}
	return nil
}

// withRows adds what the database says of a document to what its text says.
func (s *Server) withRows(path, dir string, list fault.List) fault.List {
	l := s.last[dir]
	if l == nil || !l.of(path, s.docs[path]) {
		return list
	}
	var wrong fault.List
	if l.err != nil && !errors.As(l.err, &wrong) {
		return append(list, &fault.Fault{Level: fault.Note, Rule: "database", Message: "the database was not read: " +
			l.err.Error(), Where: fault.Where{File: path, Line: 1, Column: 1}})
	}
	for _, f := range append(wrong, l.seen.Findings...) {
		same := func(o *fault.Fault) bool { return o.Rule == f.Rule && o.Where.Line == f.Where.Line }
		if f.Where.File == path && !slices.ContainsFunc(list, same) {
			list = append(list, f)
		}
	}
	return list
}

// planned gives the steps of a statement as the database's own rows let expect; "" where that is not known.
func (s *spot) planned(l *looked) string {
	if s.parsed == nil || l == nil {
		return ""
	}
	var lines []string
	for _, p := range l.seen.Plans {
		if p.Migration == nil || p.Migration.Path != s.path || !l.of(s.path, s.text.source) {
			continue
		}
		for _, st := range p.Steps {
			if st.Statement < len(p.Migration.File.Statements) &&
				p.Migration.File.Statements[st.Statement].Start() == s.parsed.Start() {
				line := fmt.Sprintf("  %s: %s", st.Kind, st.What)
				if st.Rows > 0 {
					line += fmt.Sprintf("; %d rows", st.Rows)
				}
				line += fmt.Sprintf("; about %s", time.Duration(st.Seconds*float64(time.Second)).Round(time.Millisecond))
				lines = append(lines, line+"; writers wait: "+st.WritersWait)
			}
		}
	}
	if len(lines) == 0 {
		return ""
	}
	return "on this database:\n" + strings.Join(lines, "\n")
}
