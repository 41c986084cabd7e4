package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"lastboard/internal/core/describe"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
	"lastboard/internal/view"
)

func newForecast(g *global) *cobra.Command {
	var statements bool
	var rows int
	var to, back string
	var probe, why, script bool
	var f runFlags
	c := &cobra.Command{
		Use:   "forecast",
		Short: "Show the steps that waiting migrations would take",
		Long: `Shows the steps of waiting migrations, and those that are left of open ones for the
time when they are settled: each step with its kind, its lock, how long writers would wait, its rows and
its time. With --back they are those of the way back. Times are estimates from the number of rows. Nothing is changed: the
steps are tried on empty copies that nobody sees, and rows are only read. --probe
makes such copies for a moment where others could see them, in schemas of their own:
then the server itself shows which lock each step takes.

With --script it prints the run of the next waiting migration, or with --back that
of the first on the way back, as a file for the engine's own client (psql, mariadb or sqlite3), for an administrator who runs no
Lastboard: the same statements in the same transactions, with the same records, so
that status, advance and retreat know how far it came. It stops at the first error,
and refuses to run where the tables are not as they were when it was written.`,
		Example: `  lastboard forecast
  lastboard forecast --statements
  lastboard forecast --why
  lastboard forecast --rows 5 --to 0007
  lastboard forecast --back 0004
  lastboard forecast --script >0007.sql
  lastboard forecast --script --back 0006 >back.sql`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx := c.Context()
			if to != "" && back != "" {
				return usageError{errors.New("--to is the way forward and --back the way back: say one")}
			}
			if script && (rows > 0 || statements || why) {
				return usageError{errors.New("--script goes with none of --rows, --statements and --why")}
			}
			if f.letWritersWait && !script {
				return usageError{errors.New("--let-writers-wait is for --script: a forecast says that it is needed")}
			}
			g.quiet = g.quiet || script // it goes into a file
			s, err := g.open(ctx, engine.Read)
			if err != nil {
				return err
			}
			defer s.close()
			s.probe = probe
			if script {
				return s.script(ctx, f, func(st *standing) ([]run.Task, string, error) {
					if back != "" {
						return retreatTasks(st, back, "yes") // nobody is asked about what the ledger alone says
					}
					return s.advanceTasks(st, to)
				})
			}
			plans, err := s.forecast(ctx, to, back, f.settle)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.Document(view.ForecastJSON(plans, s.database.Live))
			}
			if len(plans) == 0 {
				s.Line("%s", map[bool]string{true: "no migration is waiting", false: "there is nothing to take back"}[back == ""])
				return nil
			}
			for _, p := range plans {
				s.Plan(p, statements, why)
				if p.Slow != nil {
					s.Finding(p.Slow)
					s.Line("")
				}
				if rows > 0 {
					if err := s.previews(ctx, p, rows); err != nil {
						return err
					}
				}
			}
			s.ForecastEnd(plans, s.database.Live, s.lockWait(), s.db.Users(), s.db.Advice(ctx))
			return nil
		},
	}
	c.Flags().BoolVar(&statements, "statements", false, "show the SQL of each step")
	c.Flags().BoolVar(&probe, "probe", false, "let the server show its locks on scratch copies")
	c.Flags().BoolVar(&why, "why", false, "say why each step is there")
	c.Flags().IntVar(&rows, "rows", 0, "show this many rows with their values before and after")
	c.Flags().StringVar(&to, "to", "", "up to this migration")
	c.Flags().StringVar(&back, "back", "", "the way back, as retreat --to takes it; 0 for all of it")
	addScriptFlag(c, &script)
	c.Flags().BoolVar(&f.settle, "settle", false, "end overlaps at once, as advance --settle does")
	c.Flags().BoolVar(&f.letWritersWait, "let-writers-wait", false,
		"with --script: allow steps for which writers of a live database wait throughout")
	return c
}

// addScriptFlag adds what prints a run in place of doing it.
func addScriptFlag(c *cobra.Command, script *bool) {
	c.Flags().BoolVar(script, "script", false, "print the run of the first as a script for the engine's own client")
}

// forecast plans everything that waits, or with back the way back to a migration. With settle no overlap opens.
func (s *session) forecast(ctx context.Context, to, back string, settle bool) ([]*plan.Plan, error) {
	st, err := s.stand(ctx)
	if err != nil {
		return nil, err
	}
	if back != "" {
		tasks, _, err := retreatTasks(st, back, "")
		if err != nil {
			return nil, err
		}
		return s.plans(ctx, tasks, true)
	}
	tasks, _, err := s.advanceTasks(st, to)
	if err != nil {
		return nil, err
	}
	return s.plans(ctx, tasks, settle)
}

// script prints the first of some tasks as a file for the engine's own client.
func (s *session) script(ctx context.Context, f runFlags,
	find func(*standing) ([]run.Task, string, error)) error {
	st, err := s.stand(ctx)
	if err != nil {
		return err
	}
	tasks, _, err := find(st)
	if err != nil {
		return err
	}
	if len(tasks) == 0 {
		return fault.New(fault.Refused, "nothing-waiting", "see lastboard status",
			"nothing is waiting that a script could do")
	}
	planner, err := s.planner(ctx, f.settle)
	if err != nil {
		return err
	}
	defer planner.Close()
	text, err := s.runner(f).Script(ctx, planner, tasks[0])
	if err != nil {
		return err
	}
	if s.JSON {
		return s.Document(map[string]any{"version": tasks[0].Version(), "script": text})
	}
	return s.toTheLetter(text)
}

// plans gives what tasks would take, one after the other, and what is left of overlaps; settle is for
// a run that opens none. What waits behind a run that has stopped stands on its end.
func (s *session) plans(ctx context.Context, tasks []run.Task, settle bool) ([]*plan.Plan, error) {
	plans := []*plan.Plan{}
	planner, err := s.planner(ctx, settle)
	if err != nil {
		return nil, err
	}
	defer planner.Close()
	for _, t := range tasks {
		if k := t.Known; t.Unfinished() && (t.File != nil || k.Direction == ledger.Retreat) {
			p, err := plan.Rest(ctx, s.ledger, k, s.engine.About())
			return append(plans, p), err
		}
		p, err := s.planTask(ctx, planner, t)
		if err != nil {
			return nil, err
		}
		plans = append(plans, p)
	}
	if settle || len(tasks) > 0 && tasks[0].File == nil {
		return plans, nil
	}
	st, err := s.stand(ctx)
	if err != nil {
		return nil, err
	}
	var open []*migration.Migration
	for _, k := range st.known {
		if k.State == ledger.Open {
			open = append(open, st.fileOf(k.Version))
		}
	}
	settled, err := settling(ctx, planner, open, plans)
	return append(plans, settled...), err
}

// planTask plans one task.
func (s *session) planTask(ctx context.Context, planner *plan.Planner, t run.Task) (*plan.Plan, error) {
	switch {
	case t.Settle:
		return planner.Settle(ctx, t.File)
	case t.File != nil:
		return planner.Advance(ctx, t.File)
	}
	progress, err := plan.ProgressOf(ctx, s.ledger, t.Known)
	if err != nil {
		return nil, err
	}
	return planner.Retreat(ctx, progress)
}

// settling plans what is left of overlaps once they are settled, of those that are open and of
// those that planned migrations open.
func settling(ctx context.Context, planner *plan.Planner, open []*migration.Migration,
	planned []*plan.Plan) (plans []*plan.Plan, err error) {
	for _, p := range planned {
		if len(p.Later) > 0 {
			open = append(open, p.Migration)
		}
	}
	for _, m := range open {
		p, err := planner.Settle(ctx, m)
		var list fault.List
		if errors.As(err, &list) && len(list) > 0 {
			f := *list[0] // it can be mended by then
			f.Level = fault.Warning
			return append(plans, &plan.Plan{Version: m.Version, Name: m.Name, Direction: ledger.Settle, Migration: m,
				Warnings: fault.List{&f}}), nil
		}
		if err != nil {
			return nil, err
		}
		plans = append(plans, p)
	}
	return plans, nil
}

// previews shows what steps would compute, for tables as they are now.
func (s *session) previews(ctx context.Context, p *plan.Plan, n int) error {
	for i, step := range p.Steps {
		if step.Preview == "" {
			continue
		}
		if !readable(p, i) {
			s.Line("  step %d reads what an earlier step makes: its rows cannot be shown yet", step.Number)
			continue
		}
		read, keys := max(n, describe.OddOf), 0
		if step.PreviewReadsMore() {
			read = n
		}
		if t := p.Before.Table(step.Table); t != nil {
			keys = len(t.Key())
		}
		r, err := s.db.Query(ctx, step.Preview, read)
		if err != nil {
			s.Line("  step %d: its rows cannot be shown: %v", step.Number, err)
			continue
		}
		s.Line("  step %d would give", step.Number)
		s.Rows(describe.Odd(r, keys, n))
		s.Line("")
	}
	return nil
}

// readable reports whether a preview reads only tables that no earlier statement
// changes.
func readable(p *plan.Plan, i int) bool {
	for _, s := range p.Steps[:i] {
		if s.Change < p.Steps[i].Change && s.Table == p.Steps[i].Table && s.Proof == nil {
			return false
		}
	}
	return p.Before.Table(p.Steps[i].Table) != nil
}
