package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/plan"
	"lastboard/internal/core/run"
	"lastboard/internal/core/uses"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/view"
)

func newSettle(g *global) *cobra.Command {
	var f runFlags
	var check, script bool
	var trial string
	c := &cobra.Command{
		Use:   "settle [VERSION]",
		Short: "End overlaps: drop what programs of before still used",
		Long: `Ends the overlap of a migration that is open, or of every one, the oldest first.
On a live database advance leaves columns and tables that a migration drops where
they are, for programs that still use them; settle drops them, and keeps what they
held, once no such program runs any more. Before that it shows who was seen to use
what goes: writes that were counted, statements of sessions and of the server's
statistics, views and routines. With --check it shows that alone, and the exit code
is 5 when a program of before was seen.

With --trial 10m what programs of before write is refused for that time, and nothing
is settled: the programs that fail are those that are still there. It ends by the
server's own clock, whatever becomes of this program; --trial off ends one before its
time. With --settle-after it settles at the end, unless a write was refused (exit
code 5). Reads are not refused.

With --script it prints what ends the first of them as a script for the engine's own
client, as forecast --script does, and does nothing else.`,
		Example: `  lastboard settle
  lastboard settle --check
  lastboard settle 0005 --trial 10m
  lastboard settle 0005 --trial 10m --settle-after --yes
  lastboard settle 0005 --yes
  lastboard settle 0005 --script >settle.sql`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			version := strings.Join(args, "")
			switch {
			case check:
				return g.checkUses(c.Context(), version)
			case script:
				return g.settleScript(c.Context(), f, version)
			}
			if trial == "off" {
				return g.endTrials(c.Context(), f)
			}
			if c.Flags().Changed("trial") {
				var err error
				if f.trial, err = time.ParseDuration(trial); err != nil || f.trial < time.Second || f.trial > longestTrial {
					return fault.New(fault.Usage, "trial-length", "write a time from 1s to 24h, as --trial 10m, or --trial off",
						"%q is no time for a trial", trial)
				}
			} else if f.settleAfter {
				return fault.New(fault.Usage, "trial-length", "add --trial 10m", "--settle-after is for the end of a trial")
			}
			return g.change(c.Context(), f, func(_ context.Context, s *session, st *standing) ([]run.Task, string, error) {
				return s.settleTasks(st, version)
			})
		},
	}
	c.Flags().BoolVar(&check, "check", false, "only show who still uses what goes")
	addScriptFlag(c, &script)
	c.Flags().StringVar(&trial, "trial", "", "refuse what programs of before write for this time, as 10m; off ends that")
	c.Flags().BoolVar(&f.settleAfter, "settle-after", false, "settle when a trial has ended and nothing was refused")
	addYes(c, &f.yes)
	addWaitFlags(c, &f)
	return c
}

// settleScript prints what ends an overlap.
func (g *global) settleScript(ctx context.Context, f runFlags, version string) error {
	g.quiet = true // it goes into a file
	s, err := g.open(ctx, engine.Read)
	if err != nil {
		return err
	}
	defer s.close()
	return s.script(ctx, f, func(st *standing) ([]run.Task, string, error) { return s.settleTasks(st, version) })
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
		opened, err := plan.OpenedBy(k, m, s.engine)
		if err != nil {
			return nil, "", err
		}
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
		return nil, "", noSuchVersion(version)
	}
	return tasks, strings.Join(words, "; "), nil
}

// checkUses shows who still uses what overlaps are about to take away: of all that are open, or of one.
func (g *global) checkUses(ctx context.Context, version string) error {
	s, err := g.open(ctx, engine.Read)
	if err != nil {
		return err
	}
	defer s.close()
	st, err := s.stand(ctx)
	if err != nil {
		return err
	}
	open, err := st.open(version)
	if err != nil {
		return err
	}
	report, err := s.uses(ctx, open)
	if err != nil {
		return err
	}
	switch {
	case s.JSON:
		err = s.Document(view.UsesJSON(report))
	case len(open) == 0:
		s.Line("no overlap is open")
	default:
		s.Uses(report)
	}
	if err == nil && report.Before() {
		return exitCode(fault.Differs)
	}
	return err
}

// open lists what would settle the overlaps that are open: all, or that of one version.
func (st *standing) open(version string) (list []run.Task, err error) {
	found := version == ""
	for _, k := range st.known {
		its := version == "" || sameVersion(k.Version, version)
		found = found || its
		if its && k.State == ledger.Open {
			list = append(list, run.Task{File: st.fileOf(k.Version), Known: k, Settle: true})
		}
	}
	if !found {
		return nil, noSuchVersion(version)
	}
	return list, nil
}

func noSuchVersion(version string) error {
	return fault.New(fault.Usage, "version-unknown", "see lastboard status", "no migration %s has run on this database",
		version)
}

// showUses shows it of those that are about to be settled, where it can be found out.
func (s *session) showUses(ctx context.Context, tasks []run.Task) error {
	report, err := s.uses(ctx, tasks)
	if err != nil || len(report.Uses) == 0 {
		return err
	}
	s.Uses(report)
	s.Line("")
	return nil
}

// uses finds it out of the overlaps that tasks are to end.
func (s *session) uses(ctx context.Context, tasks []run.Task) (*uses.Report, error) {
	db, ok := s.db.(engine.Onlooker)
	var open []uses.Open
	for _, t := range tasks {
		if !ok || !t.Settle || t.Known.State != ledger.Open {
			continue // it is half settled
		}
		since, err := time.Parse(time.RFC3339, t.Known.AdvancedAt)
		if err != nil {
			return nil, fmt.Errorf("the ledger's time of migration %s: %w", t.Known.Version, err)
		}
		opened, err := plan.OpenedBy(t.Known, t.File, s.engine)
		if err != nil {
			return nil, err
		}
		open = append(open, uses.Open{Opened: opened, Since: since})
	}
	if len(open) == 0 {
		return &uses.Report{}, nil
	}
	tables, err := s.ledger.Tables(ctx)
	if err != nil {
		return nil, err
	}
	return uses.Look(ctx, db, tables, open)
}
