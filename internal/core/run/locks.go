package run

import (
	"context"
	"errors"
	"math/rand/v2"
	"strings"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/engine"
)

// begin starts a transaction, as often as it takes.
func (r *Runner) begin(ctx context.Context, o engine.TxOptions) (tx engine.Tx, tries int, err error) {
	tries, err = r.again(ctx, nil, func() error {
		tx, err = r.DB.Begin(ctx, o)
		return err
	})
	return tx, tries, err
}

// beginOn does so on another connection to the same database.
func (r *Runner) beginOn(ctx context.Context, db engine.Database,
	o engine.TxOptions) (tx engine.Tx, tries int, err error) {
	tries, err = r.again(ctx, nil, func() error {
		tx, err = db.Begin(ctx, o)
		return err
	})
	return tx, tries, err
}

// again does something until its locks are given, with pauses that grow and vary, so
// that others get their turn. It does not even ask while somebody holds the tables for
// long: whoever waits for a strong lock keeps all others waiting behind it.
func (r *Runner) again(ctx context.Context, tables []string, do func() error) (tries int, err error) {
	for try := 1; ; try++ {
		who, err := r.DB.InTheWay(ctx, tables)
		if err != nil {
			return try, err
		}
		if len(who) == 0 {
			err = do()
		} else {
			err = &engine.Busy{Err: errors.New("the table is in use"), Who: who}
		}
		var busy *engine.Busy
		var slow *engine.Slow
		if err == nil || errors.As(err, &slow) || !errors.As(err, &busy) {
			return try, err
		}
		if try >= max(r.LockTries, 1) {
			return try, notGiven(try, busy)
		}
		r.observe(waiting(try, busy))
		if len(tables) > 0 && r.DB.Info().Host != "" {
			r.tellNow(ctx)
		}
		if err := pause(ctx, r.between(try, len(tables) > 0)); err != nil {
			return try, err
		}
	}
}

// waiting is the event of a try that is made again.
func waiting(try int, busy *engine.Busy) Event {
	e := Event{What: "waiting", Try: try, Who: busy.Who}
	var ended *engine.CannotOpen
	if errors.As(busy, &ended) {
		e.Why = ended.Message
	}
	return e
}

// between gives the pause after a try. Where a try keeps others waiting, the pause is
// several times as long.
func (r *Runner) between(try int, strong bool) time.Duration {
	if !strong {
		return min(time.Duration(try)*20*time.Millisecond, r.LockWait+20*time.Millisecond)
	}
	d := min(max(r.LockWait, shortestPause)<<min(try, 5), longestPause)
	return d/2 + rand.N(d/2+1)
}

// shortestPause is what pauses begin with where lock_wait is shorter.
const shortestPause = 20 * time.Millisecond

// longestPause bounds the pause between two tries for a lock.
const longestPause = 5 * time.Second

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// notGiven says who was in the way, or that the server ended each of the tries.
func notGiven(tries int, busy *engine.Busy) error {
	var ended *engine.CannotOpen
	if errors.As(busy, &ended) {
		return ended
	}
	f := fault.New(fault.Failed, "lock-not-given", "find out who writes for so long, and run the command again",
		"the right to write was not given in %d tries: somebody else is writing to the database", tries)
	if len(busy.Who) > 0 {
		var names []string
		for _, s := range busy.Who {
			names = append(names, s.String())
		}
		f.Message = strings.Replace(f.Message, "somebody else is writing to the database",
			"in the way is "+strings.Join(names, "; "), 1)
		f.Cure = "wait until it is done, or end it, and run the command again"
	}
	f.Err = busy
	return f
}
