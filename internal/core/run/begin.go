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
)

// Begin makes the ledger if there is none, and this program the one runner.
func (r *Runner) Begin(ctx context.Context) error {
	r.ledger = ledger.Of(r.DB)
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
		return fault.New(fault.Failed, "lock-file", "check that its folder can be written", "the file that keeps two runs apart cannot be made: %v", err)
	}
	if !ok {
		other, err := r.ledger.Runner(ctx)
		if err != nil {
			other = nil
		}
		return ledger.OneRunner(other)
	}
	r.free = free
	if r.me, err = newRunner(); err != nil {
		return err
	}
	if exists, err = r.ledger.Exists(ctx); err != nil { // another may have made it meanwhile
		free()
		return err
	}
	if exists {
		if err := r.ledger.Complete(ctx, func(do func(engine.Tx) error) error { return r.inTx(ctx, engine.TxOptions{}, do) }); err != nil {
			free()
			return err
		}
	}
	if dead != nil {
		r.observe(Event{What: "cleared", Why: "the claim of " + dead.String() + ", which has died"})
	}
	err = r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
		if !exists {
			if err := ledger.Create(ctx, tx, r.Engine.Place(), r.Program); err != nil {
				return err
			}
		}
		return ledger.TakeOver(ctx, tx, r.me, r.DB.Info().Host != "")
	})
	if err == nil && exists {
		err = r.clear(ctx)
	}
	if err != nil {
		free()
	}
	return err
}

// clear takes away what runs have left that died, and says what it was.
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
		if err != nil {
			return fmt.Errorf("taking away %s %s, which a run has left that died: %w", o.Kind, o.Name, err)
		}
		r.observe(Event{What: "cleared", Why: o.Kind + " " + o.Name + ", which a run has left that died"})
	}
	return nil
}

// End lets the next runner in.
func (r *Runner) End() error {
	ctx := context.Background()
	err := errors.Join(r.forget(), r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error { return ledger.Leave(ctx, tx, r.me) }))
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
	return &ledger.Runner{Token: hex.EncodeToString(token), By: by, Host: host, Process: os.Getpid(), Since: time.Now()}, nil
}
