package engine

import (
	"fmt"
	"strings"

	"lastboard/internal/sqltext"
)

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
	// Ways are those in which its alters are made, as far as its trial has found them out.
	Ways    []string `json:"ways,omitempty"`
	Seconds float64  `json:"seconds"`
	// Counted is a query for how many of its rows are to be written, where a condition says which;
	// Rows is then their number, once it has been asked.
	Counted string `json:"counted,omitempty"`
	// Pause is for how many seconds writers wait at the end of a step that lets them go on
	// until then.
	Pause float64 `json:"pause,omitempty"`
	// Change counts what the migration changes, from 0, and Statement is that of its statements
	// which the step is of.
	Change    int `json:"change"`
	Statement int `json:"statement,omitempty"`
	// Early means that a proof can run before anything is changed: nothing before
	// it in the migration touches its rows.
	Early bool `json:"early,omitempty"`

	// Native means that its statements are the engine's own, as the migration has them.
	Native bool `json:"native,omitempty"`
	// Untried says why such statements were not tried before they run: they could reach
	// beyond an empty copy. What follows is then known less surely.
	Untried string `json:"untried,omitempty"`

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
	// it puts rows right that came since the step before, or, a select, gives a row where there is
	// nothing to be tried again.
	Mend []string `json:"mend,omitempty"`
	// Try writes one row of the table as it is: it shows, before anything is changed, whether the
	// table's own triggers let that be, and is taken back. "" where there are none.
	Try string `json:"try,omitempty"`
	// Undo takes away what the step has made for later steps, when a run is taken back
	// that has not come to its end.
	Undo []string `json:"undo,omitempty"`
	// Equal asks that its statements act on as many rows each: rows that are kept are written,
	// unless a trigger of somebody else's keeps them from it.
	Equal bool `json:"equal,omitempty"`
	// GivesWay is as in [TxOptions].
	GivesWay bool `json:"gives_way,omitempty"`
	// Keeps names what the step keeps.
	Keeps []*Keeping `json:"keeps,omitempty"`
	// PutsBack names tables of kept values that are no longer needed after it.
	PutsBack []string `json:"puts_back,omitempty"`
}

// PreviewReadsMore reports whether its preview reads more than the row for each row, and so may take long.
func (s *Step) PreviewReadsMore() bool { return strings.Contains(s.Preview, "(select ") }

// Tally counts the rows on which the statements of a step act that asks for equal numbers.
type Tally struct{ rows []int64 }

// Add counts the rows of a statement. The error says that some were kept from being written, or is a
// [Busy] where others came that must not be.
func (t *Tally) Add(sql string, rows int64) error {
	if !strings.HasPrefix(sql, "insert into ") && !strings.HasPrefix(sql, "update ") {
		return nil
	}
	t.rows = append(t.rows, rows)
	if first := t.rows[0]; rows < first {
		return fmt.Errorf("%d of %d rows were not written: a trigger of the table keeps them from it", first-rows, first)
	} else if rows > first {
		return &Busy{Err: fmt.Errorf("%d rows came meanwhile", rows-first)}
	}
	return nil
}

// Outside is what a step needs whose statements are each a transaction of their own,
// or none at all: whether it happened is asked of the database.
type Outside struct {
	Statements []Statement `json:"statements"`
	// Done gives a row when all of it has happened.
	Done string `json:"done"`
	// Clean takes away what a try has left that did not come to its end.
	Clean []Statement `json:"clean"`
	// GoesOn means that what a try has left is gone on with: Clean is for one that failed alone.
	GoesOn bool `json:"goes_on,omitempty"`
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
	// First is a statement before it, in the same transaction: the lock that it needs first. "" for none.
	First string `json:"first,omitempty"`
	// Unless gives a row where it is not to be run: it has happened. "" for always.
	Unless string `json:"unless,omitempty"`
	// Each means that SQL gives the statements that are to be run, as long as it gives any. Behind each
	// stands how: the table on which it needs a lock that keeps writers waiting, "-" where it needs none and
	// waits patiently, null where it cannot run in a transaction; and then its First, or null.
	Each bool `json:"each,omitempty"`
}

// Batch is a backfill by key range. Range in a statement stands for the
// condition that the key is above the last batch's end (when there is one) and
// not above this one's.
type Batch struct {
	Keys  []string `json:"keys"`  // the columns of the key, quoted
	Upper string   `json:"upper"` // gives the greatest key
	Next  string   `json:"next"`  // gives the key that has ? others before it in Range; no row where there are not so many
	Do    []string `json:"do"`    // run in order, in one transaction
	// Equal is as in a step.
	Equal bool `json:"equal,omitempty"`
	// Ahead gives the keys of the first ? rows in Range, in their order; "" where they can
	// only be asked for one at a time.
	Ahead string `json:"ahead,omitempty"`
	// Hold locks the rows in Range, in place of the statements that would while they hold others; ""
	// where those hold none.
	Hold string `json:"hold,omitempty"`
	// Apart asks that the columns of a key are compared one by one.
	Apart bool `json:"apart,omitempty"`
	// Middle gives a key in the middle, where two workers can share the keys; "" where
	// they cannot.
	Middle string `json:"middle,omitempty"`
}

// Second is Next for the second row of all, for those who only try it.
func (b *Batch) Second() string {
	mark := strings.LastIndex(b.Next, "?")
	return Whole(b.Next[:mark]) + "1" + b.Next[mark+1:]
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
	// Followed means that triggers let it follow its rows once its migration has run.
	Followed bool `json:"followed,omitempty"`
	// Reads are columns of Table whose values are kept as well, as r1…: what is kept goes back only
	// while they have these.
	Reads []string `json:"reads,omitempty"`
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
