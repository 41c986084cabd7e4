package cli

import (
	"context"

	"github.com/spf13/cobra"

	"lastboard/internal/core/audit"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
)

func newAudit(g *global) *cobra.Command {
	var yes string
	var clear bool
	c := &cobra.Command{
		Use:   "audit",
		Short: "Compare the tables with what the migrations say",
		Long: `Compares the tables as they stand with what the migrations that ran have made of
them, attribute by attribute; the ledger with the files; and finds what Lastboard
itself has left behind. Each difference is shown with the statements that would mend
it; nothing is changed. The exit code is 5 when something differs.

With --clear, what crashed runs left behind is taken away first, and named: empty
copies, triggers, a claim (the next run would do so, too), and tables of kept values
that no migration knows of. What a stopped migration needs stays: advance or retreat
ends that.`,
		Example: `  lastboard audit
  lastboard audit --clear
  lastboard audit --json --database harbour`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx := c.Context()
			access := engine.Read
			if clear {
				access = engine.Write
			}
			s, err := g.open(ctx, access)
			if err != nil {
				return err
			}
			defer s.close()
			st, err := s.stand(ctx)
			if err != nil {
				return err
			}
			if len(st.known) == 0 {
				return fault.New(fault.Refused, "not-under-care",
					"lastboard adopt takes it under care; lastboard advance runs migrations",
					"this database has no ledger yet: there is nothing to compare it with")
			}
			cleared := []string{}
			if clear {
				if cleared, err = s.clear(ctx, yes); err != nil {
					return err
				}
			}
			list, err := audit.Run(ctx, audit.Input{Engine: s.engine, DB: s.db, Ledger: s.ledger, Files: st.files,
				Known: st.known})
			if err != nil {
				return err
			}
			if s.JSON {
				err = s.Document(map[string]any{"matches": len(list) == 0, "differences": list, "cleared": cleared})
			} else {
				for _, what := range cleared {
					s.Line("cleared away: %s", what)
				}
				if len(cleared) > 0 {
					s.Line("")
				}
				s.Audit(list)
			}
			if err == nil && len(list) > 0 {
				return exitCode(fault.Differs)
			}
			return err
		},
	}
	c.Flags().BoolVar(&clear, "clear", false, "take away what crashed runs left behind")
	addYes(c, &yes)
	return c
}

// clear takes away what crashed runs left behind, as each run does when it begins, and
// says what that was.
func (s *session) clear(ctx context.Context, yes string) (cleared []string, err error) {
	cleared = []string{}
	if left, err := s.anythingLeft(ctx); err != nil || !left {
		return cleared, err
	}
	if err := s.confirm(yes, "Take away what crashed runs left behind?"); err != nil {
		return nil, err
	}
	r := s.runner(runFlags{})
	r.ClearKept = true
	r.Observe = func(e run.Event) {
		if e.What == "cleared" {
			cleared = append(cleared, e.Why)
		}
	}
	if err := r.Begin(ctx); err != nil {
		return nil, err
	}
	return cleared, r.End()
}
