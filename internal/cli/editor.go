package cli

import (
	"context"
	"os"

	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/editor"
	"lastboard/internal/engine"
)

func newEditor(g *global) *cobra.Command {
	return &cobra.Command{
		Use:   "editor",
		Short: "Serve editors: findings, completion, hover, canonical form",
		Long: `Serves an editor by the language server protocol, over standard input and output: the
editor starts it, with a project's folder of migrations open. Findings are those of
check --offline, of the text as it is typed; they come with what mends them. Tables
and columns are completed as they are before the statement, a name shows what it
stands for, a statement what it would do, and the canonical form is that of tidy.
It reads files alone and connects to no database. lastboard help editors says how
common editors are told of it.

With --database it also reads that database after each change, as check does and for
two seconds at most: findings of existing rows, and the steps, rows and times of a
statement, come a moment later. It changes nothing, and connects to no database that
has confirm = true.`,
		Example: `  lastboard editor
  lastboard editor --database dev`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			g.quiet = true // what it writes is the protocol's
			s := editor.Server{Engine: g.engineOf, Version: Version}
			if g.database != "" || g.url != "" {
				s.Look = g.look
			}
			return s.Serve(os.Stdin, os.Stdout)
		},
	}
}

// look checks a project's migrations, as they are in an editor, on the database that the session was started with.
func (g *global) look(ctx context.Context, dir string, list []*migration.Migration) (seen editor.Seen, err error) {
	at := *g
	at.project, at.named = dir, true
	p, err := at.load()
	if err != nil {
		return seen, err
	}
	d, err := p.Pick(at.database, at.url)
	if err != nil {
		return seen, err
	}
	if d.Confirm {
		return seen, fault.New(fault.Refused, "not-confirmed", "start the editor with another",
			"database %s has confirm = true, and an editor does not connect to such a one", d.Name)
	}
	s, err := at.open(ctx, engine.Read)
	if err != nil {
		return seen, err
	}
	defer s.close()
	st, err := s.standing(ctx, list)
	if err != nil {
		return seen, err
	}
	if err := st.fits(); err != nil {
		return seen, err
	}
	seen.Findings, seen.Plans, err = s.checkRows(ctx, st.waiting(nil))
	return seen, err
}
