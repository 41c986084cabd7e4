// Package cli is the command line: one file a command, which reads flags, makes
// one call to the core, and shows what came back.
package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"lastboard/internal/core/fault"
	"lastboard/internal/pattern"
	"lastboard/internal/sqltext"
	"lastboard/internal/view"
)

// Version is the program's version.
const Version = "0.1.0"

// global are the flags of every command.
type global struct {
	project  string
	database string
	named    bool // the project's folder was named
	url      string
	unproven bool
	json     bool
	quiet    bool
	noColor  bool
}

func (g *global) printer() *view.Printer {
	return view.New(os.Stdout, os.Stderr, g.json, g.quiet, g.noColor)
}

// Main runs the program and gives its exit code.
func Main() int {
	ctx, stop := interruptible()
	defer stop()
	g := &global{}
	root := newRoot(g)
	at, err := root.ExecuteContextC(ctx)
	if err == nil {
		return 0
	}
	var code exitCode
	if errors.As(err, &code) {
		return int(code)
	}
	var usage usageError
	if errors.As(err, &usage) {
		err = fault.New(fault.Usage, "usage", "see "+strings.TrimSpace("lastboard help "+about(at)), "%v", usage.error)
	}
	err = openFault(err)
	g.json = g.json || slices.Contains(os.Args[1:], "--json") // it may not have come to be read
	g.printer().Failure(err)
	return int(fault.Of(err))
}

// about names a command for its help; "" is the program itself.
func about(c *cobra.Command) string {
	if _, name, _ := strings.Cut(c.CommandPath(), " "); name != "help" {
		return name
	}
	return ""
}

// interruptible gives a context that the first Ctrl-C ends; the second ends the
// program, which is safe at any point.
func interruptible() (context.Context, func()) {
	ctx, cancel := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		if _, ok := <-signals; !ok {
			return
		}
		fmt.Fprintln(os.Stderr, "\nstopping at the next safe point; Ctrl-C again stops at once")
		cancel()
		if _, ok := <-signals; ok {
			os.Exit(int(fault.Stopped))
		}
	}()
	return ctx, func() { signal.Stop(signals); close(signals); cancel() }
}

// exitCode ends the program with a code when everything has been said already.
type exitCode int

func (e exitCode) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// usageError is a command line that cannot be understood.
type usageError struct{ error }

// Root gives all commands, for pages that describe them.
func Root() *cobra.Command { return newRoot(&global{}) }

func newRoot(g *global) *cobra.Command {
	root := &cobra.Command{
		Use:   "lastboard",
		Short: "Change the tables of a live database, safely",
		Long: `Lastboard changes the tables of a relational database through versioned
migrations, written in standard SQL. It says what a change would do to the table
as it is, does it without making applications wait, shows that it worked, and can
take it back with the data.

In the order in which people work:
  lastboard demo                   see it all on made-up data
  lastboard init, adopt            begin a project, take a database under care
  lastboard ready                  whether it can work here, and what is missing
  lastboard describe vessel        look at a table
  lastboard draft "Call signs"     write a migration
  lastboard check, forecast        what is wrong with it, what it would do
  lastboard advance                do it
  lastboard settle                 drop what nothing uses any more
  lastboard follow, pace           watch it, hold it, slow it, from any terminal
  lastboard retreat --to 0004      take it back, with the data
  lastboard status, ledger         where it stands, what was done
  lastboard audit                  do the tables still match
  lastboard kept, tidy             what is kept; migrations in their canonical form
`,
		Example: `  lastboard demo
  lastboard forecast --rows 5
  lastboard advance --database harbour --yes=harbour`,
		SilenceErrors: true, SilenceUsage: true,
		Args:    knownCommand,
		RunE:    func(c *cobra.Command, _ []string) error { return c.Help() },
		Version: Version,
	}
	root.SetVersionTemplate("lastboard {{.Version}}\n")
	f := root.PersistentFlags()
	f.StringVarP(&g.project, "project", "C", ".", "the project's folder; this one or one above it if not given")
	f.StringVarP(&g.database, "database", "d", os.Getenv("LASTBOARD_DATABASE"), "a database of lastboard.toml")
	f.StringVar(&g.url, "url", "", "a database by its URL: sqlite:harbour.db, postgres://…, mariadb://…; "+
		"LASTBOARD_URL if not given")
	f.BoolVar(&g.unproven, "unproven", false, "use a server that answers like a known engine and is another")
	f.BoolVar(&g.json, "json", false, "write JSON")
	f.BoolVar(&g.quiet, "quiet", false, "write results only")
	f.BoolVar(&g.noColor, "no-color", false, "write no colours")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error { return usageError{nearFlag(c, err)} })
	root.AddCommand(newInit(g), newAdopt(g), newReady(g), newDescribe(g), newDraft(g), newCheck(g), newForecast(g),
		newAdvance(g), newSettle(g), newRetreat(g), newStatus(g), newFollow(g), newPace(g), newLedger(g), newKept(g),
		newTidy(g), newEditor(g), newAudit(g), newVersion(g), newDemo(g), newCompletion(root))
	root.AddCommand(newTopics(g)...)
	root.SetHelpCommandGroupID("")
	root.InitDefaultHelpCmd()
	for _, c := range root.Commands() {
		if c.Name() == "help" { // one of what there is not is a mistake
			c.Use, c.Short = "help [COMMAND or TOPIC]", "Show the help of a command, or the page of a topic"
			c.Long, c.Example = c.Short+".", "  lastboard help forecast\n  lastboard help guide"
			c.Args = func(_ *cobra.Command, args []string) error {
				if found, _, err := root.Find(args); err != nil || found == root && len(args) > 0 {
					return knownCommand(root, args)
				}
				return nil
			}
		}
	}
	root.PersistentPreRunE = func(c *cobra.Command, _ []string) error { return g.sane(c) }
	root.SetHelpFunc(g.helpFor)
	g.complete(root)
	wrapUsage(root)
	return root
}

// sane refuses flags that say nothing, and numbers of rows below none.
func (g *global) sane(c *cobra.Command) error {
	g.named = c.Flags().Changed("project")
	if f := c.Flags().Lookup("url"); f != nil && !f.Changed {
		g.url = os.Getenv("LASTBOARD_URL") // no default of the flag, which help would show
	} else if _, secret := withoutPassword(g.url); secret {
		g.printer().Note("everybody on this machine can read the password in --url, in the list of processes: use " +
			"LASTBOARD_URL, PGPASSWORD, MYSQL_PWD or a password file")
	}
	for _, name := range []string{"url", "database", "project", "metrics", "metrics-file", "to", "at", "compare", "back"} {
		if f := c.Flags().Lookup(name); f != nil && f.Changed && f.Value.String() == "" {
			return usageError{fmt.Errorf("--%s needs a value", name)}
		}
	}
	if f := c.Flags().Lookup("workers"); f != nil && f.Value.String() != "1" && f.Value.String() != "2" {
		return usageError{fmt.Errorf("--workers is 1 or 2, not %s", f.Value)}
	}
	if f := c.Flags().Lookup("rows"); f != nil && strings.HasPrefix(f.Value.String(), "-") {
		return usageError{fmt.Errorf("--rows needs a number of rows, not %s", f.Value)}
	}
	return nil
}

// knownCommand refuses a command that there is not, with the nearest one there is.
func knownCommand(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var names []string
	for _, sub := range c.Commands() {
		names = append(names, sub.Name())
	}
	if near, ok := sqltext.Nearest(args[0], names); ok {
		return fmt.Errorf("there is no command %s: did you mean %s?", args[0], near)
	}
	return fmt.Errorf("there is no command %s", args[0])
}

// wrongValue is what the library says of a value that a flag does not take.
var wrongValue = pattern.Of(`^invalid argument "(.*)" for "(?:-., )?--([a-z-]+)" flag: `)

// nearFlag says of a flag that there is not which one is nearest, and of one with a wrong value what
// it takes.
func nearFlag(c *cobra.Command, err error) error {
	if flag, ok := strings.CutPrefix(err.Error(), "flag needs an argument: "); ok && !strings.Contains(flag, "'") {
		return fmt.Errorf("%s needs a value", flag)
	}
	if m := wrongValue().FindStringSubmatch(err.Error()); m != nil && c.Flags().Lookup(m[2]) != nil {
		takes := map[string]string{"int": "a whole number", "duration": "a time such as 250ms or 10m"}
		if kind := takes[c.Flags().Lookup(m[2]).Value.Type()]; kind != "" {
			return fmt.Errorf("--%s takes %s, not %s", m[2], kind, m[1])
		}
	}
	name, unknown := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !unknown {
		return err
	}
	var names []string
	c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	if near, ok := sqltext.Nearest(name, names); ok {
		return fmt.Errorf("there is no flag --%s: did you mean --%s?", name, near)
	}
	return fmt.Errorf("there is no flag --%s for %s", name, c.CommandPath())
}

// takes says what a command takes, of one that was given something else.
func takes(c *cobra.Command, args []string) error {
	_, form, _ := strings.Cut(c.Use, " ")
	switch {
	case form == "" || strings.HasPrefix(form, "-"):
		return fmt.Errorf("%s takes no %s", c.CommandPath(), strings.Join(args, " "))
	case len(args) == 0:
		return fmt.Errorf("%s needs its %s: lastboard %s", c.CommandPath(), strings.ToLower(form), c.Use)
	}
	return fmt.Errorf("%s takes one %s, and there are %d: %s", c.CommandPath(), strings.ToLower(strings.Trim(form, "[]")),
		len(args), strings.Join(args, " "))
}

// wrapUsage makes an error about arguments one of usage.
func wrapUsage(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			err := check(c, args)
			switch {
			case err == nil:
				return nil
			case c.Flags().Lookup("to") != nil && len(args) == 1:
				err = fmt.Errorf("it takes no %s: did you mean lastboard %s --to %s?", args[0], c.Name(), args[0])
			case c.HasParent() && c.Name() != "help":
				err = takes(c, args)
			}
			return usageError{err}
		}
	}
	for _, sub := range c.Commands() {
		wrapUsage(sub)
	}
}
