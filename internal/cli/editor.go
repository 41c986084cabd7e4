package cli

import (
	"os"

	"github.com/spf13/cobra"

	"lastboard/internal/editor"
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
common editors are told of it.`,
		Example: `  lastboard editor`,
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s := editor.Server{Engine: g.engineOf, Version: Version}
			return s.Serve(os.Stdin, os.Stdout)
		},
	}
}
