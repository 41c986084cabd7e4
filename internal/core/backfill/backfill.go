// Package backfill walks a table in batches by key range, each its own
// transaction that holds the new values, the old ones to keep, and the
// checkpoint: so every row is done exactly once whatever happens.
//
// It must never hold more than one batch in memory, and never skip a checkpoint.
package backfill

import (
	"context"
	"errors"
	"math"
	"time"

	"lastboard/internal/engine"
	"lastboard/internal/mishap"
)

// Pace is how hard a backfill may work.
type Pace struct {
	// BatchTime is what one batch may take; batches grow and shrink to meet it.
	BatchTime time.Duration
	// Stretch is for how long a batch may work without a pause: where processors are few,
	// others wait for theirs meanwhile. 0 means that a batch is one stretch.
	Stretch time.Duration
	// Rest is the shortest pause between batches; 0 means none at all.
	Rest time.Duration
	// Pause is how long a pause is against the stretch or the batch before it, if that is
	// longer.
	Pause float64
	// Limit is what one statement of a batch may take; a batch that takes longer is given up,
	// and tried with fewer rows. 0 means that it may take any time.
	Limit time.Duration
	// Flush is how much longer than the shortest one the commit of a batch may take, as
	// what others commit waits for the same log: large batches shrink to meet it. 0 means
	// that it does not matter.
	Flush float64
}

// Resting gives the pace with other pauses: the shorter they are, the longer are its
// stretches.
func (p Pace) Resting(pause float64) Pace {
	switch {
	case pause == 0:
		p.Stretch = 0
	case pause < p.Pause:
		p.Stretch = time.Duration(float64(p.Stretch) * p.Pause / pause)
	}
	p.Pause = pause
	return p
}

// How many rows the first batch takes before any has been timed, and the first stretch of
// one that may not work for long.
const (
	firstBatch   = 200
	firstStretch = 100
)

// fewestFlushed is the least batch to which slow commits shrink one.
const fewestFlushed = 1000

// mostAhead bounds how many keys are read before their rows are done.
const mostAhead = 2000

// fewest is how many rows are done at once at least, unless they take far longer than they
// may: for fewer the statement alone would take most of the time.
const fewest = 30

// longTime is what so few rows take only where each takes long.
const longTime = 20 * time.Millisecond

// floor gives the least number of rows, where the last ones took some time.
func floor(took, batch time.Duration) int {
	if took > max(2*batch, longTime) {
		return 1
	}
	return fewest
}

// maxBatch bounds a batch, so that a stop is never far away.
const maxBatch = 500_000

// slowTries is how often one row by itself is tried before it is called too slow: the machine
// may have been busy. The pause before each is longer by firstSlowRest.
const (
	slowTries     = 3
	firstSlowRest = 100 * time.Millisecond
)

// longestWay bounds for how long one batch gives way to others.
const longestWay = 10 * time.Minute

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
	// Begin starts a transaction and asserts that this is still the one runner. A batch of
	// one row alone may wait for it: it keeps nobody waiting who does not wait for that row.
	Begin func(ctx context.Context, alone bool) (engine.Tx, error)
	// GaveWay hears of a batch that was given up for others, and how often it was.
	GaveWay func(times int, busy *engine.Busy)
	// TooSlow hears of a batch that was given up since it took too long.
	TooSlow func(rows int, slow *engine.Slow)
	// Save records a checkpoint in the batch's transaction.
	Save func(ctx context.Context, tx engine.Tx, c Checkpoint) error
	// Done hears of each batch after its commit: rows done in all, and the time it
	// held its locks.
	Done func(rows int64, held, commit time.Duration)
}

// Run does the batches from a checkpoint on; the zero Checkpoint begins. It ends
// after the row that had the greatest key when it began. A cancelled context
// stops it between two batches, with the context's error.
func Run(ctx context.Context, b *engine.Batch, from Checkpoint, h Hooks) (Checkpoint, error) {
	if from.Upper != "" && from.Last == from.Upper {
		return from, nil
	}
	size, most, gaveWay, slowRow := 0, maxBatch, 0, 0
	var since time.Time                      // it gives way
	shortest := time.Duration(math.MaxInt64) // of the commits
	for {
		pace, err := h.Pace(ctx)
		if err != nil {
			return from, err
		}
		if err := ctx.Err(); err != nil {
			return from, err
		}
		switch {
		case size > 0:
		case pace.Stretch > 0:
			size = firstStretch
		default:
			size = firstBatch
		}
		one := batch{Batch: b, pace: pace, size: size, most: most, from: from}
		err = one.run(ctx, h)
		var slow *engine.Slow
		if errors.As(err, &slow) {
			if one.size == 1 {
				if slowRow++; slowRow == slowTries {
					return from, err
				}
				rest(ctx, time.Duration(slowRow)*firstSlowRest)
			}
			h.TooSlow(one.size, slow)
			size = max(one.size/8, 1)
			most = size
			continue
		}
		var busy *engine.Busy
		if errors.As(err, &busy) && (gaveWay == 0 || time.Since(since) < longestWay) {
			// The batch was given up for a transaction of somebody else's: a smaller one meets
			// fewer, and keeps less from others while it waits.
			if gaveWay == 0 {
				since = time.Now()
			}
			gaveWay++
			h.GaveWay(gaveWay, busy)
			size = max(min(one.keys+size, most)/8, 1)
			most = size
			rest(ctx, min(time.Duration(gaveWay)*20*time.Millisecond, longestRest))
			continue
		}
		if err != nil {
			return from, err
		}
		gaveWay, slowRow, most = 0, 0, min(2*most, maxBatch)
		mishap.Place("batch-committed")
		from = one.from
		if one.keys == 0 {
			return from, nil // there are no rows at all
		}
		h.Done(from.Rows, one.held, one.commit)
		if from.Last == from.Upper {
			return from, nil
		}
		shortest = min(shortest, one.commit)
		size = one.size
		if pace.Stretch == 0 {
			size = resize(size, one.held, one.took, pace.BatchTime)
		}
		if pace.Flush > 0 { // the commit of a small one takes what the disk takes
			bound := time.Duration(pace.Flush * float64(max(shortest, time.Millisecond)))
			most = min(most, max(resize(one.keys, one.commit, 0, bound), fewestFlushed))
		}
		size = min(size, most)
		if pace.Rest > 0 {
			rest(ctx, max(pace.Rest, time.Duration(pace.Pause*float64(one.worked))))
		}
	}
}

// longestRest bounds the pause before a batch that gave way is tried again.
const longestRest = time.Second

// resize aims at the time that a batch may take, carefully upwards.
// took is what the rows alone took of it.
func resize(size int, held, took, want time.Duration) int {
	factor := float64(want) / float64(max(held, time.Microsecond))
	factor = min(max(factor, 0.25), 2)
	return min(max(int(float64(size)*factor), floor(took, want)), maxBatch)
}

// nudge aims at the time that most stretches take: one in a while is held up by others,
// and says nothing of its size.
func nudge(size int, took, want, batch time.Duration) int {
	if took > want {
		return max(size*7/8, floor(took, batch))
	}
	return min(size+max(size/7, 1), maxBatch)
}

func rest(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	}
}
