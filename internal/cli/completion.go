package cli

import (
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// newCompletion writes what lets a shell complete command lines: in place of cobra's own, in the words
// of the others.
func newCompletion(root *cobra.Command) *cobra.Command {
	root.CompletionOptions.DisableDefaultCmd = true
	shells := map[string]func(io.Writer) error{
		"bash":       func(w io.Writer) error { return root.GenBashCompletionV2(w, true) },
		"fish":       func(w io.Writer) error { return root.GenFishCompletion(w, true) },
		"powershell": root.GenPowerShellCompletionWithDesc,
		"zsh":        root.GenZshCompletion,
	}
	names := slices.Sorted(maps.Keys(shells))
	return &cobra.Command{
		Use:   "completion SHELL",
		Short: "Write the script that lets a shell complete command lines",
		Long: "Write the script that lets bash, fish, powershell or zsh complete commands, flags, databases, versions and " +
			"tables. It reads the project's files alone, and never connects to a database.",
		Example: `  source <(lastboard completion bash)
  lastboard completion bash > /etc/bash_completion.d/lastboard
  lastboard completion zsh > "${fpath[1]}/_lastboard"
  lastboard completion fish > ~/.config/fish/completions/lastboard.fish
  lastboard completion powershell | Out-String | Invoke-Expression`,
		Args:      cobra.ExactArgs(1),
		ValidArgs: names,
		RunE: func(_ *cobra.Command, args []string) error {
			write, ok := shells[args[0]]
			if !ok {
				return usageError{fmt.Errorf("there is no completion for %s, but for %s", args[0], strings.Join(names, ", "))}
			}
			return write(os.Stdout)
		},
	}
}
