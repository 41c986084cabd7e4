package cli

import (
	"github.com/spf13/cobra"

	"lastboard/internal/core/audit"
	"lastboard/internal/core/fault"
	"lastboard/internal/engine"
)

func newAudit(g *global) *cobra.Command {
	return &cobra.Command{
		Use:   "audit",
		Short: "Compare the tables with what the migrations say",
		Long: `Compares the tables as they stand with what the migrations that ran have made of
them, attribute by attribute; the ledger with the files; and finds what Lastboard
itself has left behind. Each difference is shown with the statements that would mend
it; nothing is changed. The exit code is 5 when something differs.`,
		Example: `  lastboard audit
  lastboard audit --json --database harbour`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx := c.Context()
			s, err := g.open(ctx, engine.Read)
			if err != nil {
				return err
			}
			defer s.close()
			st, err := s.stand(ctx)
			if err != nil {
				return err
			}
			if len(st.known) == 0 {
				return fault.New(fault.Refused, "not-under-care", "lastboard adopt takes it under care; lastboard advance runs migrations", "this database has no ledger yet: there is nothing to compare it with")
			}
			list, err := audit.Run(ctx, audit.Input{Engine: s.engine, DB: s.db, Ledger: s.ledger, Files: st.files, Known: st.known})
			if err != nil {
				return err
			}
			if s.JSON {
				err = s.Document(map[string]any{"matches": len(list) == 0, "differences": list})
			} else {
				s.Audit(list)
			}
			if err == nil && len(list) > 0 {
				return exitCode(fault.Differs)
			}
			return err
		},
	}
}
