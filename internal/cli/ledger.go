package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
)

func newLedger(g *global) *cobra.Command {
	var source bool
	c := &cobra.Command{
		Use:   "ledger [VERSION]",
		Short: "What was done to the database, when and by whom",
		Long: `Lists what was done, with the time that it took beside the one that was forecast. With
a version it shows the same for each step of that migration's last run, or with
--source the text of the migration as it ran.`,
		Example: `  lastboard ledger
  lastboard ledger 0006
  lastboard ledger 0006 --source > migrations/0006-kinds.sql`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if source && len(args) == 0 {
				return fault.New(fault.Usage, "usage", "lastboard ledger 0006 --source", "--source needs a version")
			}
			g.quiet = g.quiet || source // it may go into a file
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
				return s.ranMigration(c.Context(), args[0], exists, source)
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
	c.Flags().BoolVar(&source, "source", false, "print the text of the migration as it ran")
	return c
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

// ranMigration shows the text of a migration that has run, or what came of each step of its
// last run.
func (s *session) ranMigration(ctx context.Context, version string, exists, source bool) error {
	var known *ledger.Migration
	if exists {
		list, err := s.ledger.Migrations(ctx)
		if err != nil {
			return err
		}
		known = (&standing{known: list}).knownOf(version)
	}
	if known == nil {
		return fault.New(fault.Usage, "version-unknown", "see lastboard status", "no migration %s has run on this database",
			version)
	}
	switch {
	case source && s.JSON:
		return s.Document(map[string]any{"version": known.Version, "source": known.Source})
	case source:
		return s.toTheLetter(known.Source)
	}
	steps, err := s.ledger.Steps(ctx, known.Version,
		cmp.Or(map[string]string{ledger.Running: known.Direction, ledger.Stopped: known.Direction}[known.State],
			ledger.Advance))
	if err != nil {
		return err
	}
	if !s.JSON {
		s.StepFacts(steps)
		return nil
	}
	out := []stepFactJSON{}
	for _, x := range steps {
		out = append(out, stepFactJSON{x.Step.Number, string(x.Step.Kind), x.Step.What, x.State, x.Took, x.Step.Seconds,
			x.Rows, x.Step.Rows, x.Tries, x.Longest})
	}
	return s.Document(map[string]any{"version": known.Version, "steps": out})
}

// toTheLetter prints a text as it is, but for what would steer a terminal that it is printed on.
func (s *session) toTheLetter(text string) error {
	if term.IsTerminal(int(os.Stdout.Fd())) {
		s.Verbatim("%s", strings.TrimSuffix(text, "\n"))
		return nil
	}
	_, err := fmt.Fprint(os.Stdout, text)
	return err
}
