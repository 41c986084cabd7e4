// Package docs holds the guides that the program shows as help topics, so that there
// is one text of each.
package docs

import _ "embed"

// The topics of help.
var (
	//go:embed language.md
	Language string
	//go:embed engines.md
	Engines string
	//go:embed safety.md
	Safety string
	//go:embed guide.md
	Guide string
	//go:embed cookbook.md
	Cookbook string
	//go:embed rules.md
	Rules string
	//go:embed config.md
	Config string
	//go:embed exit.md
	Exit string
	//go:embed json.md
	JSON string
	//go:embed editors.md
	Editors string
)
