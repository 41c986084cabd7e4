package engine

import "strings"

// Marks stand in the statements of steps. Each holds a character that is in no text of SQL:
// neither a name nor a value can be taken for one.
const (
	// Range stands for the condition that selects the rows of a batch.
	Range = "\x00range\x00"
	// Between parts the statements of a script, which runs as one.
	Between = ";\x00"
	// Algorithm stands for the way in which an alter is made, until that is known.
	Algorithm = "\x00algorithm\x00"
	// Noted stands behind an insert whose keys it returns, before the table for them.
	Noted = "\x00noted\x00"
)

// Shown gives a statement as a person reads it.
func Shown(sql string) string { return shown.Replace(sql) }

var shown = strings.NewReplacer(Range, "{range}", Between, ";\n", Noted, " -- noted in ", Algorithm, "{algorithm}")
