package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"lastboard/internal/core/backfill"
	"lastboard/internal/core/csvfile"
	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// Script writes the run of a task out that has not begun, as a file that the engine's own client runs: the same
// statements in the same transactions with the same records, so that a run goes on from a script that stopped. What
// is refused before a run is refused here. The planner is on the tables as they are.
func (r *Runner) Script(ctx context.Context, planner *plan.Planner, t Task) (string, error) {
	db, ok := r.DB.(engine.Scripted)
	if !ok {
		return "", noScript(errors.New("its client runs none"))
	}
	r.ledger = ledger.For(r.DB, r.Project)
	exists, err := r.ledger.Exists(ctx)
	if err != nil {
		return "", err
	}
	if !exists {
		r.tables = tables{stored: map[ledger.Model]string{}, texts: map[any]string{}}
	}
	if t.Unfinished() {
		return "", fault.New(fault.Refused, "half-way", "lastboard "+t.Known.Direction+" goes on with it",
			"migration %s has stopped in the middle, and a script only begins", t.Version())
	}
	if err := noWayBack(t); err != nil {
		return "", err
	}
	p, err := t.plan(ctx, planner)
	if err != nil {
		return "", err
	}
	touched := p.Touched()
	if p.Direction == ledger.Retreat {
		records, err := plan.DecodeRecords(t.Known.Changes)
		if err != nil {
			return "", err
		}
		touched = (&plan.Plan{Records: records}).Touched()
	}
	if err := r.foreseen(ctx, p, touched, exists); err != nil {
		return "", err
	}
	run, err := r.begun(ctx, p, t.Known, t.record(), nil)
	if err != nil {
		return "", err
	}
	w := &writing{Runner: r, run: run, plan: p, db: db, exists: exists, touched: touched}
	s, err := w.script(ctx)
	if err != nil {
		return "", err
	}
	text, err := db.Script(ctx, s)
	if err != nil {
		return "", noScript(err)
	}
	return text, nil
}

// foreseen refuses what a run would refuse before it begins.
func (r *Runner) foreseen(ctx context.Context, p *plan.Plan, touched []string, exists bool) error {
	if err := r.allowed(p); err != nil {
		return err
	}
	if exists {
		if err := r.asLeft(ctx, touched, p.Before); err != nil {
			return err
		}
		if err := r.viewsAsLeft(p.StandIns, p.Before); err != nil {
			return err
		}
		if err := r.follows(ctx, p); err != nil {
			return err
		}
	}
	_, err := Prove(ctx, r.DB, p)
	return err
}

func noScript(err error) error {
	f := fault.New(fault.Refused, "no-script", "let lastboard advance run it",
		"this migration cannot be written as a script: %v", err)
	f.Err = err
	return f
}

// writing is a script on its way.
type writing struct {
	*Runner
	run    *progress
	plan   *plan.Plan
	db     engine.Scripted
	exists bool // the database has a ledger
	// touched are the tables that it changes.
	touched []string
}

// lines gives the statements that something would send.
type lines struct{ list []engine.Line }

// Exec implements engine.Tx.
func (l *lines) Exec(_ context.Context, sql string, args ...any) (int64, error) {
	for i, a := range args {
		if a == string(engine.Moment) { // in a record, whose times are texts
			args[i] = engine.Moment
		}
	}
	l.list = append(l.list, engine.Line{SQL: engine.Bind(sql, args)})
	return 1, nil
}

// Query implements engine.Tx: nothing is known yet.
func (l *lines) Query(context.Context, string, ...any) (*engine.Rows, error) {
	return &engine.Rows{}, nil
}

// Schema implements engine.Tx.
func (l *lines) Schema(context.Context) (*schema.Schema, error) {
	return nil, errors.New("a script reads no tables")
}

// Commit and Rollback implement engine.Tx.
func (l *lines) Commit() error   { return nil }
func (l *lines) Rollback() error { return nil }

// sent gives the statements of something that writes.
func sent(do ...func(tx engine.Tx) error) ([]engine.Line, error) {
	l := &lines{}
	for _, f := range do {
		if err := f(l); err != nil {
			return nil, err
		}
	}
	return l.list, nil
}

func (w *writing) script(ctx context.Context) (s *engine.Script, err error) {
	s = &engine.Script{
		Title: w.title(), Tables: w.touched, LockWait: w.LockWait.Seconds(), LockTries: w.LockTries,
		BatchTime: w.Pace.BatchTime.Seconds(), Pause: w.Pace.Pause,
	}
	for _, step := range w.run.steps {
		if step.Untried != "" {
			return nil, noScript(fmt.Errorf("step %d, %s: what comes of it is known once it has run", step.Number, step.What))
		}
	}
	if !w.exists {
		s.Make, err = sent(func(tx engine.Tx) error { return ledger.Create(ctx, tx, w.Engine.Place(), w.Program) },
			func(tx engine.Tx) error { return w.ledger.Sign(ctx, tx) })
	} else {
		s.First, err = w.asFound(ctx)
	}
	if err != nil {
		return nil, err
	}
	if err := w.assertions(s); err != nil {
		return nil, err
	}
	if s.Claim, err = sent(func(tx engine.Tx) error { return ledger.ScriptClaim(ctx, tx) }); err != nil {
		return nil, err
	}
	if s.Beat, err = w.beat(ctx); err != nil {
		return nil, err
	}
	if s.Leave, err = sent(func(tx engine.Tx) error { return ledger.ScriptLeave(ctx, tx) }); err != nil {
		return nil, err
	}
	s.Parts, err = w.parts(ctx)
	return s, err
}

// title says what a script is.
func (w *writing) title() []string {
	m, i := w.run.record, w.DB.Info()
	where := i.Name
	if i.Host != "" {
		where += " on " + i.Host
	}
	list := []string{scriptIs[m.Direction] + " " + m.Version + "-" + m.Name + ", for the " + i.Title + " database " +
		where + "."}
	if m.Title != "" {
		list = append(list, m.Title)
	}
	return append(list, "",
		fmt.Sprintf("Written by Lastboard %s, from the tables as they were at %s. It stops at the first error;", w.Program,
			ledger.Now()),
		"lastboard status then shows where it stands, and lastboard "+m.Direction+" goes on.",
		"It runs once: it refuses to where the tables or the record of migrations are not as they were.")
}

var scriptIs = map[string]string{ledger.Advance: "Migration", ledger.Settle: "The end of the overlap of migration",
	ledger.Retreat: "The way back of migration"}

// beat asserts that the script still is the one runner.
func (w *writing) beat(ctx context.Context) ([]engine.Line, error) {
	list, err := sent(func(tx engine.Tx) error { return ledger.ScriptBeat(ctx, tx) })
	for i := range list {
		list[i].Holds = true
	}
	return list, err
}

// asFound asserts that the ledger says of migrations what it says now.
func (w *writing) asFound(ctx context.Context) ([]engine.Line, error) {
	known, err := w.ledger.Migrations(ctx)
	if err != nil {
		return nil, err
	}
	var same []string
	for _, k := range known {
		if k.State == ledger.Running || k.State == ledger.Stopped {
			return nil, fault.New(fault.Refused, "half-way", "lastboard advance goes on with it",
				"migration %s has stopped in the middle", k.Version)
		}
		same = append(same, engine.Bind("version = ? and state = ? and checksum = ?", []any{k.Version, k.State, k.Checksum}))
	}
	where := "(select count(*) from lastboard_migration) <> " + fmt.Sprint(len(known))
	if len(same) > 0 {
		where += " or (select count(*) from lastboard_migration where " + strings.Join(same, " or ") + ") <> " +
			fmt.Sprint(len(known))
	}
	return []engine.Line{{SQL: engine.Bind("select ? as problem from (select 1 as n) one where "+where,
		[]any{"migrations have run, or were taken back, since this script was made: make it again"}), Asserts: true}}, nil
}

// assertions writes the proofs that come before anything is changed, and lends them the files that they read.
func (w *writing) assertions(s *engine.Script) error {
	for _, step := range w.run.steps {
		if step.Load != nil {
			for _, sql := range step.Load.Lend {
				s.Lent = append(s.Lent, engine.Line{SQL: sql})
			}
			rows, err := fileRows(step.Load, step.Load.LendRow)
			if err != nil {
				return err
			}
			s.Lent = append(s.Lent, rows...)
		}
		if step.Early {
			s.Proofs = append(s.Proofs, asserted(step))
		}
	}
	return nil
}

// asserted gives the assertion of a proof.
func asserted(s *engine.Step) engine.Line {
	return engine.Line{SQL: s.Proof.SQL, Asserts: true,
		Otherwise: strings.Replace(s.Proof.Message, "%d rows", "rows", 1) + "; the first"}
}

// fileRows gives the rows of a file as statements.
func fileRows(l *engine.Load, insert string) (list []engine.Line, err error) {
	f := &csvfile.File{Path: l.Path, Sum: l.Sum}
	err = f.Rows(l.Types, func(_ int, values []any) error {
		list = append(list, engine.Line{SQL: engine.Bind(insert, values), Counts: true})
		return nil
	})
	return list, err
}

// parts writes the units of a run.
func (w *writing) parts(ctx context.Context) (parts []engine.Part, err error) {
	units := plan.Units(w.run.steps)
	if len(units) == 0 {
		units = [][]*engine.Step{nil}
	}
	opening, err := sent(func(tx engine.Tx) error { return w.open(ctx, tx, w.run) })
	if err != nil {
		return nil, err
	}
	for i, unit := range apartLoads(units) {
		begin := slices.Clone(w.mustBeat(ctx))
		if i == 0 {
			begin = append(begin, opening...)
		}
		var part engine.Part
		if len(unit) == 1 && (unit[0].Batch != nil || unit[0].Outside != nil || unit[0].Load != nil) {
			part, err = w.single(ctx, unit[0], begin)
		} else {
			part, err = w.together(ctx, unit, begin)
		}
		if err != nil {
			return nil, err
		}
		parts = append(parts, part)
	}
	end, err := w.end(ctx)
	if err != nil {
		return nil, err
	}
	last := &parts[len(parts)-1]
	if unit := units[len(units)-1]; w.closes(unit) && last.Step == nil {
		last.Lines = append(last.Lines, end...)
		return parts, nil
	}
	return append(parts, engine.Part{What: "write down what it has led to", Lines: append(w.mustBeat(ctx), end...)}), nil
}

// mustBeat gives the assertion that the script is the one runner still.
func (w *writing) mustBeat(ctx context.Context) []engine.Line {
	list, _ := w.beat(ctx) // which only writes lines
	return list
}

// apartLoads lets each step that reads a file be a unit of its own.
func apartLoads(units [][]*engine.Step) (list [][]*engine.Step) {
	for _, unit := range units {
		from := 0
		for i, s := range unit {
			if s.Load == nil {
				continue
			}
			if i > from {
				list = append(list, unit[from:i])
			}
			list = append(list, unit[i:i+1])
			from = i + 1
		}
		if from < len(unit) || len(unit) == 0 {
			list = append(list, unit[from:])
		}
	}
	return list
}

// what says which step of how many one is.
func (w *writing) what(s *engine.Step) string {
	return fmt.Sprintf("step %d of %d: %s", s.Number, len(w.run.steps), s.What)
}

// keeps records what a step keeps.
func (w *writing) keeps(ctx context.Context, tx engine.Tx, s *engine.Step) error {
	record := w.run.record
	for _, k := range s.Keeps {
		if err := ledger.KeepSince(ctx, tx, record.Version, record.Direction, record.Checksum, k,
			string(engine.Moment)); err != nil {
			return err
		}
	}
	return nil
}

// letsGo records what is kept no more behind it.
func (w *writing) letsGo(ctx context.Context, tx engine.Tx, s *engine.Step) error {
	for _, kept := range s.PutsBack {
		if err := ledger.LetGo(ctx, tx, kept); err != nil {
			return err
		}
	}
	return nil
}

// single writes a step that is a unit of its own.
func (w *writing) single(ctx context.Context, s *engine.Step, begin []engine.Line) (engine.Part, error) {
	version, direction := w.run.record.Version, w.run.record.Direction
	part := engine.Part{What: w.what(s), Step: s, Options: engine.TxOptions{LockWait: w.LockWait}}
	begun, err := sent(func(tx engine.Tx) error { return ledger.ScriptStepBegun(ctx, tx, version, direction, s.Number) },
		func(tx engine.Tx) error { return w.keeps(ctx, tx, s) })
	if err != nil {
		return part, err
	}
	part.Begun = append(begin, begun...)
	done, err := sent(func(tx engine.Tx) error { return w.letsGo(ctx, tx, s) },
		func(tx engine.Tx) error { return ledger.ScriptStepDone(ctx, tx, version, direction, s.Number) })
	if err != nil {
		return part, err
	}
	part.Lines = append(w.mustBeat(ctx), done...)
	switch {
	case s.Batch != nil:
		if part.Save, err = sent(func(tx engine.Tx) error {
			return ledger.ScriptCheckpoint(ctx, tx, version, direction, s.Number)
		}); err != nil {
			return part, err
		}
		if !w.db.Loops() {
			part.Ranges, err = w.ranges(ctx, s)
		}
	case s.Load != nil:
		rows, err := fileRows(s.Load, s.Load.Insert)
		if err != nil {
			return part, err
		}
		part.Begun = append(part.Begun, w.statements(s)...)
		part.Begun = append(part.Begun, rows...)
	}
	return part, err
}

// scriptBatch is how many rows a batch has that is written out, and atOnce how many may be written in one batch while
// applications wait.
const (
	scriptBatch = 2000
	atOnce      = 10 * scriptBatch
)

// ranges gives the batches of a step by the keys of now. What is not there yet, or has another name, has one.
func (w *writing) ranges(ctx context.Context, s *engine.Step) ([]engine.KeyRange, error) {
	list, err := backfill.Ranges(ctx, w.DB, s.Batch, scriptBatch)
	if err == nil || ctx.Err() != nil {
		return list, err
	}
	if w.Live && s.Rows > atOnce {
		return nil, noScript(fmt.Errorf("%s: an earlier step makes or renames its table, so that its batches cannot be "+
			"written out, and applications would wait for all of it", w.what(s)))
	}
	return nil, nil
}

// statements gives those of a step, in their order.
func (w *writing) statements(s *engine.Step) (list []engine.Line) {
	for _, m := range s.Mend { // a script puts rows right before it finds out whether it has to
		if !strings.HasPrefix(m, "select ") {
			list = append(list, engine.Line{SQL: m})
		}
	}
	for _, sql := range s.SQL {
		l := engine.Line{SQL: sql, Equal: s.Equal, Counts: s.Kind == engine.Backfill || s.Kind == engine.Rebuild}
		if l.Asserts = !s.Native && strings.HasPrefix(sql, "select "); l.Asserts {
			l.Equal, l.Counts = false, false
		}
		list = append(list, l)
	}
	return list
}

// together writes steps that share a transaction.
func (w *writing) together(ctx context.Context, unit []*engine.Step, begin []engine.Line) (engine.Part, error) {
	version, direction := w.run.record.Version, w.run.record.Direction
	part := engine.Part{Lines: begin, Options: w.options(unit)}
	var what []string
	for _, s := range unit {
		what = append(what, w.what(s))
		begun, err := sent(func(tx engine.Tx) error { return w.keeps(ctx, tx, s) },
			func(tx engine.Tx) error { return w.letsGo(ctx, tx, s) })
		if err != nil {
			return part, err
		}
		part.Lines = append(part.Lines, engine.Line{Begins: w.what(s)})
		part.Lines = append(part.Lines, begun...)
		switch {
		case s.Proof != nil && !s.Early:
			part.Lines = append(part.Lines, asserted(s))
		case s.Proof == nil:
			part.Lines = append(part.Lines, w.statements(s)...)
		}
		done, err := sent(func(tx engine.Tx) error { return ledger.ScriptStepDone(ctx, tx, version, direction, s.Number) })
		if err != nil {
			return part, err
		}
		part.Lines = append(part.Lines, done...)
	}
	part.What = strings.Join(what, "\n")
	return part, nil
}

// end writes down what the run has led to.
func (w *writing) end(ctx context.Context) ([]engine.Line, error) {
	record := *w.run.record
	var wanted schema.Delta
	if err := ledger.Decode(record.Wanted, &wanted); err != nil {
		return nil, err
	}
	if record.State = w.run.end(); record.Direction == ledger.Advance {
		record.AdvancedAt = string(engine.Moment)
	}
	if record.State == ledger.Settled {
		record.SettledAt = string(engine.Moment)
	}
	return sent(
		func(tx engine.Tx) error { return w.tables.saveChanged(ctx, tx, w.plan.After, &wanted, nil) },
		func(tx engine.Tx) error {
			return ledger.ScriptRecord(ctx, tx, record.Version, record.Direction, done[record.Direction],
				plan.Seconds(w.run.steps, w.Engine.About()))
		},
		func(tx engine.Tx) error {
			if record.State == ledger.Waiting {
				return ledger.Forget(ctx, tx, record.Version)
			}
			return errors.Join(ledger.ForgetFacts(ctx, tx, record.Version), ledger.Put(ctx, tx, &record))
		},
	)
}
