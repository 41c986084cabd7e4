package cli

import (
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"lastboard/internal/view"
)

// helpFor writes what there is to know of a command, as wide as the terminal.
func (g *global) helpFor(c *cobra.Command, _ []string) {
	p := g.printer()
	p.JSON = false
	if c.Long != "" {
		p.Prose(strings.TrimSpace(c.Long))
	} else {
		p.Prose(c.Short)
	}
	if c.Runnable() || c.HasAvailableSubCommands() {
		usage := c.UseLine()
		if !c.Runnable() || c == c.Root() {
			usage = c.CommandPath() + " COMMAND"
		}
		p.Line("\nUsage:\n  %s", usage)
	}
	if c.HasExample() {
		p.Line("\nExamples:")
		p.Verbatim("%s", c.Example)
	}
	commands, topics := [][2]string{}, [][2]string{}
	for _, sub := range c.Commands() {
		switch line := [2]string{sub.Name(), sub.Short}; {
		case sub.IsAvailableCommand() || sub.Name() == "help":
			commands = append(commands, line)
		case sub.IsAdditionalHelpTopicCommand():
			topics = append(topics, line)
		}
	}
	listed(p, "Commands:", commands)
	listed(p, "Topics:", topics)
	flags := func(title string, f *pflag.FlagSet) {
		if f.HasAvailableFlags() {
			p.Verbatim("\n%s\n%s", title, strings.TrimRight(f.FlagUsagesWrapped(p.Room()), "\n"))
		}
	}
	flags("Flags:", c.LocalNonPersistentFlags())
	flags("Flags of every command:", c.Root().PersistentFlags())
}

// listed writes names, each with what it is.
func listed(p *view.Printer, title string, list [][2]string) {
	if len(list) == 0 {
		return
	}
	width := 0
	for _, l := range list {
		width = max(width, len(l[0]))
	}
	p.Line("\n%s", title)
	for _, l := range list {
		p.Hanging("  "+l[0]+strings.Repeat(" ", width-len(l[0])+2), l[1])
	}
}
