package cli

import (
	"runtime"

	"github.com/spf13/cobra"
)

func newVersion(g *global) *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Show the program's version",
		Long:    "It prints the version, and the compiler and the system that the program was built with and for.",
		Example: `  lastboard version`,
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			p := g.printer()
			if p.JSON {
				return p.Document(map[string]any{"version": Version, "go": runtime.Version(),
					"system": runtime.GOOS + "/" + runtime.GOARCH})
			}
			p.Line("lastboard %s (%s, %s/%s)", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return nil
		},
	}
}
