package cli

import (
	"github.com/spf13/cobra"

	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
)

func newLedger(g *global) *cobra.Command {
	return &cobra.Command{
		Use:     "ledger",
		Short:   "What was done to the database, when and by whom",
		Example: `  lastboard ledger`,
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := g.open(c.Context(), engine.Read)
			if err != nil {
				return err
			}
			defer s.close()
			entries := []ledger.Entry{}
			exists, err := s.ledger.Exists(c.Context())
			if err != nil {
				return err
			}
			if exists {
				if entries, err = s.ledger.Entries(c.Context()); err != nil {
					return err
				}
			}
			if s.JSON {
				return s.Document(map[string]any{"entries": entries})
			}
			s.Entries(entries)
			return nil
		},
	}
}
