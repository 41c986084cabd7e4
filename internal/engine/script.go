package engine

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"unicode"
)

// Mark stands in a statement of a script for a text or a number that is known once it runs. It is a type of its own:
// no value that somebody wrote can be taken for one.
type Mark string

// The marks of a script.
const (
	// Moment stands for the time, as the ledger writes it.
	Moment Mark = "\x00moment\x00"
	// Account and Machine stand for who runs the script and from where, Token for what tells this run from others.
	Account Mark = "\x00account\x00"
	Machine Mark = "\x00machine\x00"
	Token   Mark = "\x00token\x00"
	// Took stands for the seconds since the script began.
	Took Mark = "\x00took\x00"
	// Written stands for the number of rows that the step has written.
	Written Mark = "\x00written\x00"
	// LastKey and UpperKey stand for the keys of a checkpoint, as the ledger writes them.
	LastKey  Mark = "\x00lastkey\x00"
	UpperKey Mark = "\x00upperkey\x00"
)

// Scripted is a database whose own client can run what a run would do.
type Scripted interface {
	// Script writes a run as a file for that client. The error says what of it the client cannot do.
	Script(ctx context.Context, s *Script) (string, error)
	// Loops reports whether the client can repeat statements: where it cannot, batches are written out by the
	// keys of the rows at the time when the script is made.
	Loops() bool
}

// Script is a run, written out.
type Script struct {
	Title []string // what it is, line by line
	// Make makes the ledger where the database has none yet.
	Make []Line
	// Tables names those that have to be as they are now when it runs.
	Tables []string
	// First are asserted before anything is changed.
	First []Line
	// Lent are tables with rows of files that the session alone sees, and Proofs what is asserted of rows before
	// anything is changed.
	Lent, Proofs []Line
	// Claim makes it the one runner, Beat asserts that it still is, and Leave ends that.
	Claim, Beat, Leave []Line
	Parts              []Part
	LockWait           float64 // seconds for which one try for a lock may keep others waiting
	LockTries          int
	BatchTime          float64 // seconds that one batch may take
	Pause              float64 // how long a pause is against the batch before it
}

// Part is what a script does at once: statements in one transaction, or a backfill in batches, or statements
// that are each a transaction of their own.
type Part struct {
	What  string
	Step  *Step  // whose batches or outside statements it does; nil for a transaction
	Lines []Line // of the transaction; or what ends the step
	// Begun is written before the first batch, or before the first statement outside.
	Begun []Line
	// Save records how far the batches are, in the transaction of each.
	Save []Line
	// Ranges are its batches but for the last one, where the client does not loop.
	Ranges []KeyRange
	// Options are those of the transaction.
	Options TxOptions
}

// KeyRange is one batch that is written out: the condition of its rows, the condition of all that are behind it, and
// its last key as the ledger writes it.
type KeyRange struct{ Condition, Behind, Last string }

// Line is one statement of a script.
type Line struct {
	SQL string
	// Begins says which step begins with it, from which on rows are counted; "" where none does. Such a line may have no
	// statement.
	Begins string
	// Asserts means that it is a select which gives a row only where something is wrong: Otherwise says what,
	// or, where that is empty, its first column.
	Asserts   bool
	Otherwise string
	// Counts means that the rows which it writes are those of the step, Equal that they have to be as many as those of
	// the statements before.
	Counts, Equal bool
	// Holds means that it has to write a row: where it does not, another is the one runner.
	Holds bool
}

// Comment writes a text as comments of a script. A name in it can hold anything: what would end a comment is left out.
func Comment(text string) string {
	var b strings.Builder
	for line := range strings.SplitSeq(text, "\n") {
		b.WriteString(strings.TrimRight("-- "+OneLine(line), " ") + "\n")
	}
	return b.String()
}

// OneLine writes a text on one line, without what a client could take for more than text.
func OneLine(text string) string {
	text = strings.ReplaceAll(text, "\n", "; ")
	return strings.Map(func(c rune) rune {
		if unicode.IsControl(c) || c == '\u2028' || c == '\u2029' || c == '\\' || c == '`' {
			return ' '
		}
		return c
	}, text)
}

// Bind writes values in the place of the marks of a statement.
func Bind(sql string, args []any) string {
	if len(args) == 0 {
		return sql
	}
	var b strings.Builder
	var quoted byte
	for i := range len(sql) {
		switch c := sql[i]; {
		case quoted != 0 && c == quoted:
			quoted = 0
		case quoted != 0:
		case c == '\'' || c == '"':
			quoted = c
		case c == '?' && len(args) > 0:
			b.WriteString(bound(args[0]))
			args = args[1:]
			continue
		}
		b.WriteByte(sql[i])
	}
	return b.String()
}

// bound writes a value as SQL that every engine takes.
func bound(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case int:
		return strconv.Itoa(v)
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	case bool:
		return strconv.FormatBool(v)
	case []byte:
		return fmt.Sprintf("x'%x'", v)
	case Mark:
		return string(v)
	case string:
		if strings.Contains(v, "\x00") { // which no client reads; only SQLite has such texts
			return fmt.Sprintf("cast(x'%x' as text)", v)
		}
		return "'" + strings.ReplaceAll(v, "'", "''") + "'"
	}
	panic("a value that no statement of a script has")
}
