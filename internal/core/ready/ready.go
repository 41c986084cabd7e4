// Package ready says whether a project can work on a database: what a run depends on, each thing
// with how it stands and what to do about it. Nothing is changed.
package ready

import (
	"context"
	"fmt"
	"time"

	"lastboard/internal/core/describe"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
)

// Input is what is looked at.
type Input struct {
	DB     engine.Database
	Ledger *ledger.Ledger
	// Old is how old, at least, a transaction is that would hold a backfill up.
	Old time.Duration
	// Here means that the ledger stands in the database itself where it would have one of its own.
	Here bool
	// Wrong says what it means that a thing could not be looked at.
	Wrong func(what string, err error) []engine.Standing
}

// Look gives how everything stands, the most basic things first.
func Look(ctx context.Context, in Input) (list []engine.Standing) {
	for _, look := range []struct {
		what string
		look func(context.Context, Input) ([]engine.Standing, error)
	}{{"database", database}, {"tables", space}, {"transactions", held}, {"ledger", records}} {
		found, err := look.look(ctx, in)
		if err != nil {
			found = in.Wrong(look.what, err)
		}
		list = append(list, found...)
	}
	return list
}

func database(ctx context.Context, in Input) ([]engine.Standing, error) { return in.DB.Ready(ctx) }

// space says how much a step needs that copies the largest table.
func space(ctx context.Context, in Input) ([]engine.Standing, error) {
	if in.DB.Info().Missing {
		return nil, nil
	}
	tables, err := in.DB.Schema(ctx)
	if err != nil {
		return nil, err
	}
	list, err := describe.Tables(ctx, in.DB, tables)
	if err != nil {
		return nil, err
	}
	s := engine.Standing{What: "tables", Found: "there is none"}
	var largest *describe.Table
	for _, t := range list {
		if largest == nil || t.Bytes > largest.Bytes {
			largest = t
		}
	}
	if largest != nil {
		s.Found = fmt.Sprintf("the largest, %s, has %s: a step that copies it needs as much again, free", largest.Table.Name,
			engine.Size(largest.Bytes))
	}
	return []engine.Standing{s}, nil
}

// held names transactions for which a backfill would hold.
func held(ctx context.Context, in Input) ([]engine.Standing, error) {
	pressed, ok := in.DB.(engine.Pressed)
	if !ok {
		return nil, nil
	}
	p, err := pressed.Pressure(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, s := range p.Old {
		if s.Since >= in.Old {
			return []engine.Standing{{What: "transactions", Level: engine.Look, Found: "an old one is open: " + s.String(),
				Cure: "end it, or wait: a backfill holds while it lasts, and no version of a row that it may read goes"}}, nil
		}
	}
	return []engine.Standing{{What: "transactions", Found: "none is older than " + minutes(in.Old)}}, nil
}

// minutes writes a bound as people say it.
func minutes(d time.Duration) string {
	if d >= time.Minute && d%time.Minute == 0 {
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return d.String()
}

// records says what the ledger knows, and what crashed runs left behind.
func records(ctx context.Context, in Input) ([]engine.Standing, error) {
	exists, err := in.Ledger.Exists(ctx)
	if err != nil {
		return nil, err
	}
	s := engine.Standing{What: "ledger"}
	if !exists {
		s.Found = "there is none yet: adopt takes existing tables under care, advance runs migrations"
		return []engine.Standing{s}, nil
	}
	known, err := in.Ledger.Migrations(ctx)
	if err != nil {
		return nil, err
	}
	if s.Found = fmt.Sprintf("%d migrations have run", len(known)); len(known) == 1 {
		s.Found = "1 migration has run"
	}
	alive, err := in.Ledger.Runner(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range known {
		if alive == nil && (k.State == ledger.Running || k.State == ledger.Stopped) {
			s.Level, s.Found = engine.Look, "migration "+k.Version+" has stopped in the middle"
			s.Cure = "lastboard " + k.Direction + " goes on with it"
		}
	}
	list := []engine.Standing{s}
	if in.Here {
		list = append(list, engine.Standing{What: "ledger", Level: engine.Look,
			Found: "it stands in the database itself: whoever may write to that may write what is gone on with and taken " +
				"back by",
			Cure: "let the account make the database lastboard_NAME, and delete the line ledger = \"here\""})
	}
	if alive != nil {
		return append(list, engine.Standing{What: "runner", Level: engine.Look, Found: alive.String() + " is at work",
			Cure: "wait until it is done; lastboard follow shows it"}), nil
	}
	left, _, err := in.Ledger.Left(ctx)
	if err != nil {
		return nil, err
	}
	dead, err := in.Ledger.Dead(ctx)
	if err != nil {
		return nil, err
	}
	if dead != nil || len(left) > 0 {
		what := "a claim"
		if len(left) > 0 {
			what = left[0].Kind + " " + left[0].Name
		}
		list = append(list, engine.Standing{What: "leftovers", Level: engine.Look, Found: "a crashed run left behind " + what,
			Cure: "lastboard audit --clear, or the next run, takes it away"})
	}
	return list, nil
}
