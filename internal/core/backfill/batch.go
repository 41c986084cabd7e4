package backfill

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/mishap"
)

// batch is one batch at work.
type batch struct {
	*engine.Batch
	pace Pace
	size int // rows of the next stretch
	most int // rows of the batch
	from Checkpoint

	ahead [][]any // the keys of the rows that come, where they are read at once
	last  bool    // those are all

	keys         int           // rows that it has looked at
	took         time.Duration // for the rows of its last stretch
	worked       time.Duration // since its last pause
	held, commit time.Duration
}

// run does it in one transaction, in stretches with pauses between them.
func (b *batch) run(ctx context.Context, h Hooks) error {
	started := time.Now()
	tx, err := h.Begin(ctx, b.most == 1)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	next := b.from
	if next.Upper == "" {
		upper, err := tx.Query(ctx, b.Upper)
		if err != nil {
			return err
		}
		if len(upper.Values) == 0 {
			return tx.Commit()
		}
		if next.Upper, err = EncodeKey(upper.Values[0]); err != nil {
			return err
		}
	}
	since := started // its last pause
	for {
		rows := b.size
		if next, err = b.stretch(ctx, tx, next); err != nil {
			return err
		}
		b.keys += rows
		if b.pace.Stretch == 0 {
			break
		}
		b.size = nudge(rows, b.took, b.pace.Stretch, b.pace.BatchTime)
		pause := max(time.Duration(b.pace.Pause*float64(b.took)), shortestPause)
		if next.Last == next.Upper || b.keys >= b.most || time.Since(started)+pause+b.took > b.pace.BatchTime {
			break
		}
		rest(ctx, pause)
		since = time.Now()
	}
	if err := h.Save(ctx, tx, next); err != nil {
		return err
	}
	mishap.Place("batch-before-commit")
	saved := time.Now()
	if err := tx.Commit(); err != nil {
		return err
	}
	b.from, b.held, b.commit, b.worked = next, time.Since(started), time.Since(saved), time.Since(since)
	return nil
}

// shortestPause is the least for which a batch lets others go on.
const shortestPause = time.Millisecond

// stretch does the next rows.
func (b *batch) stretch(ctx context.Context, tx engine.Tx, from Checkpoint) (Checkpoint, error) {
	end, err := b.end(ctx, tx, from)
	if err != nil {
		return from, err
	}
	condition, args, err := keyRange(b.Batch, from.Last, end)
	if err != nil {
		return from, err
	}
	var changed int64
	began := time.Now()
	if b.Hold != "" && b.most == 1 {
		if _, err := tx.Query(ctx, strings.ReplaceAll(b.Hold, engine.Range, condition), args...); err != nil {
			return from, err
		}
	}
	var tally engine.Tally
	turn := strconv.FormatInt(began.UnixNano(), 10)
	for _, sql := range b.Do {
		n, err := do(ctx, tx, strings.ReplaceAll(sql, engine.Turn, turn), condition, args)
		if err != nil {
			return from, fmt.Errorf("in the batch of %s: %w", between(from.Last, end), err)
		}
		if strings.Contains(sql, engine.Range) {
			changed = n // the last one says what was done
		}
		if b.Equal {
			if err := tally.Add(sql, n); err != nil {
				return from, err
			}
		}
		mishap.Place("batch-statement")
	}
	b.took = time.Since(began)
	return Checkpoint{Last: end, Upper: from.Upper, Rows: from.Rows + changed}, nil
}

// end gives the key of the last row of the next stretch: the greatest of all when not so
// many are left.
func (b *batch) end(ctx context.Context, tx engine.Tx, from Checkpoint) (string, error) {
	if b.pace.Stretch > 0 && b.Ahead != "" {
		return b.endAhead(ctx, tx, from)
	}
	list, err := b.look(ctx, tx, b.Next, from, b.size-1)
	if err != nil || len(list) == 0 {
		return from.Upper, err
	}
	return EncodeKey(list[0])
}

// endAhead does so for one of many short stretches: their keys are read at once.
func (b *batch) endAhead(ctx context.Context, tx engine.Tx, from Checkpoint) (string, error) {
	if len(b.ahead) == 0 {
		stretches := float64(b.pace.BatchTime) / (float64(b.pace.Stretch) * (1 + b.pace.Pause))
		rows := min(max(int(float64(b.size)*stretches), b.size), b.most, mostAhead)
		var err error
		if b.ahead, err = b.look(ctx, tx, b.Ahead, from, rows); err != nil {
			return "", err
		}
		b.last = len(b.ahead) < rows
	}
	n := min(b.size, len(b.ahead))
	if b.last && n == len(b.ahead) {
		return from.Upper, nil
	}
	end := b.ahead[n-1]
	b.ahead = b.ahead[n:]
	return EncodeKey(end)
}

// look asks for keys above those that are done.
func (b *batch) look(ctx context.Context, tx engine.Tx, sql string, from Checkpoint, rows int) ([][]any, error) {
	condition, args, err := keyRange(b.Batch, from.Last, from.Upper)
	if err != nil {
		return nil, err
	}
	found, err := tx.Query(ctx, strings.ReplaceAll(sql, engine.Range, condition), append(args, int64(rows))...)
	if err != nil {
		return nil, err
	}
	return found.Values, nil
}

// between says which keys a batch is of: above the first, when there is one, up to the
// second.
func between(last, end string) string {
	show := func(key string) string {
		values, err := DecodeKey(key)
		if err != nil {
			return key
		}
		return strings.Trim(fmt.Sprint(values), "[]")
	}
	if last == "" {
		return "keys up to " + show(end)
	}
	return "keys above " + show(last) + " up to " + show(end)
}

// do runs one statement of a batch. A select gives a row only when something is
// wrong, and its first column says what.
func do(ctx context.Context, tx engine.Tx, sql, condition string, args []any) (int64, error) {
	if !strings.Contains(sql, engine.Range) {
		args = nil
	}
	sql = strings.ReplaceAll(sql, engine.Range, condition)
	if !strings.HasPrefix(sql, "select ") {
		return tx.Exec(ctx, sql, args...)
	}
	found, err := tx.Query(ctx, sql, args...)
	if err == nil && len(found.Values) > 0 {
		err = fmt.Errorf("%v", found.Values[0][0])
	}
	return 0, err
}
