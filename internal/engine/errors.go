package engine

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// CannotOpen is the error of Open for a database that is not there or not one.
type CannotOpen struct {
	Message, Cure string
	Err           error
}

func (e *CannotOpen) Error() string { return e.Message }
func (e *CannotOpen) Unwrap() error { return e.Err }

// Violation is the error of a statement that a constraint stops.
type Violation struct {
	Rule    string   // "not null", "unique", "check", "foreign key"
	Table   string   // "" where the engine does not say
	Columns []string // none where the engine does not say
	Name    string   // of the constraint; "" where the engine does not say
	Err     error
}

func (e *Violation) Error() string {
	where := ""
	if e.Table != "" {
		where = " of table " + e.Table
	}
	columns := strings.Join(e.Columns, ", ")
	switch e.Rule {
	case "not null":
		return "column " + columns + where + " may not be null"
	case "unique":
		return "another row" + where + " has the same " + columns
	case "check":
		return "a row breaks check " + e.Name + where
	}
	return "a row would refer to no row, or another row refers to it (foreign key)" + where
}

func (e *Violation) Unwrap() error { return e.Err }

// Refused is the error of a planner for a change that this engine cannot make.
type Refused struct {
	Message, Cure string
	Err           error // the engine's own; nil for none
}

func (e *Refused) Error() string { return e.Message }
func (e *Refused) Unwrap() error { return e.Err }

// Unsure is the error of a commit whose answer was lost: it may have come about or not.
type Unsure struct{ Err error }

func (e *Unsure) Error() string {
	return "the connection was lost while the transaction was being committed: " + e.Err.Error()
}
func (e *Unsure) Unwrap() error { return e.Err }

// Committed gives the error of a commit its type.
func Committed(err error) error {
	var lost *CannotOpen
	if errors.As(err, &lost) {
		return &Unsure{err}
	}
	return err
}

// NoTable is the error of a statement that reads a table which is not there.
type NoTable struct{ Err error }

func (e *NoTable) Error() string { return e.Err.Error() }
func (e *NoTable) Unwrap() error { return e.Err }

// Slow is the error of a statement that passed the time it may take.
type Slow struct {
	Limit time.Duration
	Err   error
}

func (e *Slow) Error() string { return fmt.Sprintf("it took longer than %s", e.Limit) }
func (e *Slow) Unwrap() error { return e.Err }

// Busy is the error of a transaction that did not get its lock in time, or was chosen
// to give way to another: trying again helps.
type Busy struct {
	Err error
	Who []Session // in the way, where that is known
}

func (e *Busy) Error() string {
	if len(e.Who) > 0 {
		return "a lock was not given: in the way is " + e.Who[0].String()
	}
	return fmt.Sprintf("somebody else is writing: %v", e.Err)
}
func (e *Busy) Unwrap() error { return e.Err }
