// Package plan makes of a migration the steps that a database will take, and of
// what a migration did the steps that take it back.
//
// A statement is applied to the model of the tables, the engine turns the change
// into steps, the steps are tried on an empty copy of the tables, and what comes
// out there must be what the model says, attribute by attribute: a plan that does
// not lead where the migration wants to go is refused before anything is touched.
//
// Start reading at [Planner].
package plan

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/engine"
	"lastboard/internal/mishap"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// Input is what a planner needs beside the database.
type Input struct {
	Engine engine.Engine
	DB     engine.Database
	Live   bool
	// Overlaps lets a migration leave for later what programs of before still use, and Opened
	// are those that have.
	Overlaps bool
	Opened   []Opened
	// Short is the longest time in seconds that writers may wait for one step.
	Short float64
	// Slower is how many times as long as usual a fill in batches takes, since the project lets
	// it work for another share of the time; 0 is as long as usual.
	Slower float64
	// Kept is what the database keeps, and KeptNumber the greatest number given to
	// such a table.
	Kept       []ledger.Kept
	KeptNumber int64
	// Probe asks the engine on committed copies, where it can.
	Probe bool
	// Sizes asks for the size of each table, which takes a read of the table.
	Sizes bool
}

// Plan is what one migration will do to the database, forward or back.
type Plan struct {
	Version   string
	Name      string
	Direction string // ledger.Advance, ledger.Settle or ledger.Retreat
	Migration *migration.Migration
	Steps     []*engine.Step
	Records   []*Record // what is changed, one for each statement
	Before    *schema.Schema
	After     *schema.Schema
	// Overlap names what a live database would need an overlap for that cannot be kept open.
	Overlap []string
	// Later is what is left for the time when its overlap is settled; empty where none opens.
	Later      []sqltext.Statement
	Warnings   fault.List
	KeptNumber int64
	// Unsure names tables that statements change which were not tried: what becomes of them
	// is known once they have run.
	Unsure []string

	// StandIns are the views that it takes away which stand for renamed tables.
	StandIns []string

	// Facts are what it was made from.
	Facts *Facts

	// Slow says that a statement is expected to take very long; nil for none.
	Slow *fault.Fault

	// Unswapped says why columns cannot get other types beside programs that write them; "" where
	// none has to.
	Unswapped string

	short     float64 // for how many seconds writers may wait
	statement int     // the one that is being planned, from 0
	about     *engine.About
}

// Planner plans one migration after the other, each on the tables that the one
// before it leaves.
type Planner struct {
	in      Input
	trial   engine.Trial
	live    *schema.Schema // the database's tables when planning began
	current *schema.Schema
	rows    map[string]int64
	bytes   map[string]int64
	broken  map[string]sqltext.Pos // what does not work just now, by the statement that broke it
	touched []string               // tables whose rows a planned change has changed
	planned []string               // tables of kept values that planned steps make
	number  int64
	now     string
	told    *Facts // of an earlier plan, which are asked in place of the database; nil for none
}

// New reads the database's tables and makes an empty copy of them to try steps on.
func New(ctx context.Context, in Input) (*Planner, error) {
	trial, err := try(ctx, in)
	if err != nil {
		return nil, err
	}
	if err := prepareTrial(ctx, in, trial); err != nil {
		return nil, errors.Join(err, trial.Close())
	}
	s, err := trial.Schema(ctx)
	if err != nil {
		return nil, errors.Join(err, trial.Close())
	}
	p := &Planner{trial: trial, current: s}
	p.Again(in)
	return p, nil
}

// try gives the copies that steps are tried on.
func try(ctx context.Context, in Input) (engine.Trial, error) {
	if prober, ok := in.DB.(engine.Prober); ok && in.Probe {
		return prober.Probe(ctx)
	}
	return in.DB.Trial(ctx)
}

// Again begins anew on the tables that the last plan leads to, once they are what
// the database has. in is what has changed beside them.
func (p *Planner) Again(in Input) {
	p.in, p.live, p.number, p.touched, p.planned = in, p.current, in.KeptNumber, nil, nil
	p.broken, p.rows, p.bytes = map[string]sqltext.Pos{}, map[string]int64{}, map[string]int64{}
	p.now = time.Now().UTC().Format(time.DateTime)
}

// prepareTrial gives the copy the ledger's place for notes when the database has
// no ledger yet.
func prepareTrial(ctx context.Context, in Input, trial engine.Trial) error {
	exists, err := ledger.Of(in.DB).Exists(ctx)
	if err != nil || exists {
		return err
	}
	_, _, err = trial.Run(ctx, &schema.Change{}, []*engine.Step{{What: "make the ledger", SQL: ledger.Tables()}})
	return err
}

// Tables gives the tables that the plans so far lead to.
func (p *Planner) Tables() *schema.Schema { return p.current }

// Lasts reports whether the planner may stay open while its plans are carried out.
func (p *Planner) Lasts() bool { return p.trial.Lasts() }

// Close ends the trial.
func (p *Planner) Close() error { return p.trial.Close() }

// change plans one change and tries it.
func (p *Planner) change(ctx context.Context, out *Plan, c *schema.Change) error {
	if err := p.count(ctx, c, len(out.Facts.Changes)); err != nil {
		return err
	}
	facts := ChangeFacts{Rows: maps.Clone(p.rows), Bytes: maps.Clone(p.bytes)}
	steps, err := p.in.Engine.Steps(c, p.facts())
	if err != nil {
		return err
	}
	if err := p.loads(ctx, out, c, steps); err != nil {
		return err
	}
	needed, broken, err := p.trial.Run(ctx, c, steps)
	mishap.Place("tried")
	if err != nil {
		return err
	}
	if len(needed) > 0 {
		return wouldBreak(needed)
	}
	for _, what := range broken {
		if _, known := p.broken[what]; !known {
			p.broken[what] = c.At
		}
	}
	got, err := p.trial.Schema(ctx)
	if err != nil {
		return err
	}
	if err := p.asPlanned(c, got); err != nil {
		return err
	}
	facts.After = schema.Since(p.current, got)
	for _, s := range steps {
		facts.Ways = append(facts.Ways, s.Ways)
	}
	out.Facts.Changes = append(out.Facts.Changes, facts)
	record := newRecord(c, p.current, got)
	record.Statement = out.statement
	if record.Stage = ledger.Open; out.Direction == ledger.Settle {
		record.Stage = ledger.Settle
	}
	for _, s := range steps {
		if s.Untried != "" {
			out.Unsure = append(out.Unsure, changedTables(c)...)
		}
		s.Change, s.Statement = len(out.Records), out.statement
		if !p.untouched(s.Table) {
			s.Try = ""
		} else if s.Counted != "" && p.told == nil {
			p.countPicked(ctx, s)
		}
		s.Early = s.Proof != nil && !s.Proof.Late && p.untouched(s.Proof.Table) &&
			!slices.ContainsFunc(s.Proof.Reads, func(t string) bool { return !p.untouched(t) })
		for _, k := range s.Keeps {
			k.Statement = out.statement
			p.planned = append(p.planned, k.Kept)
		}
		record.Keeps = append(record.Keeps, s.Keeps...)
	}
	out.Records = append(out.Records, record)
	out.Steps = append(out.Steps, steps...)
	p.touch(c)
	if t := c.Table; t != nil && t.Before != nil && t.After != nil && t.After.Name != t.Before.Name {
		p.rows[t.After.Name], p.bytes[t.After.Name] = p.rows[t.Before.Name], p.bytes[t.Before.Name]
	}
	p.current = got
	return nil
}

func wouldBreak(list []string) *fault.Fault {
	return fault.New(fault.Refused, "name-in-use", "drop what uses it before this statement, and make it again after "+
		"it, in the same migration",
		"this would break %s", strings.Join(list, ", "))
}

// mended refuses a migration at whose end something does not work that worked
// before it. The position is of the statement that broke it.
func (p *Planner) mended(ctx context.Context) (sqltext.Pos, error) {
	names := slices.Sorted(maps.Keys(p.broken))
	var first sqltext.Pos
	if len(names) > 0 {
		first = p.broken[names[0]]
	}
	clear(p.broken)
	if len(names) == 0 {
		return first, nil
	}
	still, err := p.trial.Broken(ctx, names)
	if err != nil || len(still) == 0 {
		return first, err
	}
	return first, wouldBreak(still)
}

// count finds out how many rows the table of a change has, and those that refer to
// it, once. nth is the number of the change, from 0.
func (p *Planner) count(ctx context.Context, c *schema.Change, nth int) error {
	if p.told != nil {
		if nth < len(p.told.Changes) {
			maps.Copy(p.rows, p.told.Changes[nth].Rows)
			maps.Copy(p.bytes, p.told.Changes[nth].Bytes)
		}
		return nil
	}
	var names []string
	switch {
	case c.Table != nil && c.Table.Before != nil:
		names = append(names, c.Table.Before.Name)
		for _, t := range p.live.Tables {
			if slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool {
				return schema.SameName(k.Table, names[0])
			}) {
				names = append(names, t.Name)
			}
		}
	case c.Mirror != nil:
		names = append(names, c.Mirror.Before.Name)
	case c.Swap != nil:
		names = append(names, c.Swap.Before.Name)
	case c.Link != nil:
		names = append(names, c.Link.Before.Name)
	case c.Rows != nil:
		names = append(names, c.Rows.Table.Name)
	case c.Insert != nil:
		names = append(names, c.Insert.Table.Name)
	case c.Delete != nil:
		names = append(names, c.Delete.Table.Name)
	}
	for _, name := range names {
		if _, known := p.rows[name]; known || p.live.Table(name) == nil {
			continue // a table that is not there yet has no rows
		}
		rows, bytes, err := p.in.DB.Count(ctx, name, p.in.Sizes)
		if err != nil {
			return err
		}
		p.rows[name], p.bytes[name] = rows, bytes
	}
	return nil
}

// newFacts begins to note what a plan is made from.
func (p *Planner) newFacts() *Facts {
	return &Facts{Live: p.in.Live, Overlaps: p.in.Overlaps, Short: p.in.Short, Now: p.now, Kept: p.in.Kept,
		Number: p.number, There: map[string]bool{}}
}

// there reports whether the database has a table, and notes the answer.
func (p *Planner) there(ctx context.Context, out *Plan, table string) (bool, error) {
	if p.told != nil {
		return p.told.There[table], nil
	}
	found, err := p.in.DB.HasTable(ctx, table)
	out.Facts.There[table] = found
	return found, err
}

func (p *Planner) facts() engine.Facts {
	kept := slices.Clone(p.planned)
	for _, k := range p.in.Kept {
		kept = append(kept, k.Keeping.Kept)
	}
	return engine.Facts{
		Schema: p.current, Kept: kept, Rows: p.rows, Bytes: p.bytes, Short: p.in.Short, Live: p.in.Live, Now: p.now,
		KeptTable: func() string {
			p.number++
			return fmt.Sprintf("%skept_%d", engine.Prefix, p.number)
		},
	}
}

// asPlanned asserts that the trial gave the table that the model says.
func (p *Planner) asPlanned(c *schema.Change, got *schema.Schema) error {
	var want schema.Table
	switch {
	case c.Table != nil && c.Table.After != nil:
		want = *c.Table.After
	case c.Swap != nil:
		want = *c.Swap.After
	case c.Link != nil:
		want = *c.Link.After
	default:
		return nil
	}
	found := got.Table(want.Name)
	if found == nil {
		return fmt.Errorf("the plan does not make table %s", want.Name)
	}
	want.Triggers = found.Triggers // the engine itself gives them new names
	if d := schema.CompareTables(&want, found, p.in.Engine.Text); len(d) > 0 {
		lines := make([]string, len(d))
		for i := range d {
			lines[i] = d[i].String()
		}
		return fault.New(fault.Refused, "not-as-planned", "this is a gap in Lastboard: please report it with the migration",
			"the steps would not lead to what the migration says: %s", strings.Join(lines, "; "))
	}
	return nil
}

// overlap says why a change would need old and new shape side by side on a live
// database; "" if it does not.
func overlap(c *schema.Change) string {
	t := c.Table
	switch {
	case c.Swap != nil && c.Swap.As.Back && c.Swap.Stage == schema.SwapBeside: // nothing is open any more
		return "another type for column " + strings.Join(c.Swap.Columns(), ", ")
	case t == nil || t.Before == nil:
		return ""
	case t.After == nil:
		return "dropping table " + t.Before.Name
	}
	var list []string
	for _, d := range t.Dropped() {
		list = append(list, "dropping column "+d.Name)
	}
	for from := range t.Renamed() {
		list = append(list, "renaming column "+from)
	}
	for _, c := range t.Converted() {
		if !t.Fill[c].Cast || !schema.Widens(t.Before.Column(t.From[c]).Type, t.After.Column(c).Type) {
			list = append(list, "another type for column "+t.From[c])
		}
	}
	if t.After.Name != t.Before.Name {
		list = append(list, "renaming table "+t.Before.Name)
	}
	slices.Sort(list)
	return strings.Join(list, ", ")
}

func (p *Planner) finish(out *Plan) {
	out.short, out.about = p.in.Short, p.in.Engine.About()
	for i, s := range out.Steps {
		s.Number = i + 1
		if s.Stage == "" {
			s.Stage = "open"
		}
	}
	for _, unit := range Units(out.Steps) {
		if held(unit) <= p.in.Short {
			continue
		}
		for _, s := range unit {
			if s.Seconds > 0 && s.Pause == 0 && s.WritersWait == engine.WaitBriefly {
				s.WritersWait = engine.WaitThroughout
			}
		}
	}
	for _, s := range out.Steps {
		if s.Batch != nil && p.in.Slower > 0 {
			s.Seconds *= p.in.Slower
		}
	}
	out.After = p.current
	out.KeptNumber = p.number
}
