package run

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
)

// Prove runs the proofs that need nothing of the steps before them. It gives the
// numbers of those that hold; the error is a refusal with the rows that break the
// first that does not.
func Prove(ctx context.Context, db engine.Database, p *plan.Plan) (map[int]bool, error) {
	proven := map[int]bool{}
	for _, s := range p.Steps {
		if !s.Early {
			continue
		}
		f, err := Check(ctx, db, s)
		if err != nil {
			return nil, err
		}
		if f != nil && p.Migration != nil {
			f = plan.Place(p.Migration, s, f)
		}
		if f != nil {
			return nil, f
		}
		proven[s.Number] = true
	}
	return proven, nil
}

// writable tries whether the triggers of tables let rows be written, where what a run has done by
// then could not be taken back with that. Each try is taken back.
func (r *Runner) writable(ctx context.Context, p *plan.Plan) error {
	if len(plan.Units(p.Steps)) < 2 {
		return nil
	}
	for _, s := range p.Steps {
		if s.Try == "" {
			continue
		}
		_, err := r.again(ctx, nil, func() error {
			tx, err := r.DB.Begin(ctx, engine.TxOptions{LockWait: r.LockWait})
			if err != nil {
				return err
			}
			defer tx.Rollback()
			_, err = tx.Exec(ctx, s.Try)
			return err
		})
		if err == nil {
			continue
		}
		var busy *engine.Busy
		var cannot *engine.CannotOpen
		if errors.As(err, &busy) || errors.As(err, &cannot) || ctx.Err() != nil {
			return err
		}
		f := fault.New(fault.Refused, "row-not-written",
			"mend the trigger, or drop it while this runs: your own triggers act on rows that a run writes",
			"a row of %s cannot be written: %v", s.Table, err)
		f.Step, f.Err = s.Number, err
		return f
	}
	return nil
}

// Check runs the proof of a step, if it can run before anything is changed. A
// fault is what it found.
func Check(ctx context.Context, db engine.Database, s *engine.Step) (*fault.Fault, error) {
	if !s.Early {
		return nil, nil
	}
	return check(ctx, db.Query, s)
}

// check runs one proof; a fault is what it found.
func check(ctx context.Context, query func(context.Context, string, ...any) (*engine.Rows, error),
	s *engine.Step) (*fault.Fault, error) {
	rows, err := query(ctx, s.Proof.SQL)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.What, err)
	}
	if len(rows.Values) == 0 {
		return nil, nil
	}
	count, err := query(ctx, s.Proof.Count)
	if err != nil {
		return nil, err
	}
	f := fault.New(fault.Refused, s.Proof.Rule, s.Proof.Cure, "%s", s.Proof.Message)
	if s.Proof.Table != "" {
		f.Message = strings.ReplaceAll(fmt.Sprintf(s.Proof.Message, whole(count.Values[0][0])), " 1 rows", " 1 row")
		for _, v := range rows.Values {
			f.Samples = append(f.Samples, sampleRow(v))
		}
	}
	f.Step = s.Number
	return f, nil
}

// whole gives a count, which an engine may give as text.
func whole(v any) int64 {
	switch v := v.(type) {
	case int64:
		return v
	case string:
		n, _ := strconv.ParseInt(v, 10, 64)
		return n
	}
	return 0
}

func sampleRow(values []any) []string {
	row := make([]string, len(values))
	for i, v := range values {
		switch v := v.(type) {
		case nil:
			row[i] = "null"
		case []byte:
			row[i] = fmt.Sprintf("x'%x'", v)
		case string:
			row[i] = "'" + v + "'"
		default:
			row[i] = fmt.Sprint(v)
		}
	}
	return row
}
