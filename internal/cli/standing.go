package cli

import (
	"context"
	"fmt"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
)

// standing is the migrations of a project beside what the ledger knows of them.
type standing struct {
	files []*migration.Migration
	known []*ledger.Migration
	alive *ledger.Runner // who is changing the database now
}

// stand reads both and refuses what does not fit together.
func (s *session) stand(ctx context.Context) (*standing, error) {
	files, err := loadMigrations(s.project)
	if err != nil {
		return nil, err
	}
	return s.standing(ctx, files)
}

// standing reads what the ledger knows beside migrations.
func (s *session) standing(ctx context.Context, files []*migration.Migration) (*standing, error) {
	st := &standing{files: files}
	exists, err := s.ledger.Exists(ctx)
	if err != nil || !exists {
		return st, err
	}
	if st.known, err = s.ledger.Migrations(ctx); err != nil {
		return nil, err
	}
	if st.alive, err = s.ledger.Runner(ctx); err != nil {
		return nil, err
	}
	return st, nil
}

func (st *standing) knownOf(version string) *ledger.Migration {
	for _, k := range st.known {
		if sameVersion(k.Version, version) {
			return k
		}
	}
	return nil
}

func sameVersion(a, b string) bool { return strings.TrimLeft(a, "0") == strings.TrimLeft(b, "0") }

func (st *standing) fileOf(version string) *migration.Migration {
	for _, f := range st.files {
		if sameVersion(f.Version, version) {
			return f
		}
	}
	return nil
}

// fits refuses files that do not fit what has run: edited, missing, or late.
func (st *standing) fits() error {
	var faults fault.List
	last := 0
	for _, k := range st.known {
		f := st.fileOf(k.Version)
		if f == nil {
			faults = append(faults, fault.New(fault.Refused, "file-missing",
				"put the file back (lastboard ledger "+k.Version+" --source prints it), or retreat to before it",
				"migration %s-%s has run on this database and its file is not in %s", k.Version, k.Name, "the project"))
			continue
		}
		last = max(last, f.Number)
		if f.Checksum() != k.Checksum {
			e := fault.New(fault.Refused, "edited-after-run",
				"put it back as it was and write a new migration, or retreat to before it and advance again",
				"migration %s was edited after it ran: %s", f.Full(), firstChange(k.Source, f))
			e.Where = fault.Where{File: f.Path, Line: 1, Column: 1}
			faults = append(faults, e)
		}
	}
	for _, f := range st.files {
		if st.knownOf(f.Version) == nil && f.Number < last {
			e := fault.New(fault.Refused, "late-file", fmt.Sprintf("rename it to %s-%s.sql", migration.NextVersion(st.files),
				f.Name),
				"migration %s came after %0*d had run", f.Full(), len(f.Version), last)
			e.Where = fault.Where{File: f.Path, Line: 1, Column: 1}
			faults = append(faults, e)
		}
	}
	if len(faults) > 0 {
		return faults
	}
	return nil
}

// firstChange shows the first line in which an edited migration differs.
func firstChange(source string, now *migration.Migration) string {
	was, err := migration.Parse("", now.Version, now.Name, source)
	if err != nil {
		return "its text has changed"
	}
	a, b := canonical(was), canonical(now)
	for i := range max(len(a), len(b)) {
		old, new := "nothing", "nothing"
		if i < len(a) {
			old = a[i]
		}
		if i < len(b) {
			new = b[i]
		}
		if old != new {
			return fmt.Sprintf("it said %q and says %q", strings.TrimSpace(old), strings.TrimSpace(new))
		}
	}
	return "its text has changed"
}

// waiting lists the files that have not run, up to a version if one is given.
func (st *standing) waiting(to *migration.Migration) []*migration.Migration {
	var list []*migration.Migration
	for _, f := range st.files {
		if st.knownOf(f.Version) == nil && (to == nil || f.Number <= to.Number) {
			list = append(list, f)
		}
	}
	return list
}

// unfinished gives the migration that is in the middle of a run; nil if none is.
func (st *standing) unfinished() *ledger.Migration {
	for _, k := range st.known {
		if k.State == ledger.Running || k.State == ledger.Stopped {
			return k
		}
	}
	return nil
}
