package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
)

func newDraft(g *global) *cobra.Command {
	return &cobra.Command{
		Use:   "draft TITLE",
		Short: "Begin a new migration",
		Long:  `Makes the next numbered file, with the title as its leading comment.`,
		Example: `  lastboard draft "Vessels carry a call sign"
  lastboard draft quarantine-flag`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := g.load()
			if err != nil {
				return err
			}
			title := strings.Join(args, " ")
			slug, ok := migration.Slug(title)
			if !ok {
				return fault.New(fault.Usage, "title-empty", "say what changes: lastboard draft \"Vessels carry a call sign\"", "%q has no letters a-z or digits for a file's name", title)
			}
			list, err := loadMigrations(p)
			var faults fault.List
			if err != nil && !(errors.As(err, &faults) && faults[0].Rule != "folder-missing") {
				return err
			}
			path := filepath.Join(p.Migrations, migration.NextVersion(list)+"-"+slug+".sql")
			text := fmt.Sprintf("-- %s\n-- Why it changes.\n\n", strings.ToUpper(title[:1])+title[1:])
			f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
			if err != nil {
				return err
			}
			if _, err := f.WriteString(text); err != nil {
				return errors.Join(err, f.Close())
			}
			if err := f.Close(); err != nil {
				return err
			}
			out := g.printer()
			if out.JSON {
				return out.Document(map[string]any{"migration": path})
			}
			out.Line("%s", path)
			out.Line("next: write the statements, then lastboard check and lastboard forecast")
			return nil
		},
	}
}
