// Package engine says what Lastboard needs of a database, as small interfaces
// with their meaning written down, and the steps that a change is made of.
//
// Each engine is one folder below this one. An engine knows its SQL and its
// traps; it never decides whether a change may be made, and never prints.
// It imports the language and the model of tables (core/sqltext, core/schema)
// and nothing else of the core.
package engine

import (
	"context"
	"fmt"
	"strings"
	"time"

	"lastboard/internal/core/schema"
	"lastboard/internal/core/sqltext"
)

// Engine is a kind of database.
type Engine interface {
	Planner
	// Name is the word for the engine in native statements and in output.
	Name() string
	// Open connects. The error is a *[CannotOpen] where a person can do something
	// about it.
	Open(ctx context.Context, url string, mode Mode) (Database, error)
}

// NoteTable holds what an engine itself cannot: the comments of tables and
// columns, and which unique indexes stand for constraints. Its columns are
// table_name, object (a column, an index, or ”), kind ('comment' or 'unique')
// and text.
const NoteTable = "lastboard_note"

// Prefix begins the name of everything that Lastboard makes for itself.
const Prefix = "lastboard_"

// Planner turns changes into steps. It is pure: it never talks to a database.
type Planner interface {
	// Holds gives the table that a change leads to as this engine will show it:
	// types that the engine does not tell apart become one, and added columns get
	// what enforces the limits of their types.
	Holds(c *schema.TableChange) *schema.Table
	// Steps gives the steps of one change in their order.
	Steps(c *schema.Change, f Facts) ([]*Step, error)
	// Text is how this engine holds an expression, for comparing two of them.
	Text(e schema.Expr) string
	// Portable reports what in a statement this engine has no equal for.
	Portable(t *schema.Table, e sqltext.Expr) error
	// Enforces reports whether a column can hold nothing but what its type says.
	Enforces(t *schema.Table, c *schema.Column) bool
	// Forget gives the statements that take away what is kept.
	Forget(k *Keeping) []string
	// Place gives the statements that make the place for Lastboard's own tables.
	Place() []string
	// CreateSQL gives the engine's own statements that make a table as it stands.
	CreateSQL(t *schema.Table) []string
}

// Facts is what a planner knows of the database beside its tables.
type Facts struct {
	// Schema is all tables before the change.
	Schema *schema.Schema
	// Rows counts the rows of each table, by its name.
	Rows map[string]int64
	// Bytes estimates the size of each table, by its name.
	Bytes map[string]int64
	// Short is the longest time in seconds for which writers may wait.
	Short float64
	// Live means that applications write meanwhile.
	Live bool
	// Kept names the tables of kept values that are there.
	Kept []string
	// KeptTable names the table that keeps what the current change would destroy.
	KeptTable func() string
	// Now stands for current_timestamp in what existing rows get.
	Now string
}

// Mode is what a connection is for.
type Mode int

const (
	// Read can change nothing. A database that is not there yet reads as empty.
	Read Mode = iota
	// Write can change the database, which has to be there.
	Write
	// Create makes the database when it is not there.
	Create
)

// Database is a connection to one database. Its methods are for one goroutine.
type Database interface {
	Info() Info
	// Schema reads every table and view; Lastboard's own are left out.
	Schema(ctx context.Context) (*schema.Schema, error)
	// Count gives the number of rows of a table and, if it is asked for, its size in
	// bytes.
	Count(ctx context.Context, table string, size bool) (rows, bytes int64, err error)
	// Sample reads n rows of a table, in the order of its key: the key's columns and
	// those that are asked for; no columns means all.
	Sample(ctx context.Context, t *schema.Table, columns []string, n int) (*Rows, error)
	// Nulls counts the nulls of every column of a table, in its order.
	Nulls(ctx context.Context, t *schema.Table) ([]int64, error)
	// Query runs a statement that reads, outside of any transaction of ours.
	Query(ctx context.Context, sql string, args ...any) (*Rows, error)
	// Begin starts a transaction that holds the right to write from the start.
	Begin(ctx context.Context, o TxOptions) (Tx, error)
	// Trial makes an empty copy of the tables where nobody sees it.
	Trial(ctx context.Context) (Trial, error)
	// Lend makes a table that only this connection sees and fills it; it may do so
	// while it can change nothing else. rows calls its argument for every row.
	Lend(ctx context.Context, make []string, insert string, rows func(add func([]any) error) error) error
	// Claim asks to be the one runner on this host; release ends it. It is freed
	// by the operating system when the program dies.
	Claim() (release func(), ok bool, err error)
	// Claimed reports whether a runner on this host has the claim.
	Claimed() bool
	// Advice says what of the database's own settings makes applications wait more
	// than they need to; nil when there is nothing to say.
	Advice(ctx context.Context) []string
	// Own lists what Lastboard has made for itself: tables, triggers on others, and the
	// places of trials that have died.
	Own(ctx context.Context) ([]OwnObject, error)
	// Users lists other programs that have the database open, where that is known.
	Users() []string
	// Exec runs a statement outside of any transaction.
	Exec(ctx context.Context, sql string) error
	// Old lists sessions with a transaction that is so old that a step which waits for
	// all of them would wait long.
	Old(ctx context.Context) ([]Session, error)
	// InTheWay lists sessions that would keep a strong lock on the tables from being
	// given soon; none where the engine cannot tell.
	InTheWay(ctx context.Context, tables []string) ([]Session, error)
	Close() error
}

// OwnObject is something that Lastboard has made for itself.
type OwnObject struct {
	Kind  string // "table", "trigger", or what the engine calls a place for tables
	Name  string
	Table string // on which a trigger is
	Drop  string // the statement that takes it away
	Copy  bool   // a place for empty copies, whose trial has died
}

// TxOptions is what a transaction needs beside its statements.
type TxOptions struct {
	// ForeignKeysOff stops the engine from acting on foreign keys meanwhile.
	ForeignKeysOff bool
	// LockWait is how long one try for a lock may keep others waiting; 0 means the
	// engine's own bound.
	LockWait time.Duration
	// Strong names tables on which the transaction needs a lock that keeps writers
	// waiting. One that is not there yet is left out.
	Strong []string
	// MayWait allows that writers wait for all of a statement which cannot be done
	// otherwise.
	MayWait bool
}

// Session is a connection of somebody else.
type Session struct {
	ID          int64
	User        string
	Application string
	State       string        // "active", "idle in transaction"
	Since       time.Duration // for which its transaction lasts
	Query       string        // its last statement, cut short
	Background  string        // what it is when it is no client: "autovacuum worker"
}

// String says who a session is.
func (s Session) String() string {
	who := s.Background
	if who == "" {
		who = "user " + s.User
		if s.Application != "" {
			who += " with " + s.Application
		}
	}
	text := fmt.Sprintf("session %d (%s)", s.ID, who)
	if s.State != "" {
		text += ", " + s.State
	}
	if s.Since > 0 {
		text += fmt.Sprintf(", for %.1f s", s.Since.Seconds())
	}
	if s.Query != "" {
		text += ": " + s.Query
	}
	return text
}

// Tx is a transaction.
type Tx interface {
	Exec(ctx context.Context, sql string, args ...any) (rows int64, err error)
	Query(ctx context.Context, sql string, args ...any) (*Rows, error)
	Schema(ctx context.Context) (*schema.Schema, error)
	// Commit ends the transaction. A Busy error means that nothing was changed.
	Commit() error
	Rollback() error
}

// Counter is a database that counts many tables at once.
type Counter interface {
	// CountAll gives the rows and the size in bytes of each table, by its name.
	CountAll(ctx context.Context, tables []string) (rows, bytes map[string]int64, err error)
}

// Prober is a database that can try steps on committed copies, on which more shows than
// on those of a trial: the locks of each step.
type Prober interface {
	Probe(ctx context.Context) (Trial, error)
}

// Bearer is a database whose columns bear what no model of them holds.
type Bearer interface {
	// GoesAlong lists, in words, what goes with columns of a table when they are dropped,
	// and what no way back brings.
	GoesAlong(ctx context.Context, table string, columns []string) ([]string, error)
}

// Trial is an empty copy of a database's tables.
type Trial interface {
	// Run does the steps of one change. needed is what uses something that the
	// change drops, in words: then no step was run. broken is what worked before
	// and does not after; a later change may mend it or take it away.
	Run(ctx context.Context, c *schema.Change, steps []*Step) (needed, broken []string, err error)
	// Broken gives those of the names that Run gave which still do not work, each
	// with the engine's reason.
	Broken(ctx context.Context, names []string) ([]string, error)
	Schema(ctx context.Context) (*schema.Schema, error)
	// Lasts reports whether the copy may stay while the database is changed; else it
	// has to be closed before.
	Lasts() bool
	Close() error
}

// Rows is what a query gave: names of its columns, and the values of each row as
// nil, int64, float64, string, []byte or bool.
type Rows struct {
	Columns []string
	Values  [][]any
}

// Info says which database one is on.
type Info struct {
	Engine  string // "sqlite"
	Title   string // "SQLite"
	Version string
	Host    string // "" for a file
	Name    string // the database, or the file's path
	Missing bool   // the file is not there yet
}

// Kind is the class of a step.
type Kind string

// The kinds of step.
const (
	Catalog  Kind = "catalog"  // metadata only, a short exclusive lock
	Scan     Kind = "scan"     // reads every row
	Build    Kind = "build"    // an index
	Backfill Kind = "backfill" // batches
	Rewrite  Kind = "rewrite"  // the engine copies the table while writers wait
	Rebuild  Kind = "rebuild"  // Lastboard copies the table
	Sync     Kind = "sync"     // triggers on or off
	ProofOf  Kind = "proof"    // reads and asserts
)

// Kinds are all of them.
var Kinds = []Kind{Catalog, Scan, Build, Backfill, Rewrite, Rebuild, Sync, ProofOf}

// How long writers wait for a step.
const (
	WaitNo         = "no"
	WaitBriefly    = "briefly"
	WaitThroughout = "throughout"
)

// Step is one thing that Lastboard does for a migration. It is plain data: the
// ledger keeps it, so that a later run can go on with it. A select among the
// statements of SQL gives a row only when something is wrong, and its first
// column says what: the step's transaction is then taken back.
type Step struct {
	Number      int      `json:"number"`
	Stage       string   `json:"stage"`
	Kind        Kind     `json:"kind"`
	Table       string   `json:"table"`
	What        string   `json:"what"`
	SQL         []string `json:"sql"`
	Lock        string   `json:"lock"`
	Rewrites    bool     `json:"rewrites"`
	WritersWait string   `json:"writers_wait"`
	Rows        int64    `json:"rows"`
	Bytes       int64    `json:"bytes"`
	Seconds     float64  `json:"seconds"`
	// Pause is for how many seconds writers wait at the end of a step that lets them go on
	// until then.
	Pause float64 `json:"pause,omitempty"`
	// Change counts the statements of the migration from 0.
	Change int `json:"change"`
	// Early means that a proof can run before anything is changed: nothing before
	// it in the migration touches its rows.
	Early bool `json:"early,omitempty"`

	// Why says why the step is there, where that is not plain.
	Why string `json:"why,omitempty"`
	// Alone asks for a transaction of its own, so that its locks are given back at once.
	Alone bool `json:"alone,omitempty"`
	// Strong names the tables on which it needs a lock that keeps writers waiting.
	Strong []string `json:"strong,omitempty"`
	// Outside is set for a step whose statements cannot share a transaction.
	Outside *Outside `json:"outside,omitempty"`
	// Load is set for a step that reads a file into a table of Lastboard's own, after
	// the statements of SQL.
	Load *Load `json:"load,omitempty"`
	// Batch is set for a backfill that runs in batches of its own transactions.
	Batch *Batch `json:"batch,omitempty"`
	// Preview reads ? rows with what the step would compute for them: their key,
	// the value before where there is one, and the value after. It needs the table
	// as it is before the migration.
	Preview string `json:"preview,omitempty"`
	// Proof is set for a proof: no row may come back.
	Proof *Proof `json:"proof,omitempty"`
	// ForeignKeysOff asks for a transaction in which foreign keys do not act.
	ForeignKeysOff bool `json:"foreign_keys_off,omitempty"`
	// Mend is run when a statement of SQL fails, before that one is tried once more:
	// it puts rows right that came since the step before.
	Mend []string `json:"mend,omitempty"`
	// Undo takes away what the step has made for later steps, when a run is taken back
	// that has not come to its end.
	Undo []string `json:"undo,omitempty"`
	// Keeps names what the step keeps.
	Keeps []*Keeping `json:"keeps,omitempty"`
	// PutsBack names tables of kept values that are no longer needed after it.
	PutsBack []string `json:"puts_back,omitempty"`
}

// Outside is what a step needs whose statements are each a transaction of their own,
// or none at all: whether it happened is asked of the database.
type Outside struct {
	Statements []Statement `json:"statements"`
	// Done gives a row when all of it has happened.
	Done string `json:"done"`
	// Clean takes away what a try has left that did not come to its end.
	Clean []Statement `json:"clean"`
	// Quiet asks that no old transaction is about on the step's table when it begins:
	// the engine would wait for it in the middle.
	Quiet bool `json:"quiet,omitempty"`
}

// Statement is one statement of an [Outside].
type Statement struct {
	SQL string `json:"sql"`
	// Patient means that it keeps nobody waiting while it waits for its own locks.
	Patient bool `json:"patient,omitempty"`
	// Direct means that it cannot run in a transaction at all.
	Direct bool `json:"direct,omitempty"`
}

// Batch is a backfill by key range. Range in a statement stands for the
// condition that the key is above the last batch's end (when there is one) and
// not above this one's.
type Batch struct {
	Keys  []string `json:"keys"`  // the columns of the key, quoted
	Upper string   `json:"upper"` // gives the greatest key
	Next  string   `json:"next"`  // gives the last key of the next ? rows
	Do    []string `json:"do"`    // run in order, in one transaction
	// Apart asks that the columns of a key are compared one by one.
	Apart bool `json:"apart,omitempty"`
	// Middle gives a key in the middle, where two workers can share the keys; "" where
	// they cannot.
	Middle string `json:"middle,omitempty"`
}

// Load is the rows of a CSV file on their way into a table.
type Load struct {
	File   string `json:"file"`   // as the migration names it
	Path   string `json:"path"`   // absolute
	Sum    string `json:"sum"`    // SHA-256 of the file that was checked
	Insert string `json:"insert"` // adds one row
	// Lend makes the table where this connection alone sees it, and LendRow adds a row:
	// for proofs before anything is changed.
	Lend    []string `json:"lend"`
	LendRow string   `json:"lend_row"`
	// Types are those that the file's columns have to hold, in their order; Keys are
	// those by which rows are found.
	Types []sqltext.Type `json:"types"`
	Keys  []int          `json:"keys"`
	// Unmatched counts rows of the file that belong to no row.
	Unmatched string `json:"unmatched"`
}

// Proof is a query that must give no row.
type Proof struct {
	// SQL gives five rows at most that break the rule: their key, then the values
	// concerned.
	SQL string `json:"sql"`
	// Count gives the number of all such rows.
	Count string `json:"count"`
	// Keys is how many of the first columns of SQL are the key.
	Keys int `json:"keys"`
	// Message says what is wrong, with %d for the number of rows.
	Message string `json:"message"`
	// Rule and Cure are as in a finding.
	Rule string `json:"rule"`
	Cure string `json:"cure"`
	// Column is the column that the proof is about; "" if it is about none alone.
	Column string `json:"column,omitempty"`
	// Table is the table whose rows are read, as they are before the change; "" if
	// they may be of any.
	Table string `json:"table,omitempty"`
	// Reads names other tables whose rows are read.
	Reads []string `json:"reads,omitempty"`
	// Late means that it needs a step before it, and can only run in its place.
	Late bool `json:"late,omitempty"`
}

// Keeping is a table of kept values that a step makes.
type Keeping struct {
	Table   string   `json:"table"`   // whose values they are
	Kept    string   `json:"kept"`    // the table in which they are
	Keys    []string `json:"keys"`    // columns of Table that find a row
	Columns []string `json:"columns"` // columns of Table that are kept
	What    string   `json:"what"`    // one of the kinds below
	// Statement is which of the migration's statements it belongs to, from 0.
	Statement int `json:"statement"`
}

// What can be kept.
const (
	KeptColumn    = "column"    // of a dropped column, by key
	KeptConverted = "converted" // old and new values of a column that became another type
	KeptValues    = "values"    // old and new values of columns that were filled
	KeptTable     = "table"     // a whole dropped table
	KeptRows      = "rows"      // rows that were deleted
	KeptKeys      = "keys"      // the keys of rows that were inserted
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
type Refused struct{ Message, Cure string }

func (e *Refused) Error() string { return e.Message }

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
