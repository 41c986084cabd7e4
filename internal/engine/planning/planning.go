// Package planning is what the planners of all engines share: what of a table
// changes, the proofs that its rows can follow, what rows get, and what is kept of
// them. It writes SQL by way of a [Dialect], and decides nothing about how an engine
// changes a table: that is each engine's own.
//
// Start reading at [Planner].
package planning

import (
	"math"
	"strings"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Mode says what an expression is written for.
type Mode int

const (
	// Stored is for the engine to keep, as in a default or a check.
	Stored Mode = iota
	// Computed is for a statement of Lastboard's own: a cast that cannot be made fails.
	Computed
	// Proven is for a proof: a cast that cannot be made gives null.
	Proven
)

// Scope is what an expression is written over.
type Scope struct {
	Table  *schema.Table  // whose columns are named; may be nil
	Source *schema.Source // read beside Table: columns of both are then named with where they are
	Now    string         // stands for current_timestamp, as SQL, when not ""
	Mode   Mode
	// Value gives the SQL for a column of Table; nil means its name.
	Value func(column string) string
}

// Dialect is how an engine writes what planners share.
type Dialect interface {
	// Name quotes a table's name, Column a column's, an alias's or a constraint's.
	Name(table string) string
	Column(name string) string
	// Expr writes an expression.
	Expr(e sqltext.Expr, s Scope) (string, error)
	// Unconverted writes what gives the first text in e that a cast cannot convert, and
	// null when there is none; "" where no cast can fail.
	Unconverted(e sqltext.Expr, s Scope) (string, error)
	// Text is how the engine holds an expression, for comparing two of them.
	Text(e schema.Expr) string
	// Enforces reports whether a column can hold nothing but what its type says.
	Enforces(t *schema.Table, c *schema.Column) bool
	// Same writes that two values are equal, or both null.
	Same(a, b string) string
	// UpdateFrom writes an update of a table whose rows are joined with others.
	UpdateFrom(table, others string, columns, values []string, where string) string
	// Once ends a subquery whose values have to be computed once for each row.
	Once() string
	// Declaration gives the type of a column as it stands in a statement.
	Declaration(t *schema.Table, c *schema.Column) string
	// As writes a plain value so that it compares with a column's.
	As(value string, c *schema.Column) string
	// Fits gives the condition that a computed value of a kind can be stored in a type
	// just as it is; "" where every value can.
	Fits(t sqltext.Type, kind, v string) string
	// Changed gives the condition that a column's value x is another once it is v, of
	// another type; "" where it cannot be.
	Changed(old, c *schema.Column, x, v string) string
	// Cursor gives the columns in whose order a table is walked, as SQL; none where it
	// cannot be.
	Cursor(t *schema.Table) []string
	// Place gives what shows where a row of a table without a key is, as SQL.
	Place(t *schema.Table) []string
	// Plain lists columns so that their values come as they are stored.
	Plain(columns []string) string
	// Index gives the statement that makes an index.
	Index(t *schema.Table, x *schema.Index) string
	// References gives what follows the columns of a foreign key.
	References(k *schema.ForeignKey) string
	// CreateKept gives the statement that makes a table of kept values: k1… are the
	// keys, o1… the old values, w1… what is written. counted adds f, the part of the
	// backfill in which a row was done.
	CreateKept(t *schema.Table, kept string, keys, values []string, counted bool) string
	// Locked ends a select whose rows of a table are locked, in the form that they have
	// then, until the transaction ends; goes is set where they are to be deleted.
	Locked(t *schema.Table, goes bool) string
	// Note adds the statements that begin a noting to a step, and Noted gives those that
	// end it: after them what is kept goes on following the rows.
	Note(p *Planner, s *engine.Step, n Noting)
	Noted(t *schema.Table, n Noting) []string
	// Alone lets a step that does all rows of a table by what is kept of them in one statement keep others
	// from writing to it meanwhile, where rows could be missed otherwise.
	Alone(t *schema.Table, s *engine.Step)
	// Last adds the steps that do what is left for noted rows, in the end while nobody
	// writes to the table, and end the noting.
	Last(p *Planner, what string, n Noting, left func(Noting) []string)
	// Follow lets what a step keeps follow the rows.
	Follow(p *Planner, s *engine.Step, searchable bool)
	// Forget gives the statements that take away a table of kept values.
	Forget(kept string) []string
	// Quietly gives statements that write rows of a table, between others that keep
	// Lastboard's own triggers from acting on them.
	Quietly(t *schema.Table, statements []string) []string
	// Unfollowed does so for statements that delete rows, or bring them back.
	Unfollowed(t *schema.Table, statements []string) []string
	// WholeRow lists what is kept of a row that goes, and RestoreRows gives the statement
	// that puts such rows back.
	WholeRow(t *schema.Table) string
	RestoreRows(t *schema.Table, k *schema.Kept) string
	// Load gives the step that makes a table of a file.
	Load(p *Planner, s *schema.Source) *engine.Step
}

// Rates are rows a second on an ordinary machine: what a forecast counts with until it knows
// better. Only orders of magnitude matter to a decision. Paced is an update in batches at
// the usual pace of a live database, and Restore puts rows back that had gone; Keeps, Back, Goes, Noted and
// Nulls say how many times as fast batches go that only keep rows, that put back what is kept, that delete rows,
// that keep old values and note which rows are done, and that fill nulls and keep which they were.
type Rates struct {
	Scan, Update, Paced, Keep, Rewrite, Index, Restore float64
	Keeps, Back, Goes, Noted, Nulls                    float64
}

// Faster lets a step in batches take as many times less than one that writes every row of its table.
func (p *Planner) Faster(s *engine.Step, times float64) *engine.Step {
	if s.Batch != nil && p.Facts.Live {
		s.Seconds = math.Round(s.Seconds/times*1000) / 1000
	}
	return s
}

// Planner makes the steps for one change of one table.
type Planner struct {
	Dialect
	Rates Rates
	// Lock is the lock of a step that says no other.
	Lock string
	// BatchLock is that of a backfill in batches.
	BatchLock string
	// Apart is what keeps an engine from looking, for a condition, into each row of a long list
	// in a statement: that takes it a time which grows with the square of its length.
	Apart string
	// FirstRowTypes means that the types of the first of a list of rows are those of all: to write
	// them once more in each takes the engine most of its time.
	FirstRowTypes bool
	// StepsCommit means that each step commits by itself: no lock holds from one to the next.
	StepsCommit bool

	Change   *schema.TableChange
	Facts    engine.Facts
	Table    *schema.Table     // as it stands before the steps
	After    *schema.Table     // as it is meant to be, under the names of before
	Renames  map[string]string // from After to what the change leads to
	Set      map[string]string // what a backfill will give columns, as SQL
	Rows     int64
	Source   *schema.Source // what a backfill reads beside the table
	Standing *schema.Table  // Table once it is changed, under the names of before; nil until then
	// ReadsOthers means that what a backfill computes reads other tables.
	ReadsOthers bool
	Indexed     []string // tables of kept values that become searchable first
	Off         bool     // foreign keys do not act in any transaction of the change
	Steps       []*engine.Step
	Err         error
}

// Fail remembers the first thing that cannot be planned.
func (p *Planner) Fail(err error) {
	if p.Err == nil {
		p.Err = err
	}
}

// Add appends a step; rate is rows a second, 0 for a step that takes no time.
func (p *Planner) Add(kind engine.Kind, rate float64, what string, sql ...string) *engine.Step {
	s := &engine.Step{Kind: kind, What: what, SQL: sql, Lock: p.Lock, WritersWait: engine.WaitBriefly,
		ForeignKeysOff: p.Off}
	if p.Table != nil {
		s.Table = p.Table.Name
		s.Bytes = p.Facts.Bytes[p.Table.Name]
	}
	if rate > 0 {
		s.Rows = p.Rows
		s.Seconds = p.takes(rate)
		if s.Seconds > p.Facts.Short {
			s.WritersWait = engine.WaitThroughout
		}
	}
	s.Rewrites = kind == engine.Rebuild || kind == engine.Rewrite
	p.Steps = append(p.Steps, s)
	return s
}

// takes estimates in seconds how long all rows take at a rate.
func (p *Planner) takes(rate float64) float64 { return math.Round(float64(p.Rows)/rate*1000) / 1000 }

// scope is that of expressions over the table and its source.
func (p *Planner) scope(m Mode) Scope {
	return Scope{Table: p.Table, Source: p.Source, Now: p.Now(), Mode: m}
}

func (p *Planner) write(e sqltext.Expr, s Scope) string {
	text, err := p.Expr(e, s)
	if err != nil {
		p.Fail(&engine.Refused{Message: err.Error()})
	}
	return text
}

// Render gives an expression that Lastboard itself sends, over the table.
func (p *Planner) Render(e sqltext.Expr, m Mode) string { return p.write(e, p.scope(m)) }

// Now gives the time of the migration, as SQL.
func (p *Planner) Now() string {
	if p.Facts.Now == "" {
		return ""
	}
	return Literal(p.Facts.Now)
}

// Literal quotes a string.
func Literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// Columns quotes names and joins them with commas.
func (p *Planner) Columns(names []string) string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = p.Column(n)
	}
	return strings.Join(list, ", ")
}

// Keys gives the columns that show which row is meant, for statements that read
// the table and perhaps its source.
func (p *Planner) Keys() []string {
	keys := p.Sample(p.Table)
	if p.Source == nil {
		return keys
	}
	list := make([]string, len(keys))
	for i, k := range keys {
		list[i] = p.Name(p.Table.Name) + "." + k
	}
	return list
}

// RowsOf gives the table, joined with its source if it has one, as SQL.
func (p *Planner) RowsOf() string {
	if p.Source == nil {
		return p.Name(p.Table.Name)
	}
	return p.Name(p.Table.Name) + " join " + p.Name(p.Source.Table.Name) + " as " + p.Column(p.Source.Alias) + " on " +
		p.Joined()
}

// Joined gives the condition that a row of the source belongs to a row.
func (p *Planner) Joined() string {
	parts := make([]string, len(p.Source.On))
	for i, on := range p.Source.On {
		parts[i] = p.Name(p.Table.Name) + "." + p.Column(on.Column) + " = " + p.Column(p.Source.Alias) + "." +
			p.Column(on.Other)
	}
	return strings.Join(parts, " and ")
}

// Sample gives the columns that show a person which row is meant.
func (p *Planner) Sample(t *schema.Table) []string {
	if k := t.Key(); k != nil {
		list := make([]string, len(k))
		for i, c := range k {
			list[i] = p.Column(c)
		}
		return list
	}
	return p.Dialect.Place(t)
}
