package run

import (
	"context"
	"slices"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
)

// Discard gives up what is kept, each in a transaction of its own with its entry. What
// a migration keeps that is in the middle is still needed, and refused.
func (r *Runner) Discard(ctx context.Context, list []ledger.Kept) error {
	known, err := r.ledger.Migrations(ctx)
	if err != nil {
		return err
	}
	for _, m := range known {
		for _, k := range list {
			if k.Version == m.Version && (m.State == ledger.Running || m.State == ledger.Stopped) {
				return fault.New(fault.Refused, "migration-unfinished", "let it come to its end first: lastboard "+m.Direction,
					"migration %s is in the middle and needs what is kept", m.Version)
			}
		}
	}
	there, _, err := r.ledger.Kept(ctx)
	if err != nil {
		return err
	}
	for _, k := range list {
		if !slices.ContainsFunc(there, func(t ledger.Kept) bool { return t.Keeping.Kept == k.Keeping.Kept && t.At == k.At }) {
			return ChangedMeanwhile("what was kept of migration " + k.Version + " is kept no more")
		}
	}
	for _, k := range list {
		err := r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
			if err := ledger.Beat(ctx, tx, r.me); err != nil {
				return err
			}
			for _, sql := range r.Engine.Forget(&k.Keeping) {
				if _, err := tx.Exec(ctx, sql); err != nil {
					return err
				}
			}
			if err := ledger.LetGo(ctx, tx, k.Keeping.Kept); err != nil {
				return err
			}
			return ledger.Record(ctx, tx, ledger.Entry{
				At: ledger.Now(), Version: k.Version, What: "discarded", By: r.me.By, Host: r.me.Host,
				Note: "what was kept of table " + k.Keeping.Table,
			})
		})
		if err != nil {
			return err
		}
	}
	return nil
}
