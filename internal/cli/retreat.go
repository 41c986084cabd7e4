package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/plan"
	"lastboard/internal/core/run"
)

func newRetreat(g *global) *cobra.Command {
	var f runFlags
	var to string
	c := &cobra.Command{
		Use:   "retreat --to VERSION",
		Short: "Take migrations back, with the data",
		Long: `Takes back every migration above the one that is named, the newest first; --to 0
takes all of them back. Dropped columns and tables come back with the values that
were kept; filled values go back where rows still hold what the migration wrote.
What the taken-back columns hold is kept in turn, and comes back on advancing
again if the migration is unchanged.`,
		Example: `  lastboard retreat --to 0004
  lastboard retreat --to 0 --yes`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if to == "" {
				return fault.New(fault.Usage, "usage", "say --to and the last migration that is to stay", "retreat has to know how far")
			}
			return g.change(c.Context(), f, func(_ context.Context, _ *session, st *standing) ([]task, string, error) {
				return retreatTasks(st, to)
			})
		},
	}
	c.Flags().StringVar(&to, "to", "", "the last migration that is to stay; 0 for none")
	addYes(c, &f.yes)
	addRunFlags(c, &f)
	return c
}

func retreatTasks(st *standing, to string) ([]task, string, error) {
	keep := -1
	if strings.Trim(to, "0") == "" {
		keep = 0
	}
	for i, k := range st.known {
		digits, _, _ := strings.Cut(to, "-")
		if sameVersion(k.Version, digits) {
			keep = i + 1
		}
	}
	if keep < 0 {
		return nil, "", fault.New(fault.Usage, "version-unknown", "see lastboard status", "no migration %s has run on this database", to)
	}
	var tasks []task
	var words []string
	for i := len(st.known) - 1; i >= keep; i-- {
		k := st.known[i]
		tasks = append(tasks, task{k.Version, func(ctx context.Context, r *run.Runner) (*plan.Plan, error) { return r.Retreat(ctx, k) }, ledger.Waiting})
		words = append(words, "take back "+k.Version+"-"+k.Name)
	}
	return tasks, strings.Join(words, ", "), nil
}
