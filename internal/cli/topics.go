package cli

import (
	"github.com/spf13/cobra"

	"lastboard/docs"
)

// newTopics gives the pages that help shows beside the commands.
func newTopics() []*cobra.Command {
	return []*cobra.Command{
		{Use: "language", Short: "The migration language: every statement, type and rule", Long: docs.Language},
		{Use: "engines", Short: "What each engine does, and what it cannot", Long: docs.Engines},
		{Use: "safety", Short: "How a change is made safe, and what is promised", Long: docs.Safety},
	}
}
