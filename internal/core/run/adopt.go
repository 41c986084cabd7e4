package run

import (
	"context"
	"encoding/json"
	"errors"
	"lastboard/internal/core/ledger"
	"lastboard/internal/core/migration"
	"lastboard/internal/core/plan"
	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"slices"
)

// Claim records a migration as settled that somebody else has carried out, and gives in what the tables
// differ from what it says: then nothing is recorded. Nothing is kept for its way back.
func (r *Runner) Claim(ctx context.Context, m *migration.Migration) (c *plan.Claimed, differs []schema.Difference,
	err error) {
	err = r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
		if err := ledger.Beat(ctx, tx, r.me); err != nil {
			return err
		}
		known, err := r.ledger.Migrations(ctx)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(known, func(k *ledger.Migration) bool { return k.Version == m.Version }) {
			return ChangedMeanwhile("migration " + m.Version + " has run")
		}
		before, err := r.ledger.Tables(ctx)
		if err != nil {
			return err
		}
		if c, err = plan.Claim(m, before, r.Engine); err != nil {
			return err
		}
		now, err := tx.Schema(ctx)
		if err != nil {
			return err
		}
		if differs = c.Differs(now, r.Engine.Text); len(differs) > 0 {
			return nil
		}
		c.On(now)
		delta := schema.Since(before, c.After)
		if err := errors.Join(r.tables.load(ctx, r.ledger), r.tables.saveChanged(ctx, tx, now, delta, nil)); err != nil {
			return err
		}
		changes, err := plan.EncodeRecords(c.Records)
		if err != nil {
			return err
		}
		return r.adopted(ctx, tx, m, changes, delta)
	})
	return c, differs, err
}

// Adopt records a migration as settled without running it: what it would make is
// there already.
func (r *Runner) Adopt(ctx context.Context, m *migration.Migration) error {
	return r.inTx(ctx, engine.TxOptions{}, func(tx engine.Tx) error {
		if err := ledger.Beat(ctx, tx, r.me); err != nil {
			return err
		}
		if known, err := r.ledger.Migrations(ctx); err != nil || len(known) > 0 {
			return errors.Join(err, ChangedMeanwhile("it is under care already"))
		}
		now, err := tx.Schema(ctx)
		if err != nil {
			return err
		}
		changes, err := plan.EncodeRecords([]*plan.Record{{What: "adopt", Native: &plan.NativeRecord{NoWayBack: true}}})
		if err != nil {
			return err
		}
		if err := errors.Join(r.tables.load(ctx, r.ledger), r.tables.save(ctx, tx, now)); err != nil {
			return err
		}
		return r.adopted(ctx, tx, m, changes, schema.Since(&schema.Schema{}, now))
	})
}

// adopted writes into the ledger that a migration is settled which no run has carried out.
func (r *Runner) adopted(ctx context.Context, tx engine.Tx, m *migration.Migration, changes json.RawMessage,
	delta *schema.Delta) error {
	wanted, err := json.Marshal(delta)
	if err != nil {
		return err
	}
	at := ledger.Now()
	if err := ledger.Put(ctx, tx, &ledger.Migration{
		Version: m.Version, Name: m.Name, Title: m.File.Title, Reason: m.File.Reason, State: ledger.Settled,
		Direction: ledger.Advance, Checksum: m.Checksum(), Source: m.File.Source, Changes: changes, Wanted: wanted,
		AdvancedAt: at, SettledAt: at,
	}); err != nil {
		return err
	}
	return ledger.Record(ctx, tx, ledger.Entry{At: at, Version: m.Version, What: "adopted", By: r.me.By, Host: r.me.Host})
}
