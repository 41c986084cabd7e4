package cli

import (
	"cmp"
	"context"

	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
)

func newLedger(g *global) *cobra.Command {
	return &cobra.Command{
		Use:   "ledger [VERSION]",
		Short: "What was done to the database, when and by whom",
		Long: `Lists what was done, with the time that it took beside the one that was forecast. With
a version it shows the same for each step of that migration's last run.`,
		Example: `  lastboard ledger
  lastboard ledger 0006`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
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
			if len(args) > 0 {
				return s.stepFacts(c.Context(), args[0], exists)
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

type stepFactJSON struct {
	Number       int     `json:"number"`
	Kind         string  `json:"kind"`
	What         string  `json:"what"`
	State        string  `json:"state"`
	Seconds      float64 `json:"seconds"`
	Forecast     float64 `json:"forecast_seconds"`
	Rows         int64   `json:"rows"`
	ForecastRows int64   `json:"forecast_rows"`
	Tries        int     `json:"tries"`
	Longest      float64 `json:"longest_batch_seconds"`
}

// stepFacts shows what came of each step of a migration's last run.
func (s *session) stepFacts(ctx context.Context, version string, exists bool) error {
	var known *ledger.Migration
	if exists {
		list, err := s.ledger.Migrations(ctx)
		if err != nil {
			return err
		}
		known = (&standing{known: list}).knownOf(version)
	}
	if known == nil {
		return fault.New(fault.Usage, "version-unknown", "see lastboard status", "no migration %s has run on this database", version)
	}
	steps, err := s.ledger.Steps(ctx, known.Version, cmp.Or(map[string]string{ledger.Running: known.Direction, ledger.Stopped: known.Direction}[known.State], ledger.Advance))
	if err != nil {
		return err
	}
	if !s.JSON {
		s.StepFacts(steps)
		return nil
	}
	out := []stepFactJSON{}
	for _, x := range steps {
		out = append(out, stepFactJSON{x.Step.Number, string(x.Step.Kind), x.Step.What, x.State, x.Took, x.Step.Seconds, x.Rows, x.Step.Rows, x.Tries, x.Longest})
	}
	return s.Document(map[string]any{"version": known.Version, "steps": out})
}
