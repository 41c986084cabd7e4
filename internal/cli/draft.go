package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"lastboard/internal/core/draft"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/files"
	"lastboard/internal/schema"
)

func newDraft(g *global) *cobra.Command {
	var wanted string
	c := &cobra.Command{
		Use:   "draft TITLE",
		Short: "Begin a new migration",
		Long: `Makes the next numbered file, with the title as its leading comment. With --wanted it
writes the statements that make the database's tables into those that a file of create
statements describes. What it cannot know, such as whether a column that goes and one
that comes are the same under two names, it asks in the file: check refuses the
migration until a person has decided.`,
		Example: `  lastboard draft "Vessels carry a call sign"
  lastboard draft "As it should be" --wanted schema.sql`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			p, err := g.load()
			if err != nil {
				return err
			}
			title := strings.Join(args, " ")
			slug, ok := migration.Slug(title)
			if !ok {
				return fault.New(fault.Usage, "title-empty", "say what changes: lastboard draft \"Vessels carry a call sign\"",
					"%q has no letters a-z or digits for a file's name", title)
			}
			if len(slug) > longestSlug {
				return fault.New(fault.Usage, "title-long", "say it in fewer words; the rest belongs in the file",
					"the title has %d characters, too many for a file's name", len(title))
			}
			list, err := loadMigrations(p)
			var faults fault.List
			if err != nil && !(errors.As(err, &faults) && faults[0].Rule != "folder-missing") {
				return err
			}
			path := filepath.Join(fromHere(p.Migrations), migration.NextVersion(list)+"-"+slug+".sql")
			text := fmt.Sprintf("-- %s\n-- Why it changes.\n\n", strings.ToUpper(title[:1])+title[1:])
			if wanted != "" {
				statements, err := g.wanted(c.Context(), wanted)
				if err != nil {
					return err
				}
				if statements == "" {
					g.printer().Line("the tables are as %s wants them", wanted)
					return nil
				}
				text += statements
			}
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
			if wanted != "" {
				out.Line("next: read it, then lastboard check and lastboard forecast")
				return nil
			}
			out.Line("next: write the statements, then lastboard check and lastboard forecast")
			return nil
		},
	}
	c.Flags().StringVar(&wanted, "wanted", "", "a file of create statements: the tables as they should be")
	return c
}

// wanted gives the statements that lead from the database's tables to those that a
// file describes.
func (g *global) wanted(ctx context.Context, path string) (string, error) {
	source, err := files.Read(path, files.Migration)
	if err != nil {
		return "", fault.New(fault.Usage, "file-missing", "", "%s cannot be read: %v", path, err)
	}
	s, err := g.open(ctx, engine.Read)
	if err != nil {
		return "", err
	}
	defer s.close()
	present, err := s.db.Schema(ctx)
	if err != nil {
		return "", err
	}
	return draft.Wanted(schema.InSight(present), path, string(source), s.engine)
}

// longestSlug is how long the title in a file's name may be: file systems hold 255 bytes.
const longestSlug = 120
