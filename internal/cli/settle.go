package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/plan"
	"lastboard/internal/core/run"
	"lastboard/internal/schema"
)

func newSettle(g *global) *cobra.Command {
	var f runFlags
	c := &cobra.Command{
		Use:   "settle [VERSION]",
		Short: "End overlaps: drop what programs of before still used",
		Long: `Ends the overlap of a migration that is open, or of every one, the oldest first.
On a live database advance leaves columns and tables that a migration drops where
they are, for programs that still use them; settle drops them, and keeps what they
held, once no such program runs any more.`,
		Example: `  lastboard settle
  lastboard settle 0005 --yes`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return g.change(c.Context(), f, func(_ context.Context, s *session, st *standing) ([]run.Task, string, error) {
				return s.settleTasks(st, strings.Join(args, ""))
			})
		},
	}
	addYes(c, &f.yes)
	addWaitFlags(c, &f)
	return c
}

// settleTasks lists the overlaps to end: all, or that of one version.
func (s *session) settleTasks(st *standing, version string) ([]run.Task, string, error) {
	if err := st.fits(); err != nil {
		return nil, "", err
	}
	var tasks []run.Task
	var words, tables []string
	found := false
	for _, k := range st.known {
		half := k.Direction == ledger.Settle && (k.State == ledger.Running || k.State == ledger.Stopped)
		m := st.fileOf(k.Version)
		switch {
		case k.State == ledger.Running || k.State == ledger.Stopped:
			if !half {
				return nil, "", fault.New(fault.Refused, "half-way", "run lastboard "+k.Direction+" to go on with it; then settle",
					"migration %s has stopped in the middle", k.Version)
			}
		case k.State != ledger.Open:
			if version != "" && sameVersion(k.Version, version) {
				return nil, "", fault.New(fault.Refused, "not-open", "see lastboard status",
					"migration %s is %s: it has no overlap to end", k.Version, k.State)
			}
			continue
		}
		opened := plan.Opened{Version: k.Version, Later: plan.Later(m, s.engine)}
		its := version == "" || sameVersion(k.Version, version)
		found = found || its
		if !its {
			if !found {
				tables = append(tables, opened.Tables()...)
			}
			continue
		}
		for _, t := range opened.Tables() {
			if version != "" && schema.HasName(tables, t) {
				return nil, "", fault.New(fault.Refused, "settle-first", "lastboard settle, which takes the oldest first",
					"an older migration is open on table %s", t)
			}
		}
		tasks = append(tasks, run.Task{File: m, Known: k, Settle: true})
		if half {
			words = append(words, "go on settling "+k.Version+"-"+k.Name)
		} else {
			words = append(words, "settle "+k.Version+"-"+k.Name+": "+opened.Words())
		}
	}
	if version != "" && !found {
		return nil, "", fault.New(fault.Usage, "version-unknown", "see lastboard status",
			"no migration %s has run on this database", version)
	}
	return tasks, strings.Join(words, "; "), nil
}
