package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"lastboard/internal/core/backfill"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/mishap"
	"lastboard/internal/schema"
)

// Options is how a run goes about it.
type Options struct {
	Program string // version of this program, for the ledger
	Project string // id of the project, whose ledger it has to be; "" for anybody's
	Live    bool
	Slower  float64 // see [plan.Input]
	// LetWritersWait allows steps for which applications wait throughout.
	LetWritersWait bool
	// Settle ends overlaps at once: no application uses the old shape any more.
	Settle   bool
	Pace     backfill.Pace
	LockWait time.Duration
	// LockTries bounds how often a lock is asked for.
	LockTries int
	// Workers is how many connections a backfill uses at once: 1 or 2. Another opens the
	// second one.
	Workers int
	Another func(ctx context.Context) (engine.Database, error)
	// SlowStatement allows statements that read a whole table for each row of a large one.
	SlowStatement bool
	// TrustKept puts back what is kept although what lets it follow its rows was not there all
	// the time.
	TrustKept bool
	// ClearKept lets tables of kept values that no migration knows of be taken away, too.
	ClearKept bool
	// Differs is asked when a stopped run is planned anew and other steps come of it than
	// those it recorded: nil goes on with those, an error refuses, as it is without Differs.
	Differs func(Difference) error
	// Observe hears what happens; it may be nil.
	Observe func(Event)
	// A backfill holds while a replica is further behind than ReplicaBehind, while others
	// wait for its table, and while a transaction is older than OldTransaction; 0 means
	// that it does not look.
	ReplicaBehind, OldTransaction time.Duration
	// Followers are replicas of which the database itself cannot tell how far they are.
	Followers []Follower
}

// Follower is a replica with its name.
type Follower struct {
	Name string
	DB   engine.Follower
}

// Event is something that happens in a run.
type Event struct {
	// "cleared", "migration", "step", "progress", "step-done", "waiting", "too-slow", "holding",
	// "released", "migration-done"
	What    string
	Version string
	Name    string
	// Direction is that of a migration that begins.
	Direction string
	Step      *engine.Step
	Steps     int           // of the migration in all
	Rows      int64         // done so far
	Took      time.Duration // of a step that is done
	Held      time.Duration // the longest time for which a lock was held
	Batch     time.Duration // that the last batch took
	Commit    time.Duration // and its commit
	Why       string        // it holds, or was too slow; or what was cleared away
	Try       int           // of a lock that somebody else holds
	Who       []engine.Session
}

// Runner changes one database.
type Runner struct {
	Engine engine.Engine
	DB     engine.Database
	Options

	ledger *ledger.Ledger
	me     *ledger.Runner
	free   func()
	tables tables
	ended  string         // the state of the migration that has just come to its end
	next   *plan.Planner  // on the tables as the last migration left them
	after  *schema.Schema // those tables
	work   work
}

func (r *Runner) observe(e Event) {
	if e.What == "step" {
		mishap.In(string(e.Step.Kind))
	}
	r.work.note(e)
	if r.Observe != nil {
		r.Observe(e)
	}
}

func (r *Runner) inTx(ctx context.Context, o engine.TxOptions, do func(tx engine.Tx) error) error {
	tx, _, err := r.begin(ctx, o)
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return unknown(tx.Commit())
}

// planner gives a planner on the tables as they are now: the last one again, if
// nobody has changed them since.
func (r *Runner) planner(ctx context.Context) (*plan.Planner, error) {
	kept, last, err := r.ledger.Kept(ctx)
	if err != nil {
		return nil, err
	}
	known, err := r.ledger.Migrations(ctx)
	if err != nil {
		return nil, err
	}
	opened, err := plan.Open(known, r.Engine)
	if err != nil {
		return nil, err
	}
	in := plan.Input{
		Engine: r.Engine, DB: r.DB, Live: r.Live, Overlaps: r.Live && !r.Settle, Opened: opened, Short: r.LockWait.Seconds(),
		Slower: r.Slower,
		Kept:   kept, KeptNumber: last,
	}
	now, err := r.DB.Schema(ctx)
	if err != nil {
		return nil, err
	}
	if r.next != nil && r.after != nil && slices.Equal(now.Tables, r.after.Tables) &&
		slices.Equal(now.Views, r.after.Views) {
		r.next.Again(in)
		return r.next, nil
	}
	if err := r.forget(); err != nil {
		return nil, err
	}
	r.next, err = plan.New(ctx, in)
	return r.next, err
}

// planned lets go of a planner that would be in the way of what it has planned.
func (r *Runner) planned() error {
	if r.next != nil && !r.next.Lasts() {
		return r.forget()
	}
	return nil
}

// forget lets go of the planner, which knows no more how the tables are.
func (r *Runner) forget() error {
	r.after = nil
	if r.next == nil {
		return nil
	}
	err := r.next.Close()
	r.next = nil
	return err
}

// still refuses a decision that was made on another record of a migration than the ledger
// has now, once this is the one runner; nil stands for none.
func (r *Runner) still(ctx context.Context, version string, seen *ledger.Migration) error {
	known, err := r.ledger.Migrations(ctx)
	if err != nil {
		return err
	}
	var now *ledger.Migration
	for _, k := range known {
		if k.Version == version {
			now = k
		}
	}
	if now.Same(seen) {
		return nil
	}
	return ChangedMeanwhile(fmt.Sprintf("migration %s was %s, and is %s now", version, seen.Standing(), now.Standing()))
}

// ChangedMeanwhile is the refusal of a run that was decided on something else than what the
// database is now.
func ChangedMeanwhile(what string) error {
	return fault.New(fault.Refused, "changed-meanwhile", "see lastboard status, and run the command again",
		"another run has changed this database since it was looked at: %s", what)
}

// Advance runs one migration, or goes on with it when it has stopped. The error
// says by its class whether anything was changed.
func (r *Runner) Advance(ctx context.Context, m *migration.Migration, known *ledger.Migration) (*plan.Plan, error) {
	if err := r.still(ctx, m.Version, known); err != nil {
		return nil, err
	}
	if known != nil {
		return nil, r.goOn(ctx, known, m)
	}
	p, err := r.planAdvance(ctx, m)
	if err != nil {
		return nil, err
	}
	if err := r.allowed(p); err != nil {
		return nil, err
	}
	if err := r.unchanged(ctx, p, p.Before); err != nil {
		return nil, err
	}
	if err := r.follows(ctx, p); err != nil {
		return nil, err
	}
	proven, err := Prove(ctx, r.DB, p)
	if err != nil {
		return nil, err
	}
	if err := r.writable(ctx, p); err != nil {
		return nil, err
	}
	if err := r.planned(); err != nil {
		return nil, err
	}
	return p, located(p, r.start(ctx, p, nil, Task{File: m}.record(), proven))
}

// settle ends the overlap of a migration, or goes on with that.
func (r *Runner) settle(ctx context.Context, m *migration.Migration, known *ledger.Migration) (*plan.Plan, error) {
	if err := r.still(ctx, m.Version, known); err != nil {
		return nil, err
	}
	if known.State != ledger.Open {
		return nil, r.goOn(ctx, known, m)
	}
	planner, err := r.planner(ctx)
	if err != nil {
		return nil, err
	}
	r.after = nil // until the plan has come to its end
	p, err := planner.Settle(ctx, m)
	if err != nil {
		return nil, err
	}
	if err := r.allowed(p); err != nil {
		return nil, err
	}
	if err := r.unchanged(ctx, p, p.Before); err != nil {
		return nil, err
	}
	proven, err := Prove(ctx, r.DB, p)
	if err != nil {
		return nil, err
	}
	if err := r.writable(ctx, p); err != nil {
		return nil, err
	}
	if err := r.planned(); err != nil {
		return nil, err
	}
	return p, located(p, r.start(ctx, p, known, Task{Known: known, Settle: true}.record(), proven))
}

// located says of a refusal which statement of the file it is about.
func located(p *plan.Plan, err error) error {
	var f *fault.Fault
	if !errors.As(err, &f) || f.Class != fault.Refused || f.Where.File != "" || p.Migration == nil {
		return err
	}
	for _, s := range p.Steps {
		if s.Number == f.Step {
			return plan.Place(p.Migration, s, f)
		}
	}
	return err
}

func (r *Runner) planAdvance(ctx context.Context, m *migration.Migration) (*plan.Plan, error) {
	planner, err := r.planner(ctx)
	if err != nil {
		return nil, err
	}
	r.after = nil // until the plan has come to its end
	return planner.Advance(ctx, m)
}

// Retreat takes a migration back. filed is its file; nil where there is none.
func (r *Runner) Retreat(ctx context.Context, known *ledger.Migration, filed *migration.Migration) (*plan.Plan, error) {
	if err := r.still(ctx, known.Version, known); err != nil {
		return nil, err
	}
	if known.Direction == ledger.Retreat && (known.State == ledger.Running || known.State == ledger.Stopped) {
		return nil, r.goOn(ctx, known, filed)
	}
	if known.Direction == ledger.Settle && known.State != ledger.Settled {
		return nil, fault.New(fault.Refused, "half-way", "run lastboard settle to go on; then retreat",
			"migration %s is half settled", known.Version)
	}
	progress, err := plan.ProgressOf(ctx, r.ledger, known)
	if err != nil {
		return nil, err
	}
	if err := r.ownUndo(ctx, known, filed, progress.Steps); err != nil {
		return nil, err
	}
	planner, err := r.planner(ctx)
	if err != nil {
		return nil, err
	}
	r.after = nil              // until the plan has come to its end
	if progress.Steps == nil { // the way back of other tables cannot even be planned
		records, err := plan.DecodeRecords(known.Changes)
		if err != nil {
			return nil, err
		}
		if err := r.unchanged(ctx, &plan.Plan{Records: records}, planner.Tables()); err != nil {
			return nil, err
		}
	}
	p, err := planner.Retreat(ctx, progress)
	if err != nil {
		return nil, err
	}
	if progress.Steps == nil { // a stopped one has not recorded its tables and views
		if err := r.unchanged(ctx, p, p.Before); err != nil {
			return nil, err
		}
	}
	if err := r.allowed(p); err != nil {
		return nil, err
	}
	if err := r.follows(ctx, p); err != nil {
		return nil, err
	}
	proven, err := Prove(ctx, r.DB, p)
	if err != nil {
		return nil, err
	}
	if err := r.writable(ctx, p); err != nil {
		return nil, err
	}
	if err := r.planned(); err != nil {
		return nil, err
	}
	return p, r.start(ctx, p, known, Task{Known: known}.record(), proven)
}

// allowed refuses what is not to be done unasked.
func (r *Runner) allowed(p *plan.Plan) error {
	if list := r.Refusals(p); len(list) > 0 {
		return list
	}
	return nil
}

// Refusals gives why a plan is not carried out unasked, each with what allows it.
func (o *Options) Refusals(p *plan.Plan) (list fault.List) {
	if p.Slow != nil && !o.SlowStatement {
		list = append(list, p.Slow)
	}
	if !o.Live {
		return list
	}
	if f := o.overlaps(p); f != nil {
		list = append(list, f)
	}
	if s := p.Longest(); s != nil && !o.LetWritersWait {
		wait, digits := p.LongestWait(), 1
		if wait < 0.1 {
			wait, digits = max(wait, 0.001), 3
		}
		list = append(list, fault.New(fault.Refused, "writers-would-wait", "run it at a quiet time with --let-writers-wait",
			"migration %s keeps every writer waiting for about %.*f s (most of it in step %d: %s), longer than lock_wait, "+
				"and the database is live", p.Version, digits, wait, s.Number, s.What))
	}
	return list
}

// overlaps refuses what only an overlap of two shapes could do to a live database.
func (o *Options) overlaps(p *plan.Plan) *fault.Fault {
	if !o.Live || len(p.Overlap) == 0 || o.Settle {
		return nil
	}
	why := ""
	if p.Unswapped != "" {
		why = ": " + p.Unswapped
	}
	return fault.New(fault.Refused, "needs-overlap",
		"if no application uses the old shape any more, add --settle; else take the old use out of the applications first",
		"migration %s needs an overlap of the old and the new shape on a live database (%s), and none can be kept open "+
			"for that%s", p.Version, p.Overlap[0], why)
}

// follows refuses to put back what is kept where it may be of rows that went meanwhile.
func (r *Runner) follows(ctx context.Context, p *plan.Plan) error {
	if r.TrustKept {
		return nil
	}
	doubtful, err := r.ledger.Doubtful(ctx, r.Engine)
	if err != nil || len(doubtful) == 0 {
		return err
	}
	for _, s := range p.Steps {
		for _, kept := range s.PutsBack {
			if off, ok := doubtful[kept]; ok {
				return fault.New(fault.Refused, "kept-doubtful",
					"if no row has gone meanwhile, add --trust-kept; else let go of it: lastboard kept "+p.Version+" --discard",
					"what is kept of %s may be of other rows than have its keys now: somebody has switched off or dropped %s, by "+
						"which it follows them, or has attached a part with rows", s.Table, strings.Join(off, ", "))
			}
		}
	}
	return nil
}
