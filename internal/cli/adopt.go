package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"lastboard/internal/core/adopt"
	"lastboard/internal/core/audit"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/view"
)

func newAdopt(g *global) *cobra.Command {
	var yes string
	var rights bool
	c := &cobra.Command{
		Use:   "adopt [VERSION]",
		Short: "Take an existing database under care",
		Long: `Writes what is in the database as the first migration, and records it as settled
without running it. No table is touched; the ledger is added beside them.

With a version it records the next waiting migration as settled that somebody has carried out by hand,
if the tables are what it says; else it shows in what they differ, and the exit code is 5. Nothing is kept
for its way back.`,
		Example: `  lastboard adopt
  lastboard adopt --database harbour --yes=harbour
  lastboard adopt 0007`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			s, err := g.open(ctx, engine.Write)
			if err != nil {
				return err
			}
			defer s.close()
			st, err := s.stand(ctx)
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return s.claim(ctx, st, args[0], yes)
			}
			if len(st.known) > 0 {
				return fault.New(fault.Refused, "adopted-already", "see lastboard status",
					"this database is under care already: its ledger knows %d migrations", len(st.known))
			}
			if len(st.files) > 0 {
				return fault.New(fault.Refused, "migrations-there", "adopt a database into a project that has no migrations",
					"the project has migrations already, the first is %s", st.files[0].Full())
			}
			tables, err := s.db.Schema(ctx)
			if err != nil {
				return err
			}
			if len(tables.Tables)+len(tables.Views) == 0 {
				return fault.New(fault.Refused, "nothing-to-adopt", "draft the first migration instead",
					"the database has no tables")
			}
			if err := s.confirm(yes, fmt.Sprintf("This adds a ledger to %s and records its %d tables as migration 0001.",
				s.name(), len(tables.Tables))); err != nil {
				return err
			}
			beside, err := s.db.Beside(ctx)
			if err != nil {
				return err
			}
			text, native, leftOut := adopt.Migration(tables, beside, s.engine, s.name(), rights)
			path := filepath.Join(s.project.Migrations, "0001-adopted.sql")
			if err := os.MkdirAll(s.project.Migrations, 0o777); err != nil {
				return err
			}
			m, err := migration.Parse(path, "0001", "adopted", text)
			if err != nil {
				return err
			}
			r := s.runner(runFlags{})
			if err := r.Begin(ctx); err != nil {
				return err
			}
			defer r.End()
			if err := os.WriteFile(path, []byte(text), 0o666); err != nil {
				return err
			}
			if err := r.Adopt(ctx, m); err != nil {
				os.Remove(path)
				return err
			}
			if s.JSON {
				return s.Document(map[string]any{"migration": path, "tables": len(tables.Tables), "views": len(tables.Views),
					"native": append([]string{}, native...), "left_out": append([]string{}, leftOut...)})
			}
			s.Line("%s and %s are in migrations/0001-adopted.sql, recorded as settled; none was touched",
				view.Plural(len(tables.Tables), "table", "tables"), view.Plural(len(tables.Views), "view", "views"))
			if len(native) > 0 {
				s.Line("written as native SQL, since the language has no words for all of it: %s", some(native))
			}
			if len(leftOut) > 0 {
				s.Line("left out, so that a database made from the migrations lacks it: %s", strings.Join(leftOut, ", "))
			}
			s.Line("next: lastboard describe, then lastboard draft \"what changes\"")
			return nil
		},
	}
	c.Flags().BoolVar(&rights, "with-rights", false, "write the rights of others than the owner as well")
	addYes(c, &yes)
	return c
}

// mostNamed is how many things are named that were written natively: the file has them all.
const mostNamed = 20

func some(names []string) string {
	if len(names) <= mostNamed {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:mostNamed], ", "), len(names)-mostNamed)
}

// claim records a migration that somebody has carried out by hand.
func (s *session) claim(ctx context.Context, st *standing, version, yes string) error {
	if err := st.fits(); err != nil {
		return err
	}
	waiting := st.waiting(nil)
	m, err := st.target(version)
	if err != nil {
		return err
	}
	switch next := migration.Find(waiting, version); {
	case len(st.known) == 0:
		return fault.New(fault.Refused, "not-under-care", "lastboard adopt takes it under care; then adopt a version",
			"this database has no ledger yet")
	case next == nil:
		return fault.New(fault.Refused, "run-already", "see lastboard status", "migration %s has run on this database",
			m.Full())
	case waiting[0] != next:
		return fault.New(fault.Refused, "not-next", "lastboard adopt "+waiting[0].Version+" first, or advance",
			"migration %s waits before it", waiting[0].Full())
	case st.unfinished() != nil:
		return fault.New(fault.Refused, "half-way", "lastboard "+st.unfinished().Direction+" goes on with it",
			"migration %s has stopped in the middle", st.unfinished().Version)
	}
	if err := s.confirm(yes, fmt.Sprintf("This records %s as settled on %s, and runs nothing.", m.Full(),
		s.name())); err != nil {
		return err
	}
	r := s.runner(runFlags{})
	if err := r.Begin(ctx); err != nil {
		return err
	}
	defer r.End()
	claimed, differs, err := r.Claim(ctx, m)
	if err != nil {
		return err
	}
	list := []audit.Finding{}
	for _, d := range differs {
		list = append(list, audit.Finding{Difference: d})
	}
	switch {
	case s.JSON:
		err = s.Document(map[string]any{"version": m.Version, "matches": len(list) == 0, "differences": list,
			"unseen": claimed.Unseen})
	case len(list) > 0:
		s.Line("the tables are not what %s says: nothing was recorded", m.Full())
		s.Line("")
		s.Audit(list)
	default:
		s.Line("%s is recorded as settled; nothing was run, and nothing is kept for its way back", m.Full())
		if claimed.Unseen > 0 {
			s.Line("not looked at: what %s to rows, or as native SQL", view.Plural(claimed.Unseen, "part of it did",
				"parts of it did"))
		}
	}
	if err == nil && len(list) > 0 {
		return exitCode(fault.Differs)
	}
	return err
}

// addYes adds the flag by which a change is confirmed beforehand.
func addYes(c *cobra.Command, yes *string) {
	c.Flags().StringVar(yes, "yes", "", "do not ask; --yes=NAME where the database has to be named")
	c.Flags().Lookup("yes").NoOptDefVal = "yes"
}
