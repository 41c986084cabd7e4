package cli

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/project"
	"lastboard/internal/core/ready"
	"lastboard/internal/engine"
	"lastboard/internal/view"
)

func newReady(g *global) *cobra.Command {
	return &cobra.Command{
		Use:   "ready",
		Short: "Whether this project can work here",
		Long: `Looks at what a run depends on, before the first one and whenever something does not
work: the project's files, the database and the rights on it, the server's settings and clock, free
space and connections, old transactions, the ledger, replicas, and what crashed runs left behind.
Each thing is good, or worth a look, or wrong, with what to do about it. Nothing is changed.
The exit code is 3 when something is wrong.`,
		Example: `  lastboard ready
  lastboard ready --database harbour --json`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			p := g.printer()
			list := g.ready(c.Context(), p)
			if p.JSON {
				wrong := false
				for _, s := range list {
					wrong = wrong || s.Level == engine.Wrong
				}
				if err := p.Document(map[string]any{"ready": !wrong, "things": view.StandingsJSON(list)}); err != nil {
					return err
				}
			} else {
				p.Ready(list)
			}
			for _, s := range list {
				if s.Level == engine.Wrong {
					return exitCode(fault.Refused)
				}
			}
			return nil
		},
	}
}

// ready looks at everything: what cannot be looked at, and why, is one of the things.
func (g *global) ready(ctx context.Context, out *view.Printer) (list []engine.Standing) {
	wrong := func(what string, err error) (found []engine.Standing) {
		for _, f := range view.FaultsJSON(openFault(err)) {
			found = append(found, engine.Standing{What: what, Level: engine.Wrong, Found: f.Message, Cure: f.Cure})
		}
		return found
	}
	p, err := g.load()
	if err != nil {
		return wrong("project", err)
	}
	migrations, err := loadMigrations(p)
	if err != nil {
		list = wrong("project", err)
	} else {
		list = append(list, engine.Standing{What: "project", Found: fmt.Sprintf("%s with %s",
			fromHere(filepath.Join(p.Dir, project.File)), view.Plural(len(migrations), "migration", "migrations"))})
	}
	s, err := g.open(ctx, engine.Read)
	if err != nil {
		return append(list, wrong("database", err)...)
	}
	defer s.close()
	*out = *s.Printer // which knows the database
	list = append(list, ready.Look(ctx, ready.Input{DB: s.db, Ledger: s.ledger, Wrong: wrong,
		Here: s.database.LedgerHere,
		Old:  cmp.Or(s.bound(s.database.Pace.OldTransaction, oldTransaction), oldTransaction)})...)
	if followers, err := s.followers(ctx); err != nil {
		list = append(list, wrong("replicas", err)...)
	} else if len(followers) > 0 {
		list = append(list, engine.Standing{What: "replicas",
			Found: view.Plural(len(followers), "replica answers", "replicas answer")})
	}
	return list
}
