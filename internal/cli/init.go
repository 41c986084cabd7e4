package cli

import (
	"crypto/rand"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/project"
	"lastboard/internal/engine"
	"lastboard/internal/pattern"
)

func newInit(g *global) *cobra.Command {
	return &cobra.Command{
		Use:   "init [FOLDER]",
		Short: "Start a project here",
		Long: `Writes lastboard.toml and an empty folder migrations. Existing files are
not overwritten. --url sets the database; it need not exist yet.`,
		Example: `  lastboard init
  lastboard init --url sqlite:harbour.db
  lastboard init office --url sqlite:/var/lib/office/harbour.db`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			dir := g.project
			if len(args) == 1 {
				dir = args[0]
			}
			dir, err := filepath.Abs(dir)
			if err != nil {
				return err
			}
			target := g.url
			if target == "" {
				name, ok := migration.Slug(filepath.Base(dir))
				if !ok {
					name = "data"
				}
				target = engine.Files().Schemes[0] + ":" + name + ".db"
			}
			target, secret := withoutPassword(target)
			if err := writeProject(dir, target); err != nil {
				return err
			}
			p := g.printer()
			if p.JSON {
				return p.Document(map[string]any{"project": dir, "url": target})
			}
			p.Line("a project is in %s, with the database %s", dir, target)
			if secret {
				p.Note("the password is not written down: give it by PGPASSWORD or MYSQL_PWD, by a password file, or by a " +
					"variable, as in url = \"${HARBOUR_URL}\"")
			}
			p.Line("next: lastboard adopt, if the database has tables already; else lastboard draft \"what changes\"")
			return nil
		},
	}
}

// withoutPassword takes the passwords out of a URL; secret reports whether it had one.
func withoutPassword(text string) (plain string, secret bool) {
	u, err := url.Parse(text)
	if err != nil { // whatever it is, nothing of it that may be a password is passed on
		plain = unreadPassword().ReplaceAllString(text, "$1@")
		return plain, plain != text
	}
	if u.User != nil {
		if _, secret = u.User.Password(); secret {
			u.User = url.User(u.User.Username())
		}
	}
	q := u.Query()
	for _, key := range []string{"password", "sslpassword"} {
		if q.Has(key) {
			q.Del(key)
			u.RawQuery, secret = q.Encode(), true
		}
	}
	if !secret {
		return text, false
	}
	return u.String(), true
}

var unreadPassword = pattern.Of(`(://[^:/@]*):.*@`)

func writeProject(dir, url string) error {
	path := filepath.Join(dir, project.File)
	if _, err := os.Stat(path); !errors.Is(err, os.ErrNotExist) {
		return fault.New(fault.Refused, "project-there", "", "there is a project already: %s", path)
	}
	if err := os.MkdirAll(filepath.Join(dir, "migrations"), 0o777); err != nil {
		return err
	}
	text := fmt.Sprintf(`id         = %q   # of this project, by which its databases know it
migrations = "migrations"
database   = "dev"                # the one used when none is named

[databases.dev]
url = %q

# A database that applications use meanwhile:
# [databases.harbour]
# url     = "${HARBOUR_URL}"
# live    = true                  # holds are kept short, and nothing waits unasked
# confirm = true                  # asks for the database's name before any change
`, newID(dir), url)
	return os.WriteFile(path, []byte(text), 0o666)
}

// newID gives a project's id: the name of its folder, and what no other project has.
func newID(dir string) string {
	name, ok := migration.Slug(filepath.Base(dir))
	if !ok {
		name = "project"
	}
	return name + "-" + strings.ToLower(rand.Text()[:8])
}
