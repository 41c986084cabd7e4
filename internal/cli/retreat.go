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
				return fault.New(fault.Usage, "usage", "add --to and the last migration that is to stay",
					"retreat has to know how far")
			}
			return g.change(c.Context(), f, func(_ context.Context, _ *session, st *standing) ([]run.Task, string, error) {
				return retreatTasks(st, to, f.yes)
			})
		},
	}
	c.Flags().StringVar(&to, "to", "", "the last migration that is to stay; 0 for none")
	addYes(c, &f.yes)
	addRunFlags(c, &f)
	return c
}

func retreatTasks(st *standing, to, yes string) ([]run.Task, string, error) {
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
		return nil, "", fault.New(fault.Usage, "version-unknown", "see lastboard status",
			"no migration %s has run on this database", to)
	}
	var tasks []run.Task
	var words []string
	asked := ""
	for i := len(st.known) - 1; i >= keep; i-- {
		k := st.known[i]
		if k.Direction == ledger.Settle && (k.State == ledger.Running || k.State == ledger.Stopped) {
			return nil, "", fault.New(fault.Refused, "half-way", "run lastboard settle to go on; then retreat",
				"migration %s is half settled", k.Version)
		}
		unfiled, err := plan.Unfiled(k, st.fileOf(k.Version))
		if err != nil {
			return nil, "", err
		}
		if len(unfiled) > 0 && yes != "" {
			return nil, "", fault.New(fault.Refused, "file-missing",
				"look at it, then put the file back: lastboard ledger "+k.Version+" --source; or answer without --yes",
				"the way back of migration %s-%s is not in its file, and only the ledger says what would be run: %s", k.Version,
				k.Name, strings.Join(unfiled, "; "))
		}
		for _, sql := range unfiled {
			asked += "\n" + k.Version + "-" + k.Name + " has no file with this way back; out of the ledger is run:\n  " +
				strings.ReplaceAll(sql, "\n", "\n  ") + "\n"
		}
		tasks = append(tasks, run.Task{Known: k, Filed: st.fileOf(k.Version)})
		words = append(words, "take back "+k.Version+"-"+k.Name)
	}
	return tasks, strings.Join(words, ", ") + asked, nil
}
