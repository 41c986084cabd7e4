package cli

import (
	"context"
	"errors"
	"slices"

	"github.com/spf13/cobra"

	"lastboard/internal/core/check"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/core/project"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
	"lastboard/internal/view"
)

func newCheck(g *global) *cobra.Command {
	var offline, sarif bool
	c := &cobra.Command{
		Use:   "check",
		Short: "Find what is wrong or dangerous in migrations",
		Long: `With a database it plays the waiting migrations on an empty copy of its tables,
and reads existing rows: nulls, duplicates, rows without a parent,
values that would not fit. With --offline it reads files alone, and plays all of
them from the first. Findings are errors (it will not run), warnings and notes;
the exit code is 3 when there is an error.`,
		Example: `  lastboard check
  lastboard check --offline --json
  lastboard check --offline --sarif > findings.sarif`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			show := showFindings
			if sarif && g.json {
				return usageError{errors.New("--sarif and --json are two forms of the same: say one")}
			}
			if sarif {
				show, g.quiet = showSarif, true // the document alone
			}
			if offline {
				return g.checkFiles(show)
			}
			s, err := g.open(c.Context(), engine.Read)
			if err != nil {
				return err
			}
			defer s.close()
			findings, err := s.check(c.Context())
			if err != nil {
				return err
			}
			return show(s.Printer, findings)
		},
	}
	c.Flags().BoolVar(&offline, "offline", false, "read the files alone")
	c.Flags().BoolVar(&sarif, "sarif", false, "write the findings as SARIF 2.1.0, for code-review tools")
	return c
}

// checkFiles checks every migration of the project without a database.
func (g *global) checkFiles(show func(*view.Printer, fault.List) error) error {
	p, err := g.load()
	if err != nil {
		return err
	}
	list, err := loadMigrations(p)
	var faults fault.List
	if err != nil && !errors.As(err, &faults) {
		return err
	}
	if len(faults) == 0 {
		faults = check.Migrations(list, g.engineOf(p))
	}
	return show(g.printer(), faults)
}

// check gives the findings of what waits: of its files, and of the rows.
func (s *session) check(ctx context.Context) (fault.List, error) {
	st, err := s.stand(ctx)
	var faults fault.List
	if err != nil {
		if errors.As(err, &faults) {
			return faults, nil
		}
		return nil, err
	}
	if err := st.fits(); errors.As(err, &faults) {
		return faults, nil
	}
	findings, _, err := s.checkRows(ctx, st.waiting(nil))
	return findings, err
}

// checkRows plays migrations on the database's tables, and proves what can be
// proven of its rows. It gives their plans as far as they can be made.
func (s *session) checkRows(ctx context.Context, list []*migration.Migration) (findings fault.List,
	plans []*plan.Plan, err error) {
	if len(list) == 0 {
		return nil, nil, nil
	}
	planner, err := s.planner(ctx, false)
	if err != nil {
		return nil, nil, err
	}
	defer planner.Close()
	for i, m := range list {
		findings = append(findings, check.Statements(m, planner.Tables(), s.engine)...)
		p, err := planner.Advance(ctx, m)
		var faults fault.List
		if errors.As(err, &faults) {
			for _, f := range faults {
				if !slices.ContainsFunc(findings, func(o *fault.Fault) bool { return o.Rule == f.Rule && o.Where == f.Where }) {
					findings = append(findings, f)
				}
			}
			return findings, plans, nil // what comes after stands on it
		}
		if err != nil {
			return nil, nil, err
		}
		plans = append(plans, p)
		findings = append(findings, p.Warnings...)
		findings = append(findings, s.refusals(p)...)
		if i == 0 { // what comes after it finds other tables
			var f *fault.Fault
			if err := s.runner(runFlags{}).AsLeft(ctx, p); errors.As(err, &f) {
				findings = append(findings, f)
			} else if err != nil {
				return nil, nil, err
			}
		}
		if p.Slow != nil {
			continue // to prove anything of it would take as long
		}
		for _, step := range p.Steps {
			f, err := run.Check(ctx, s.db, step)
			if err != nil {
				return nil, nil, err
			}
			if f != nil {
				findings = append(findings, plan.Place(m, step, f))
			}
		}
	}
	settled, err := settling(ctx, planner, nil, plans)
	for _, p := range settled {
		findings = append(findings, p.Warnings...)
	}
	return findings, plans, err
}

// refusals gives what advance refuses of a plan unless a flag allows it. What only a person
// can know, who says --settle or picks a quiet time, is a warning.
func (s *session) refusals(p *plan.Plan) (list fault.List) {
	for _, f := range s.runner(runFlags{}).Refusals(p) {
		if f != p.Slow {
			f.Level = fault.Warning
		}
		list = append(list, f)
	}
	return list
}

// showSarif writes findings for code-review tools.
func showSarif(p *view.Printer, list fault.List) error {
	if err := p.Sarif(list, check.Rules(), Version); err != nil {
		return err
	}
	if list.HasErrors() {
		return exitCode(fault.Of(list))
	}
	return nil
}

func showFindings(p *view.Printer, list fault.List) error {
	if p.JSON {
		if err := p.Document(map[string]any{"findings": view.FaultsJSON(list)}); err != nil {
			return err
		}
	} else {
		p.Findings(list)
	}
	if list.HasErrors() {
		return exitCode(fault.Of(list))
	}
	return nil
}

// engineOf gives the engine of the database that would be used; that of files where it cannot
// be known.
func (g *global) engineOf(p *project.Project) engine.Engine {
	if d, err := p.Pick(g.database, g.url); err == nil {
		if e, err := engineFor(p.Path(d.URL), d, g.unproven); err == nil {
			return e
		}
	}
	return engine.Files().New(engine.Options{})
}
