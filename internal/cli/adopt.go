package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"lastboard/internal/core/adopt"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/view"
)

func newAdopt(g *global) *cobra.Command {
	var yes string
	c := &cobra.Command{
		Use:   "adopt",
		Short: "Take an existing database under care",
		Long: `Writes what is in the database as the first migration, and records it as settled
without running it. No table is touched; the ledger is added beside them.`,
		Example: `  lastboard adopt
  lastboard adopt --database harbour --yes=harbour`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
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
			text, native := adopt.Migration(tables, s.engine, s.name())
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
					"native": append([]string{}, native...)})
			}
			s.Line("%s and %s are in migrations/0001-adopted.sql, recorded as settled; none was touched",
				view.Plural(len(tables.Tables), "table", "tables"), view.Plural(len(tables.Views), "view", "views"))
			if len(native) > 0 {
				s.Line("written as native SQL, since the language has no words for all of it: %s", strings.Join(native, ", "))
			}
			s.Line("next: lastboard describe, then lastboard draft \"what changes\"")
			return nil
		},
	}
	addYes(c, &yes)
	return c
}

// addYes adds the flag by which a change is confirmed beforehand.
func addYes(c *cobra.Command, yes *string) {
	c.Flags().StringVar(yes, "yes", "", "do not ask; --yes=NAME where the database has to be named")
	c.Flags().Lookup("yes").NoOptDefVal = "yes"
}
