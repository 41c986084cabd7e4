package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"lastboard/internal/core/check"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/project"
	"lastboard/internal/engine"
)

// completer gives what may stand where the cursor is, each with a tab and words about it.
type completer = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

// complete says of every command what its flags and arguments may be. Only files are read:
// a shell that connects to a database while somebody types would surprise.
func (g *global) complete(root *cobra.Command) {
	flags := map[string]completer{
		"database": g.databases, "yes": g.databases, "to": g.versions, "at": g.versions, "compare": g.versions,
		"back": g.versions,
		"url":  urls,
	}
	arguments := map[string]completer{
		"describe": g.tables, "ledger": g.versions, "settle": g.versions, "kept": g.versions, "adopt": g.versions,
	}
	for _, c := range append(root.Commands(), root) {
		for name, list := range flags {
			if c.Flag(name) != nil && (c == root) == (root.PersistentFlags().Lookup(name) != nil) {
				mustRegister(c.RegisterFlagCompletionFunc(name, list))
			}
		}
		if c.Flags().Lookup("wanted") != nil {
			mustRegister(c.MarkFlagFilename("wanted", "sql"))
		}
		switch list, ok := arguments[c.Name()]; {
		case ok && c.Args(c, []string{""}) == nil:
			c.ValidArgsFunction = first(list)
		case c.Name() == "demo" || c.Name() == "init": // a folder
			c.ValidArgsFunction = first(folder)
		case c.Name() == "help":
			c.ValidArgsFunction = first(helped(root))
		case c != root && len(c.Commands()) == 0 && c.ValidArgs == nil:
			c.ValidArgsFunction = cobra.NoFileCompletions
		}
	}
	mustRegister(root.MarkPersistentFlagDirname("project"))
}

// mustRegister panics: a flag that completion is asked for exists.
func mustRegister(err error) {
	if err != nil {
		panic(err)
	}
}

// first completes one argument alone.
func first(list completer) completer {
	return func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return list(c, args, begun)
	}
}

// folder lets the shell complete one.
func folder(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return nil, cobra.ShellCompDirectiveFilterDirs
}

// helped gives commands and topics.
func helped(root *cobra.Command) completer {
	return func(_ *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		var list []string
		for _, c := range root.Commands() {
			if !c.Hidden {
				list = append(list, c.Name()+"\t"+c.Short)
			}
		}
		return list, cobra.ShellCompDirectiveNoFileComp
	}
}

// urls gives how the URLs of engines begin.
func urls(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
	if k := engine.ByURL(begun); k != nil && k.File {
		return nil, cobra.ShellCompDirectiveDefault // the shell knows its files
	}
	var list []string
	for _, k := range engine.Known() {
		scheme, _, _ := strings.Cut(k.Example, ":")
		if k.File {
			list = append(list, scheme+":\t"+k.Title)
		} else {
			list = append(list, scheme+"://\t"+k.Title)
		}
	}
	return list, cobra.ShellCompDirectiveNoSpace | cobra.ShellCompDirectiveNoFileComp
}

// read gives what can be read of the project and its migrations, which may be nothing.
func (g *global) read(c *cobra.Command) (*project.Project, []*migration.Migration) {
	g.named = c.Flags().Changed("project")
	p, err := g.load()
	if err != nil {
		return &project.Project{}, nil
	}
	list, err := migration.Load(p.Migrations)
	if err != nil { // what is there helps, whatever is wrong with the rest
		cobra.CompDebugln(err.Error(), false)
	}
	return p, list
}

// databases gives the databases of lastboard.toml.
func (g *global) databases(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, _ := g.read(c)
	var list []string
	for _, name := range slices.Sorted(maps.Keys(p.Databases)) {
		about := ""
		if k := engine.ByURL(p.Databases[name].URL); k != nil {
			about = k.Title
		}
		if p.Databases[name].Live {
			about = strings.TrimPrefix(about+", live", ", ")
		}
		list = append(list, name+"\t"+about)
	}
	return list, cobra.ShellCompDirectiveNoFileComp
}

// versions gives the migrations, with their titles.
func (g *global) versions(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	_, migrations := g.read(c)
	var list []string
	if c.Name() == "retreat" || c.Name() == "forecast" {
		list = append(list, "0\ttake back everything")
	}
	for _, m := range migrations {
		list = append(list, m.Version+"\t"+m.File.Title)
	}
	return list, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
}

// tables gives the tables that the migrations make.
func (g *global) tables(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, migrations := g.read(c)
	var list []string
	d, err := p.Pick(g.database, g.url)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	e, err := engineFor(p.Path(d.URL), d, g.unproven)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	for _, t := range check.Tables(migrations, e).Tables {
		list = append(list, fmt.Sprintf("%s\t%d columns", t.Name, len(t.Columns)))
	}
	return list, cobra.ShellCompDirectiveNoFileComp
}
