// Package fault holds the one type in which the core says that something is
// wrong: a person reads it as an error, a script as a finding. It writes no text
// to anywhere.
package fault

import (
	"errors"
	"fmt"
	"strings"
)

// Level is how bad a finding is.
type Level string

// The levels of a finding.
const (
	Error   Level = "error"   // it will not run
	Warning Level = "warning" // it will run, and may not be what is wanted
	Note    Level = "note"    // worth knowing
)

// Class is what an error means for the command that meets it; the values are the
// program's exit codes.
type Class int

// The classes of error.
const (
	Failed  Class = 1 // something did not work
	Usage   Class = 2 // the command or the configuration is wrong
	Refused Class = 3 // refused before anything was changed
	Stopped Class = 4 // stopped in the middle, safe to run again
	Unknown Class = 6 // an answer was lost, and the database cannot be asked
	Differs Class = 5 // two things that should be equal are not
)

// Where is a place in a file; Line and Column count from 1, 0 means unknown.
type Where struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// Fault is something wrong, and what to do about it.
type Fault struct {
	Level   Level
	Class   Class
	Rule    string // plain words of our own: "rows-would-break"
	Message string // one sentence
	Cure    string
	Where   Where
	Source  string     // the source line at Where
	Samples [][]string // keys and values of rows concerned, at most five
	Changed string     // what was and was not changed
	Step    int        // of the migration, 0 for none
	Err     error
}

func (f *Fault) Error() string {
	if f.Where.File == "" {
		return f.Message
	}
	return fmt.Sprintf("%s:%d:%d: %s", f.Where.File, f.Where.Line, f.Where.Column, f.Message)
}

func (f *Fault) Unwrap() error { return f.Err }

// List is several faults, in the order in which they were found.
type List []*Fault

func (l List) Error() string {
	lines := make([]string, len(l))
	for i, f := range l {
		lines[i] = f.Error()
	}
	return strings.Join(lines, "\n")
}

// New gives a fault of a class.
func New(class Class, rule, cure, format string, args ...any) *Fault {
	return &Fault{Level: Error, Class: class, Rule: rule, Cure: cure, Message: fmt.Sprintf(format, args...)}
}

// Of gives the class of any error: Failed for one that says nothing of it.
func Of(err error) Class {
	var f *Fault
	if errors.As(err, &f) && f.Class != 0 {
		return f.Class
	}
	var l List
	if errors.As(err, &l) {
		for _, f := range l {
			if f.Level == Error && f.Class != 0 {
				return f.Class
			}
		}
	}
	return Failed
}

// HasErrors reports whether a list holds anything that keeps a migration from
// running.
func (l List) HasErrors() bool {
	for _, f := range l {
		if f.Level == Error {
			return true
		}
	}
	return false
}
