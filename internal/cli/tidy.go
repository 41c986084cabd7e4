package cli

import (
	"os"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/sqltext"
	"lastboard/internal/view"
)

func newTidy(g *global) *cobra.Command {
	var only, differ bool
	c := &cobra.Command{
		Use:   "tidy",
		Short: "Write migration files in their one canonical form",
		Long: `Rewrites every migration file in the canonical form, with its comments. Checksums
do not change, so that files of migrations that ran can be tidied, too. With --check
nothing is written, and the exit code is 5 when a file is not tidy; --diff does the
same and shows the lines that would change.`,
		Example: `  lastboard tidy
  lastboard tidy --check
  lastboard tidy --diff`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			p, err := g.load()
			if err != nil {
				return err
			}
			list, err := loadMigrations(p)
			if err != nil {
				return err
			}
			only = only || differ
			untidy, changes := []string{}, []change{}
			for _, m := range list {
				text, err := sqltext.Tidy(m.File)
				if err != nil {
					return err
				}
				if text == m.File.Source {
					continue
				}
				untidy = append(untidy, m.Path)
				if differ {
					changes = append(changes, change{m.Path, udiff.Unified(m.Path, m.Path+" (tidy)", m.File.Source, text)})
				}
				if !only {
					if err := replaceFile(m.Path, text); err != nil {
						return err
					}
				}
			}
			return showTidy(g.printer(), untidy, changes, len(list), only)
		},
	}
	c.Flags().BoolVar(&only, "check", false, "write nothing; exit with 5 when a file is not tidy")
	c.Flags().BoolVar(&differ, "diff", false, "write nothing, and show the lines that would change")
	return c
}

// replaceFile writes a file beside the old one and puts it in its place, so that a
// full disk loses neither.
func replaceFile(path, text string) error {
	beside := path + ".tidy"
	if err := os.WriteFile(beside, []byte(text), 0o666); err != nil {
		os.Remove(beside)
		return err
	}
	return os.Rename(beside, path)
}

// change is what tidying would change in a file, as diff -u has it.
type change struct {
	File string `json:"file"`
	Diff string `json:"diff"`
}

// showTidy says which files are not, or were not, tidy, and of each the changes that are known.
func showTidy(p *view.Printer, untidy []string, changes []change, all int, only bool) error {
	if p.JSON {
		doc := map[string]any{"untidy": untidy}
		if len(changes) > 0 {
			doc["changes"] = changes
		}
		if err := p.Document(doc); err != nil {
			return err
		}
	}
	word := "tidied"
	if only {
		word = "not tidy"
	}
	for _, c := range changes {
		p.Verbatim("%s", strings.TrimSuffix(c.Diff, "\n"))
	}
	for _, f := range untidy {
		if len(changes) == 0 {
			p.Line("%s: %s", f, word)
		}
	}
	if len(untidy) == 0 {
		p.Line("%s, all tidy", view.Plural(all, "migration", "migrations"))
	}
	if only && len(untidy) > 0 {
		return exitCode(fault.Differs)
	}
	return nil
}
