// Package engine says what Lastboard needs of a database, as small interfaces
// with their meaning written down, and the steps that a change is made of.
//
// Each engine is one folder below this one. An engine knows its SQL and its
// traps; it never decides whether a change may be made, and never prints.
// It imports the language and the model of tables (sqltext, schema)
// and nothing else of the core.
package engine

import (
	"context"
	"fmt"
	"time"

	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Engine is a kind of database.
type Engine interface {
	Planner
	// About says which engine it is.
	About() *About
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
	// DropTrigger gives the statement that drops a trigger of a table.
	DropTrigger(table, trigger string) string
	// TriggerSQL gives the statements that make a user's trigger as it is, for a native statement.
	TriggerSQL(tr *schema.Trigger) string
	// Preamble is what a session of a person needs before the engine's statements as they are
	// shown; "" for nothing.
	Preamble() string
	// Followers names the triggers that let what is kept in a table follow its rows.
	Followers(kept string) []string
	// Mirrors names the triggers that keep columns of a table equal to their mirrors, and gives
	// the statements that make them and see to the rows; nothing where there are none.
	Mirrors(t *schema.Table, pairs []schema.Mirror) (triggers, sql []string)
	// Twin gives the column that has another name beside one, equal to it.
	Twin(c *schema.Column, name string) schema.Column
	// Aside gives a column as it is out of sight, beside the one that has its name.
	Aside(c *schema.Column) schema.Column
	// CannotSwap says why the engine cannot give columns of a table, one of those of a schema, other
	// types beside programs that write them; "" where it can.
	CannotSwap(c *schema.TableChange, s *schema.Schema) string
	// Swaps names the triggers that compute what is out of sight once columns have exchanged their
	// names, and gives the statements that make them.
	Swaps(c *schema.SwapChange) (triggers, sql []string)
	// CannotLink says why the engine cannot keep columns of a table equal to those that they are made
	// from, both ways; "" where it can.
	CannotLink(as *schema.TableChange, l schema.Link, s *schema.Schema) string
	// Linked gives a column as it stands while it is one of those.
	Linked(l schema.Link, c *schema.Column, at schema.LinkStage) schema.Column
	// Links names the triggers that keep them equal, and gives the statements that make them.
	Links(t *schema.Table, l schema.Link) (triggers, sql []string)
	// Supplying names the triggers that supply columns of a table from expressions where an insert
	// leaves them out, and gives the statements that make them; none where the engine needs none.
	Supplying(t *schema.Table, columns map[string]sqltext.Expr) (triggers, sql []string)
	// CannotSupply says why the engine computes nothing from an expression for rows that come to a
	// table; "" where it does.
	CannotSupply(t *schema.Table, e sqltext.Expr) string
	// Refuse gives the statements that let what programs of before write of columns fail until a moment,
	// and those that end it; none where such writes cannot be told from others.
	Refuse(t *schema.Table, list []schema.Watched, until time.Time) (on, off []Statement)
	// CannotStandIn says why a view cannot stand for a table; "" where it can.
	CannotStandIn(t *schema.Table) string
	// CannotMirror says why the engine keeps a column under no other name; "" where it can.
	CannotMirror(t *schema.Table, column string) string
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
	// Kept names the existing tables of kept values.
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
	// HasTable reports whether there is a table, one of Lastboard's own included.
	HasTable(ctx context.Context, table string) (bool, error)
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
	// Beside lists what stands beside tables, views and their parts, of which a schema says nothing.
	Beside(ctx context.Context) ([]Beside, error)
	// Ready says how things stand on which a run depends: rights, settings, clock, connections.
	Ready(ctx context.Context) ([]Standing, error)
	// Own lists what Lastboard has made for itself: tables, triggers on others, and the
	// places of trials that have died.
	Own(ctx context.Context) ([]OwnObject, error)
	// Users lists other programs that have the database open, where that is known.
	Users() []string
	// Exec runs a statement outside of any transaction.
	Exec(ctx context.Context, sql string) error
	// Old lists sessions with a transaction that is so old that a step on a table which waits
	// for all of them would wait long.
	Old(ctx context.Context, table string) ([]Session, error)
	// InTheWay lists sessions that would keep a strong lock on the tables from being
	// given soon; none where the engine cannot tell.
	InTheWay(ctx context.Context, tables []string) ([]Session, error)
	Close() error
}

// Beside is something that stands beside the tables.
type Beside struct {
	What  string // "function stamp()"
	SQL   string // the statement that makes it; "" where there is none to be had
	Place BesidePlace
	Table string // with [OfTable] alone
	// Part is a part of a table as a table of its own, with [OfTable] alone.
	Part *schema.Table
}

// BesidePlace says when something that stands beside the tables can be made.
type BesidePlace int

// The places, in their order.
const (
	BeforeTables BesidePlace = iota // tables may need it
	BehindTables                    // it may need tables
	BehindViews                     // and views
	Rights                          // it gives others rights to what is there
	// OfTable is what a table has that its model does not say: an option, called What, with which the
	// table has to be made.
	OfTable
)

// OwnObject is something that Lastboard has made for itself.
type OwnObject struct {
	Kind  string // "table", "trigger", or what the engine calls a place for tables
	Name  string
	Table string // on which a trigger is
	Drop  string // the statement that takes it away
	Off   bool   // a trigger that was switched off, if only for a while
	Copy  bool   // a place for empty copies, whose trial has died
	// Gone is the account as which a trigger acts, where that exists no more: writes to its
	// table fail. Again is what lets it act as the one who runs that, in
	// the engine's own client: its body has statements of its own.
	Gone, Again string
	// Mirrors is set for a trigger that keeps a column under two names.
	Mirrors bool
	// Refuses is set for a trigger that refuses what programs of before write: until when it does.
	Refuses time.Time
}

// Onlooker tells which programs use names of tables and columns.
type Onlooker interface {
	// Now is the time by the clock of the server.
	Now(ctx context.Context) (time.Time, error)
	// Seen says how often a column was written as before since its overlap opened.
	Seen(ctx context.Context, t *schema.Table, column string) (Seen, error)
	// Asked lists statements of other programs: those that run or were a session's last, and those
	// of the server's statistics. unseen says why there may be more; "" where these are all.
	Asked(ctx context.Context) (list []Asked, unseen string, err error)
	// Code lists views, routines and triggers with their text.
	Code(ctx context.Context) ([]Code, error)
}

// Seen is what was counted of a column; Counted is false where nothing counts.
type Seen struct {
	Counted bool
	Times   int64
	Last    time.Time // zero where that is not known
}

// Asked is a statement of another program.
type Asked struct {
	SQL string
	By  string // "user office with billing", or what has kept it
	// Times is how often, where that was counted, and Last when it ran last; Since is from when on
	// it was counted. Each is zero where that is not known.
	Times       int64
	Last, Since time.Time
}

// Code is something of the database that uses names in its text.
type Code struct {
	What string // "view fleet"
	SQL  string
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
	// Limit is how long one statement that writes may take; 0 means that it may take any time.
	Limit time.Duration
	// GivesWay means that a row which somebody else holds ends a statement at once, where the engine
	// would wait for it until one of the two has to be ended.
	GivesWay bool
	// Lazy allows that the commit is on the disk only once a later one is that is not lazy:
	// should the server fail before that, all of the transaction is lost, its record with it.
	Lazy bool
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
	// Prepared is set for a transaction that stands prepared and belongs to no session: the
	// statement that takes it back.
	Prepared string
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
	if s.Prepared != "" {
		text = "a prepared transaction (" + who + "), which " + s.Prepared + " takes back"
	}
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
	// Commit ends the transaction. A Busy error means that nothing was changed, an [Unsure]
	// one that the answer was lost.
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

// Explainer is a database that can say how it would do a query.
type Explainer interface {
	// ReadsWhole names what a query would read as a whole for each of its rows, as the query
	// calls it. The query has one place for a number of rows.
	ReadsWhole(ctx context.Context, query string) ([]string, error)
}

// Claimant is a database that knows which session holds the claim of the one runner.
type Claimant interface {
	// Claimant gives that session, as far as the user may see it, and the statement that ends
	// it; nil where nobody holds it.
	Claimant(ctx context.Context) (*Session, string)
}

// Guarded is a database that can tell who else may write to the ledger's place, and take
// rights to it away. The error says who could have written to it; made means that the ledger
// has just been made, with the rights that the database gives by default.
type Guarded interface {
	// Belongs asserts that the ledger that was found is that of this database; if none was,
	// that the database never had one: a copy may have come here without it.
	Belongs(ctx context.Context, found bool) error
	Guard(ctx context.Context, made bool) (done []string, err error)
}

// Bearer is a database whose columns bear what no model of them holds.
type Bearer interface {
	// GoesAlong lists, in words, what goes with columns of a table when they are dropped,
	// and what no way back brings.
	GoesAlong(ctx context.Context, table string, columns []string) ([]string, error)
}

// Lender is a database in which code of a table's owner runs with the rights of whoever writes
// to the table.
type Lender interface {
	// Lends gives who owns a table and what code of those who may do less than Lastboard's
	// account would run with its rights, in words.
	Lends(ctx context.Context, table string) (owner string, code []string, err error)
}

// Actor is a database whose views act as the accounts that made them.
type Actor interface {
	// Actor gives the account as which a view acts, where that exists no more as far as the user may
	// see accounts, and the statement that makes the view again; "" where it exists.
	Actor(ctx context.Context, view string) (account, again string, err error)
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
