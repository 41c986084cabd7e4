package run

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/user"
	"slices"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
	"lastboard/internal/mishap"
)

// Begin makes the ledger if there is none, and this program the one runner.
func (r *Runner) Begin(ctx context.Context) error {
	err := r.take(ctx)
	var unsure *engine.Unsure
	if errors.As(err, &unsure) {
		f := fault.New(fault.Failed, "connection-lost", "run the command again", "%v", unsure)
		f.Changed, f.Err = "nothing was changed: no migration had begun", err
		return f
	}
	return err
}

func (r *Runner) take(ctx context.Context) error {
	r.ledger = ledger.For(r.DB, r.Project)
	mishap.Place("claiming")
	exists, err := r.ledger.Exists(ctx)
	if err != nil {
		return err
	}
	var dead *ledger.Runner
	if exists {
		if dead, err = r.ledger.Dead(ctx); err != nil {
			return err
		}
	}
	free, ok, err := r.DB.Claim()
	if err != nil {
		return fault.New(fault.Failed, "lock-file", "check that its folder can be written",
			"the file that keeps two runs apart cannot be made: %v", err)
	}
	if !ok {
		other, err := r.ledger.Runner(ctx)
		if err != nil {
			other = nil
		}
		var holder *engine.Session
		end := ""
		if c, ok := r.DB.(engine.Claimant); ok {
			holder, end = c.Claimant(ctx)
		}
		return ledger.OneRunner(other, holder, end)
	}
	r.free = free
	if r.me, err = newRunner(); err != nil {
		return err
	}
	if err := r.guard(ctx, false); err != nil {
		free()
		return err
	}
	if exists, err = r.ledger.Exists(ctx); err != nil { // another may have made it meanwhile
		free()
		return err
	}
	if exists {
		if err := r.ledger.Complete(ctx, func(do func(engine.Tx) error) error {
			return r.inTx(ctx, engine.TxOptions{},
				do)
		}); err != nil {
			free()
			return err
		}
	}
	if dead != nil {
		r.observe(Event{What: "cleared", Why: "the claim of " + dead.String() + ", which crashed"})
	}
	err = r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
		if !exists {
			if err := ledger.Create(ctx, tx, r.Engine.Place(), r.Program); err != nil {
				return err
			}
		}
		if err := r.ledger.Sign(ctx, tx); err != nil {
			return err
		}
		return ledger.TakeOver(ctx, tx, r.me, r.DB.Info().Host != "")
	})
	if err == nil && !exists {
		err = r.guard(ctx, true)
	}
	if err == nil && exists {
		err = r.clear(ctx)
	}
	if err != nil {
		free()
	}
	return err
}

// guard asserts that the ledger is that of this database, and that nobody else can write to it.
func (r *Runner) guard(ctx context.Context, made bool) error {
	g, ok := r.DB.(engine.Guarded)
	if !ok {
		return nil
	}
	done, err := g.Guard(ctx, made)
	for _, what := range done {
		if !made {
			r.observe(Event{What: "cleared", Why: what})
		}
	}
	var cannot *engine.CannotOpen
	if errors.As(err, &cannot) {
		f := fault.New(fault.Refused, "ledger-open", cannot.Cure, "%s", cannot.Message)
		f.Err = err
		return f
	}
	return err
}

// clear takes away what crashed runs left behind, and says what it was.
func (r *Runner) clear(ctx context.Context) error {
	left, _, err := r.ledger.Left(ctx)
	if err != nil {
		return err
	}
	// A table goes after the triggers that write to it, or applications would find it gone.
	slices.SortStableFunc(left, func(a, b engine.OwnObject) int {
		rank := map[string]int{"table": 1}
		return rank[a.Kind] - rank[b.Kind]
	})
	for _, o := range left {
		if !ledger.Passing(o) && !(r.ClearKept && ledger.KeptValues(o)) {
			continue
		}
		var strong []string
		if o.Table != "" {
			strong = []string{o.Table}
		}
		_, err := r.again(ctx, strong, func() error {
			return r.inTx(ctx, engine.TxOptions{LockWait: r.LockWait, Strong: strong}, func(tx engine.Tx) error {
				_, err := tx.Exec(ctx, o.Drop)
				return err
			})
		})
		if err != nil && o.Copy {
			continue // it is in nobody's way
		}
		if err != nil {
			return fmt.Errorf("taking away %s %s, left behind by a crashed run: %w", o.Kind, o.Name, err)
		}
		r.observe(Event{What: "cleared", Why: o.Kind + " " + o.Name + ", left behind by a crashed run"})
	}
	return nil
}

// End lets the next runner in.
func (r *Runner) End() error {
	ctx := context.Background()
	_ = r.guard(ctx, true) // tables that the run has made have the rights that the database gives by default
	err := r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error { return ledger.Leave(ctx, tx, r.me) })
	var lost *engine.CannotOpen
	if errors.As(err, &lost) {
		err = nil // the claim goes with the connection, and its record with the next run
	}
	err = errors.Join(r.forget(), err)
	r.free()
	return err
}

func newRunner() (*ledger.Runner, error) {
	token := make([]byte, 16)
	if _, err := rand.Read(token); err != nil {
		return nil, err
	}
	host, err := os.Hostname()
	if err != nil {
		host = "unknown"
	}
	by := "unknown"
	if u, err := user.Current(); err == nil {
		by = u.Username
	}
	return &ledger.Runner{Token: hex.EncodeToString(token), By: by, Host: host, Process: os.Getpid(), Since: time.Now()},
		nil
}
