package cli

import (
	"cmp"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"lastboard/demo"
)

func newDemo(g *global) *cobra.Command {
	var o demo.Options
	c := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Run the whole story on made-up data",
		Long: `Makes the office of a harbour in a new folder: vessels, berths and 200,000 port
calls, with the dirt that real tables have. Then it runs the commands of a day, as
they would be typed, while a second process writes to the same tables all the
time, and counts with its own queries that nothing was lost. The folder stays, to
play in.`,
		Example: `  lastboard demo
  lastboard demo office --rows 20000
  lastboard demo --url postgres://postgres@localhost/empty_database`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				o.Folder = args[0]
			}
			o.NoColor, o.URL, o.Out = g.noColor || os.Getenv("NO_COLOR") != "", g.url, os.Stdout
			if g.json {
				o.Out = os.Stderr
			}
			if err := demo.Run(c.Context(), o); err != nil || !g.json {
				return err
			}
			folder, err := filepath.Abs(cmp.Or(o.Folder, demo.Folder))
			if err != nil {
				return err
			}
			return g.printer().Document(map[string]any{"project": folder})
		},
	}
	c.AddCommand(&cobra.Command{
		Use: "write FOLDER URL", Hidden: true, Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			return demo.Write(c.Context(), args[0], args[1], demo.WritePause, os.Stdin)
		},
	})
	c.AddCommand(&cobra.Command{
		Use: "measure FOLDER URL AGE", Hidden: true, Args: cobra.ExactArgs(3),
		RunE: func(c *cobra.Command, args []string) error {
			return demo.Measure(c.Context(), args[0], args[1], args[2], demo.WritePause, os.Stdin)
		},
	})
	c.Flags().IntVar(&o.Rows, "rows", 200_000, "port calls to make")
	return c
}
