// Package backfill walks a table in batches by key range, each its own
// transaction that holds the new values, the old ones to keep, and the
// checkpoint: so every row is done exactly once whatever happens.
//
// It must never hold more than one batch in memory, and never skip a checkpoint.
package backfill

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"lastboard/internal/core/mishap"
	"lastboard/internal/engine"
)

// Pace is how hard a backfill may work.
type Pace struct {
	// BatchTime is what one batch may take; batches grow and shrink to meet it.
	BatchTime time.Duration
	// Rest is the shortest pause between batches; 0 means none at all.
	Rest time.Duration
	// Share is how long a pause is against the batch before it, if that is longer.
	Share float64
	// Flush is how much longer than the shortest one the commit of a batch may take, as
	// what others commit waits for the same log: large batches shrink to meet it. 0 means
	// that it does not matter.
	Flush float64
}

// firstBatch is how many rows the first batch takes, before any has been timed.
const firstBatch = 1000

// maxBatch bounds a batch, so that a stop is never far away.
const maxBatch = 500_000

// mostGivenWay bounds how often one batch gives way to others.
const mostGivenWay = 30

// Checkpoint is how far a backfill is. Keys are as [EncodeKey] writes them.
type Checkpoint struct {
	Last, Upper string
	Rows        int64
}

// Hooks are what a run does around the batches.
type Hooks struct {
	// Pace gives how hard the next batches may work; it is called before each, and holds
	// for as long as none may be done.
	Pace func(ctx context.Context) (Pace, error)
	// Begin starts a transaction and asserts that this is still the one runner.
	Begin func(ctx context.Context) (engine.Tx, error)
	// Save records a checkpoint in the batch's transaction.
	Save func(ctx context.Context, tx engine.Tx, c Checkpoint) error
	// Done hears of each batch after its commit: rows done in all, and the time it
	// held its locks.
	Done func(rows int64, held time.Duration)
}

// Run does the batches from a checkpoint on; the zero Checkpoint begins. It ends
// after the row that had the greatest key when it began. A cancelled context
// stops it between two batches, with the context's error.
func Run(ctx context.Context, b *engine.Batch, from Checkpoint, h Hooks) (Checkpoint, error) {
	size, gaveWay := firstBatch, 0
	shortest := time.Duration(math.MaxInt64) // of the commits
	for {
		pace, err := h.Pace(ctx)
		if err != nil {
			return from, err
		}
		if err := ctx.Err(); err != nil {
			return from, err
		}
		started := time.Now()
		next, commit, err := one(ctx, b, from, size, h)
		var busy *engine.Busy
		if errors.As(err, &busy) && gaveWay < mostGivenWay {
			// The batch was given up for a transaction of somebody else's: a smaller one meets
			// fewer.
			gaveWay++
			size = max(size/2, 1)
			rest(ctx, time.Duration(gaveWay)*20*time.Millisecond)
			continue
		}
		if err != nil {
			return from, err
		}
		gaveWay = 0
		held := time.Since(started)
		mishap.Place("batch-committed")
		from = next
		if commit == 0 {
			return from, nil
		}
		h.Done(from.Rows, held)
		shortest = min(shortest, commit)
		wanted := resize(size, held, pace.BatchTime)
		if pace.Flush > 0 { // the commit of a small one takes what the disk takes
			bound := time.Duration(pace.Flush * float64(max(shortest, time.Millisecond)))
			wanted = min(wanted, max(resize(size, commit, bound), firstBatch))
		}
		size = wanted
		if pace.Rest > 0 {
			rest(ctx, max(pace.Rest, time.Duration(pace.Share*float64(held))))
		}
	}
}

// resize aims at the time that a batch may take, carefully upwards.
func resize(size int, held, want time.Duration) int {
	factor := float64(want) / float64(max(held, time.Millisecond))
	factor = min(max(factor, 0.25), 2)
	return min(max(int(float64(size)*factor), 50), maxBatch)
}

func rest(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	}
}

// one does one batch in one transaction, and gives the time that its commit took; 0 means
// that there was nothing to do any more.
func one(ctx context.Context, b *engine.Batch, from Checkpoint, size int, h Hooks) (Checkpoint, time.Duration, error) {
	tx, err := h.Begin(ctx)
	if err != nil {
		return from, 0, err
	}
	defer tx.Rollback()
	next := from
	if next.Upper == "" {
		upper, err := key(ctx, tx, b.Upper)
		if err != nil {
			return from, 0, err
		}
		if upper == nil {
			return from, 0, tx.Commit() // no rows at all
		}
		if next.Upper, err = EncodeKey(upper); err != nil {
			return from, 0, err
		}
	}
	condition, args, err := keyRange(b, next.Last, next.Upper)
	if err != nil {
		return from, 0, err
	}
	last, err := key(ctx, tx, strings.ReplaceAll(b.Next, engine.Range, condition), append(args, int64(size))...)
	if err != nil {
		return from, 0, err
	}
	if last == nil {
		return next, 0, tx.Commit()
	}
	end, err := EncodeKey(last)
	if err != nil {
		return from, 0, err
	}
	condition, args, err = keyRange(b, next.Last, end)
	if err != nil {
		return from, 0, err
	}
	var changed int64
	for _, sql := range b.Do {
		n, err := do(ctx, tx, sql, condition, args)
		if err != nil {
			return from, 0, fmt.Errorf("in the batch of %s: %w", between(next.Last, end), err)
		}
		if strings.Contains(sql, engine.Range) {
			changed = n // the last one says what was done
		}
		mishap.Place("batch-statement")
	}
	next.Last = end
	next.Rows += changed
	if err := h.Save(ctx, tx, next); err != nil {
		return from, 0, err
	}
	mishap.Place("batch-before-commit")
	began := time.Now()
	err = tx.Commit()
	return next, max(time.Since(began), 1), err
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

// key runs a query that gives one key, or none.
func key(ctx context.Context, tx engine.Tx, sql string, args ...any) ([]any, error) {
	rows, err := tx.Query(ctx, sql, args...)
	if err != nil || len(rows.Values) == 0 {
		return nil, err
	}
	return rows.Values[0], nil
}

// keyRange gives the condition that a key is above last, when there is one, and
// not above upper.
func keyRange(b *engine.Batch, last, upper string) (string, []any, error) {
	keys := b.Keys
	if b.Apart && len(keys) > 1 {
		return apart(keys, last, upper)
	}
	left, mark := keys[0], "?"
	if len(keys) > 1 {
		left = "(" + strings.Join(keys, ", ") + ")"
		mark = "(" + strings.TrimSuffix(strings.Repeat("?, ", len(keys)), ", ") + ")"
	}
	high, err := DecodeKey(upper)
	if err != nil {
		return "", nil, err
	}
	if last == "" {
		return left + " <= " + mark, high, nil
	}
	low, err := DecodeKey(last)
	if err != nil {
		return "", nil, err
	}
	return left + " > " + mark + " and " + left + " <= " + mark, append(low, high...), nil
}

// apart gives the condition with each column of the key compared for itself, for an
// engine that finds no range of an index by several at once.
func apart(keys []string, last, upper string) (string, []any, error) {
	condition, args, err := side(keys, "<", " <= ?", upper)
	if err != nil || last == "" {
		return condition, args, err
	}
	above, low, err := side(keys, ">", " > ?", last)
	return above + " and " + condition, append(low, args...), err
}

// side compares a key with one value: strictly in all columns but the last, which has
// its own comparison.
func side(keys []string, strict, end, value string) (string, []any, error) {
	values, err := DecodeKey(value)
	if err != nil {
		return "", nil, err
	}
	n := len(keys) - 1
	condition := keys[n] + end
	args := []any{values[n]}
	for i := n - 1; i >= 0; i-- {
		condition = keys[i] + " " + strict + " ? or " + keys[i] + " = ? and (" + condition + ")"
		args = append([]any{values[i], values[i]}, args...)
	}
	return "(" + condition + ")", args, nil
}

// EncodeKey writes a key as text that keeps the type of each value.
func EncodeKey(values []any) (string, error) {
	list := make([][2]string, len(values))
	for i, v := range values {
		switch v := v.(type) {
		case int64:
			list[i] = [2]string{"int", strconv.FormatInt(v, 10)}
		case float64:
			list[i] = [2]string{"real", strconv.FormatFloat(v, 'g', -1, 64)}
		case string:
			list[i] = [2]string{"text", v}
		case []byte:
			list[i] = [2]string{"blob", base64.StdEncoding.EncodeToString(v)}
		case bool:
			list[i] = [2]string{"bool", strconv.FormatBool(v)}
		default:
			return "", fmt.Errorf("a key holds %v, which is no key", v)
		}
	}
	data, err := json.Marshal(list)
	return string(data), err
}

// DecodeKey reads what [EncodeKey] wrote.
func DecodeKey(text string) ([]any, error) {
	var list [][2]string
	if err := json.Unmarshal([]byte(text), &list); err != nil {
		return nil, fmt.Errorf("the checkpoint %q: %w", text, err)
	}
	values := make([]any, len(list))
	var err error
	for i, v := range list {
		switch v[0] {
		case "int":
			values[i], err = strconv.ParseInt(v[1], 10, 64)
		case "real":
			values[i], err = strconv.ParseFloat(v[1], 64)
		case "blob":
			values[i], err = base64.StdEncoding.DecodeString(v[1])
		case "bool":
			values[i], err = strconv.ParseBool(v[1])
		default:
			values[i] = v[1]
		}
		if err != nil {
			return nil, fmt.Errorf("the checkpoint %q: %w", text, err)
		}
	}
	return values, nil
}
