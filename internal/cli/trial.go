package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/plan"
	"lastboard/internal/core/run"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
)

// longestTrial is for how long what programs of before write can be refused.
const longestTrial = 24 * time.Hour

// try refuses for a while what programs of before write of the overlaps that tasks are to end. ends is
// set when nothing is to be done after it.
func (s *session) try(ctx context.Context, r *run.Runner, tasks []run.Task, f runFlags) (ends bool, err error) {
	t := run.Trial{Lasts: f.trial}
	tables, err := s.ledger.Tables(ctx)
	if err != nil {
		return true, err
	}
	var words, cannot []string
	for _, task := range tasks {
		opened, err := plan.OpenedBy(task.Known, task.File, s.engine)
		if err != nil {
			return true, err
		}
		t.Versions = append(t.Versions, task.Version())
		for _, w := range opened.Watched(tables) {
			can, does, not := s.refusable(w)
			words, cannot = append(words, does...), append(cannot, not...)
			if len(can.Columns) > 0 {
				t.Refused = append(t.Refused, can)
			}
		}
	}
	if len(t.Refused) == 0 {
		return true, fault.New(fault.Refused, "no-trial", "lastboard settle --check shows what can be told",
			"nothing can be refused to programs of before alone: they write by the same names as those of after")
	}
	if !s.JSON {
		s.Hanging(fmt.Sprintf("refused for %s: ", f.trial), strings.Join(words, ", "))
		if len(cannot) > 0 {
			s.Line("not refused, for it cannot be told from what programs of after write: %s", strings.Join(cannot, ", "))
		}
	}
	progress := s.NewProgress()
	t.Tick = progress.Trial
	so, err := r.Try(ctx, t)
	progress.TrialEnds()
	if err != nil {
		return true, err
	}
	if !s.JSON {
		s.Line("the trial is over: %s", so)
		s.Line("")
	}
	if f.settleAfter && so.Times > 0 {
		return true, fault.New(fault.Differs, "still-written", "lastboard settle --check shows by whom, as far as can be "+
			"told", "nothing is settled, for programs of before are still there: %s", so)
	}
	return !f.settleAfter, nil
}

// refusable gives of what a table is written by programs of before alone as much as the engine can
// refuse, and says what that is, and what it is not.
func (s *session) refusable(w *schema.WatchChange) (can *schema.WatchChange, does, not []string) {
	can = &schema.WatchChange{Table: w.Table}
	for _, c := range w.Columns {
		what := "writes of column " + c.Column + " of " + w.Table.Name
		switch {
		case c.Column == "":
			what = "writes to table " + w.Table.Name
		case c.Supplied:
			what = "inserts into " + w.Table.Name + " without " + c.Column
		}
		if on, _ := s.engine.Refuse(w.Table, []schema.Watched{c}, time.Time{}); len(on) == 0 {
			not = append(not, what)
			continue
		}
		can.Columns, does = append(can.Columns, c), append(does, what)
	}
	return can, does, not
}

// sayTrials says that what programs of before write is refused now, where that is so.
func (s *session) sayTrials(ctx context.Context) {
	own, err := s.db.Own(ctx)
	if err != nil || s.JSON {
		return // a look at something else is not to fail for that
	}
	until := map[string]time.Time{}
	var tables []string
	for _, o := range own {
		if o.Kind == "trigger" && o.Refuses.After(time.Now()) {
			if until[o.Table].IsZero() {
				tables = append(tables, o.Table)
			}
			until[o.Table] = o.Refuses
		}
	}
	for _, t := range tables {
		s.Trial(t, until[t])
	}
}

// endTrials ends trials before their time.
func (g *global) endTrials(ctx context.Context, f runFlags) error {
	s, err := g.open(ctx, engine.Read)
	if err != nil {
		return err
	}
	defer func() { s.close() }()
	if err := s.clearLeft(ctx, f); err != nil {
		return err
	}
	own, err := s.db.Own(ctx)
	if err != nil {
		return err
	}
	for _, o := range own {
		if o.Refuses.After(time.Now()) {
			return fault.New(fault.Refused, "runner-busy", "stop it there (Ctrl-C), or wait until it is over",
				"another lastboard is making the trial, until %s UTC", o.Refuses.UTC().Format(time.TimeOnly))
		}
	}
	if s.JSON {
		return showResult(s.Printer, nil, nil)
	}
	s.Line("no trial is going on")
	return nil
}

func settlingWords(f runFlags, words string) string {
	switch {
	case f.trial == 0:
		return words
	case f.settleAfter:
		return fmt.Sprintf("for %s refuse what programs of before write, then %s", f.trial, words)
	}
	return fmt.Sprintf("for %s refuse what programs of before write (a trial: %s)", f.trial, words)
}
