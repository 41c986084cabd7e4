package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
	"lastboard/internal/view"
)

type ledgerMigration = ledger.Migration

func newAdvance(g *global) *cobra.Command {
	var f runFlags
	var to string
	c := &cobra.Command{
		Use:   "advance",
		Short: "Run waiting migrations, or go on with a stopped one",
		Long: `Runs every waiting migration in order, each to its end before the next. What its
rows would break is refused before anything is touched. A run that stops, in
whatever way, goes on when the command is run again.`,
		Example: `  lastboard advance
  lastboard advance --to 0007 --yes
  lastboard advance --database harbour --yes=harbour --let-writers-wait`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return g.change(c.Context(), f, func(ctx context.Context, s *session, st *standing) ([]run.Task, string, error) {
				return s.advanceTasks(st, to)
			})
		},
	}
	c.Flags().StringVar(&to, "to", "", "up to this migration")
	addYes(c, &f.yes)
	addRunFlags(c, &f)
	return c
}

func addRunFlags(c *cobra.Command, f *runFlags) {
	addWaitFlags(c, f)
	c.Flags().BoolVar(&f.trustKept, "trust-kept", false,
		"put back what is kept although its triggers were switched off for a while")
	c.Flags().BoolVar(&f.settle, "settle", false, "end overlaps at once: no application uses the old shape any more")
}

// addWaitFlags adds those of every command that changes a database.
func addWaitFlags(c *cobra.Command, f *runFlags) {
	c.Flags().StringVar(&f.metrics, "metrics", "", "serve what it does as metrics on this address while it runs, as "+
		"127.0.0.1:9741")
	c.Flags().StringVar(&f.metricsFile, "metrics-file", "", "write the same into this file, for collectors that read "+
		"files")
	c.Flags().IntVar(&f.workers, "workers", 1, "connections that share a large backfill on a server: 1 or 2")
	c.Flags().BoolVar(&f.letWritersWait, "let-writers-wait", false,
		"allow steps for which writers of a live database wait throughout")
	c.Flags().BoolVar(&f.slowStatement, "slow-statement", false,
		"allow statements that read a whole table for each row of another")
}

func (s *session) advanceTasks(st *standing, to string) ([]run.Task, string, error) {
	if err := st.fits(); err != nil {
		return nil, "", err
	}
	target, err := st.target(to)
	if err != nil {
		return nil, "", err
	}
	var tasks []run.Task
	var words []string
	if k := st.unfinished(); k != nil {
		if k.Direction == ledger.Retreat {
			return nil, "", fault.New(fault.Refused, "half-way",
				"run lastboard retreat with --to below it to go on; then advance", "migration %s is half way back", k.Version)
		}
		if k.Direction == ledger.Settle {
			return nil, "", fault.New(fault.Refused, "half-way", "run lastboard settle to go on; then advance",
				"migration %s is half settled", k.Version)
		}
		tasks = append(tasks, run.Task{File: st.fileOf(k.Version), Known: k})
		words = append(words, "go on with "+k.Version+"-"+k.Name)
	}
	for _, m := range st.waiting(target) {
		tasks = append(tasks, run.Task{File: m})
		words = append(words, "run "+m.Full())
	}
	return tasks, strings.Join(words, ", "), nil
}

// target finds the migration that --to names.
func (st *standing) target(to string) (*migration.Migration, error) {
	if to == "" {
		return nil, nil
	}
	m := migration.Find(st.files, to)
	if m == nil {
		return nil, fault.New(fault.Usage, "version-unknown", "see lastboard status", "there is no migration %s", to)
	}
	return m, nil
}

type resultJSON struct {
	Outcome    string         `json:"outcome"`
	Migrations []versionState `json:"migrations"`
	// Errors is empty when all is done.
	Errors []view.FaultJSON `json:"errors"`
}

type versionState struct {
	Version string `json:"version"`
	State   string `json:"state"`
}

// change is what advance and retreat have in common: which tasks there are, the
// question, the runs, and what came of them.
func (g *global) change(ctx context.Context, f runFlags,
	find func(context.Context, *session, *standing) ([]run.Task, string, error)) (err error) {
	var done []versionState
	var ended []run.Task
	var p *view.Printer
	defer func() {
		if g.json {
			if p == nil {
				p = g.printer()
			}
			err = showResult(p, done, err)
		}
	}()
	s, err := g.open(ctx, engine.Read)
	if err != nil {
		return err
	}
	defer func() { s.close() }()
	p = s.Printer
	st, err := s.stand(ctx)
	if err != nil {
		return err
	}
	tasks, words, err := find(ctx, s, st)
	if err != nil {
		return err
	}
	if len(tasks) == 0 {
		err := s.clearLeft(ctx, f)
		p.Line("nothing to do")
		return err
	}
	if err := s.showBefore(ctx, tasks, f); err != nil {
		return err
	}
	if err := s.confirm(f.yes, fmt.Sprintf("On %s: %s.", s.name(), settlingWords(f, words))); err != nil {
		return err
	}
	if err := s.reopen(ctx, engine.Create); err != nil {
		return err
	}
	r := s.runner(f)
	if r.Followers, err = s.followers(ctx); err != nil {
		return err
	}
	stop, err := meters(f, r)
	if err != nil {
		return err
	}
	defer stop()
	if err := r.Begin(ctx); err != nil {
		return err
	}
	if tasks, err = s.lookAgain(ctx, f, st, words, find); err != nil {
		return errors.Join(err, r.End())
	}
	if err := r.Foresee(ctx, tasks); err != nil {
		_ = r.End() // the error of the run says more
		return err
	}
	if f.trial > 0 {
		if ends, err := s.try(ctx, r, tasks, f); ends || err != nil {
			return errors.Join(err, r.End())
		}
	}
	for _, t := range tasks {
		planned, runErr := r.Do(ctx, &t)
		if runErr != nil {
			if fault.Of(runErr) == fault.Stopped {
				done = append(done, versionState{t.Version(), ledger.Stopped})
			}
			_ = r.End()
			return run.After(ended, runErr)
		}
		ended = append(ended, t)
		done = append(done, versionState{t.Version(), t.Ended})
		entry, err := s.lastEntry(ctx, t.Version())
		if err != nil {
			return errors.Join(err, r.End())
		}
		p.Ran(t.Version(), t.Ended, entry)
		if t.Ended == ledger.Open {
			open, err := s.opened(ctx)
			if err != nil {
				return errors.Join(err, r.End())
			}
			for _, o := range open {
				if o.Version == t.Version() {
					p.StaysOpen(o)
				}
			}
		}
		if err := s.showChanges(ctx, planned); err != nil {
			return errors.Join(err, r.End())
		}
	}
	return r.End()
}

// showBefore shows a person who is going to be asked what the tasks would take.
func (s *session) showBefore(ctx context.Context, tasks []run.Task, f runFlags) error {
	if !s.JSON {
		if err := s.showUses(ctx, tasks); err != nil {
			return err
		}
	}
	if f.yes != "" || s.JSON || !term.IsTerminal(int(os.Stdin.Fd())) {
		return nil
	}
	plans, err := s.plans(ctx, tasks, f.settle || tasks[0].File == nil)
	if err != nil {
		return err
	}
	for _, p := range plans {
		s.Plan(p, false, false)
	}
	s.ForecastEnd(plans, s.database.Live, s.lockWait(), s.db.Users(), s.db.Advice(ctx))
	s.Line("")
	return nil
}

// lastEntry gives what the ledger has noted last of a migration; nil where it has nothing.
func (s *session) lastEntry(ctx context.Context, version string) (*ledger.Entry, error) {
	list, err := s.ledger.Entries(ctx)
	for i := len(list) - 1; i >= 0; i-- {
		if list[i].Version == version {
			return &list[i], nil
		}
	}
	return nil, err
}

// lookAgain decides anew once this is the one runner. What has changed since the question
// is shown and asked again; who has said --yes beforehand has not seen it.
func (s *session) lookAgain(ctx context.Context, f runFlags, before *standing, words string,
	find func(context.Context, *session, *standing) ([]run.Task, string, error)) ([]run.Task, error) {
	now, err := s.stand(ctx)
	if err != nil {
		return nil, err
	}
	tasks, again, err := find(ctx, s, now)
	if now.same(before) && again == words {
		return tasks, err
	}
	if err != nil || len(tasks) == 0 || f.yes != "" {
		return nil, errors.Join(run.ChangedMeanwhile(fmt.Sprintf("it was to %s, and now it is to %s", words,
			cmp.Or(again, "do nothing"))), err)
	}
	return tasks, s.confirm("", fmt.Sprintf("Another run has changed %s since it was looked at. Now: %s.", s.name(),
		again))
}

// same reports whether the ledger and the files say the same in both.
func (st *standing) same(o *standing) bool {
	return slices.EqualFunc(st.known, o.known, func(a, b *ledger.Migration) bool { return a.Same(b) }) &&
		slices.EqualFunc(st.files, o.files, func(a, b *migration.Migration) bool {
			return a.Version == b.Version && a.Checksum() == b.Checksum()
		})
}

// clearLeft takes away what crashed runs left behind, where no other run is about to.
func (s *session) clearLeft(ctx context.Context, f runFlags) error {
	exists, err := s.ledger.Exists(ctx)
	if err != nil || !exists {
		return err
	}
	if left, err := s.anythingLeft(ctx); err != nil || !left {
		return err
	}
	if err := s.reopen(ctx, engine.Write); err != nil {
		return err
	}
	r := s.runner(f)
	if err := r.Begin(ctx); err != nil {
		var busy *fault.Fault
		if errors.As(err, &busy) && busy.Rule == "runner-busy" {
			return nil
		}
		return err
	}
	return r.End()
}

// anythingLeft reports whether a run that died has left anything.
func (s *session) anythingLeft(ctx context.Context) (bool, error) {
	left, _, err := s.ledger.Left(ctx)
	if err != nil || len(left) > 0 {
		return len(left) > 0, err
	}
	dead, err := s.ledger.Dead(ctx)
	return dead != nil, err
}

func showResult(p *view.Printer, done []versionState, err error) error {
	out := resultJSON{Outcome: "done", Migrations: done, Errors: view.FaultsJSON(err)}
	if out.Migrations == nil {
		out.Migrations = []versionState{}
	}
	if err != nil {
		out.Outcome = map[fault.Class]string{fault.Refused: "refused", fault.Usage: "refused", fault.Stopped: "stopped",
			fault.Unknown: "unknown"}[fault.Of(err)]
		if out.Outcome == "" {
			out.Outcome = "failed"
		}
	}
	if e := p.Result(out); e != nil {
		return e
	}
	if err != nil {
		return exitCode(fault.Of(err))
	}
	return nil
}
