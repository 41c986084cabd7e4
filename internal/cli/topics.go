package cli

import (
	"github.com/spf13/cobra"

	"lastboard/docs"
)

// newTopics gives the pages that help shows beside the commands.
func newTopics(g *global) []*cobra.Command {
	list := []*cobra.Command{
		{Use: "language", Short: "The migration language: every statement, type and rule", Long: docs.Language},
		{Use: "engines", Short: "What each engine does, and what it cannot", Long: docs.Engines},
		{Use: "safety", Short: "How a change is made safe, and what is promised", Long: docs.Safety},
		{Use: "guide", Short: "The way through a change, command by command", Long: docs.Guide},
		{Use: "cookbook", Short: "Migrations for what comes up often", Long: docs.Cookbook},
		{Use: "rules", Short: "What check finds, and what to do about it", Long: docs.Rules},
		{Use: "config", Short: "Every setting of lastboard.toml", Long: docs.Config},
		{Use: "exit", Short: "Exit codes", Long: docs.Exit},
		{Use: "json", Short: "What --json writes, command by command", Long: docs.JSON},
		{Use: "editors", Short: "How common editors are told of lastboard editor", Long: docs.Editors},
	}
	for _, c := range list {
		c.SetHelpFunc(func(c *cobra.Command, _ []string) { g.printer().Page(c.Long) })
	}
	return list
}
