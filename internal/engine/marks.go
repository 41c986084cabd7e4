package engine

import (
	"fmt"
	"strings"
)

// Marks stand in the statements of steps. Each holds a character that is in no text of SQL:
// neither a name nor a value can be taken for one.
const (
	// Range stands for the condition that selects the rows of a batch.
	Range = "\x00range\x00"
	// Turn stands for a number that no other part of a backfill has.
	Turn = "\x00turn\x00"
	// Between parts the statements of a script, which runs as one.
	Between = ";\x00"
	// Algorithm stands for the way in which an alter is made, until that is known.
	Algorithm = "\x00algorithm\x00"
	// Noted stands behind an insert whose keys it returns, before the table for them.
	Noted = "\x00noted\x00"
)

// Fill puts the ways in which the alters of a step are made, as its trial has found them, in
// the place of their marks, in turn. What takes the step back is made in the cheapest way.
// It is an error where a way is more than words, as "algorithm=instant, lock=none" is.
func (s *Step) Fill(ways []string) error {
	for i := range s.Undo {
		s.Undo[i] = strings.ReplaceAll(s.Undo[i], ", "+Algorithm, "")
	}
	if s.Outside == nil || s.Proof != nil {
		return nil
	}
	for i := range s.SQL {
		for strings.Contains(s.SQL[i], Algorithm) {
			if len(ways) == 0 {
				return fmt.Errorf("the way in which to %s is not known", s.What)
			}
			if strings.Trim(ways[0], "abcdefghijklmnopqrstuvwxyz=, ") != "" {
				return fmt.Errorf("%q is no way to %s", ways[0], s.What)
			}
			s.SQL[i], ways = strings.Replace(s.SQL[i], Algorithm, ways[0], 1), ways[1:]
			s.Outside.Statements[i].SQL = s.SQL[i]
		}
	}
	return nil
}

// Whole gives a statement of a batch as one that is about every row.
func Whole(sql string) string {
	return strings.ReplaceAll(strings.ReplaceAll(sql, Range, "true"), Turn, "1")
}

// OfLedger reports whether a statement is of the ledger: its tables alone are named without
// quotes.
func OfLedger(sql string) bool { return strings.Contains(sql, " "+Prefix) }

// Shown gives a statement as a person reads it.
func Shown(sql string) string { return shown.Replace(sql) }

var shown = strings.NewReplacer(Range, "{range}", Turn, "{turn}", Between, ";\n", Noted, " -- noted in ", Algorithm,
	"{algorithm}")
