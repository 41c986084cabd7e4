package run

import (
	"context"
	"errors"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/core/ledger"
	"lastboard/internal/engine"
)

// What came of a run is told only where it is known. A commit whose answer was lost is asked
// of the database by another connection.

// unknown says of a commit whose answer was lost that what came of it is not known; any other
// error stays as it is.
func unknown(err error) error {
	var unsure *engine.Unsure
	if !errors.As(err, &unsure) {
		return err
	}
	f := fault.New(fault.Unknown, "outcome-unknown",
		"once the database answers again, lastboard status says where it stands; running the command again is safe",
		"%v; whether it was committed is not known", unsure)
	f.Err = err
	return f
}

// How often, and after which pause, the database is asked what came of a commit.
const (
	asks     = 8
	askAgain = 500 * time.Millisecond
)

// resolve asks the database what came of a commit whose answer was lost. It gives a
// fault when that was the end of the run, or when the database cannot be asked; else the lost
// connection as an error, with what is committed noted in p.
func (r *Runner) resolve(p *progress, unsure *engine.Unsure) error {
	ctx := context.Background()
	var record *ledger.Migration
	var err error
	for range asks {
		if record, err = r.record(ctx, p.record.Version); err == nil {
			break
		}
		time.Sleep(askAgain)
	}
	if err != nil {
		return unknown(unsure)
	}
	end := p.end()
	switch {
	case end == ledger.Waiting && record == nil, record != nil && record.State == end:
		f := fault.New(fault.Stopped, "connection-lost", "run the command again, if more was to be done",
			"the connection was lost while the end of migration %s was being committed", p.record.Version)
		f.Changed = "it was committed: migration " + p.record.Version + " has come to its end"
		return f
	case record != nil && (record.State == ledger.Running || record.State == ledger.Stopped) &&
		record.Direction == p.record.Direction:
		p.changed = true
	}
	return unsure.Err
}

// record reads the record of a migration by a new connection, which is used from then on.
func (r *Runner) record(ctx context.Context, version string) (*ledger.Migration, error) {
	if r.Another == nil {
		return nil, errors.New("there is no other connection")
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	db, err := r.Another(ctx)
	if err != nil {
		return nil, err
	}
	known, err := ledger.Of(db).Migrations(ctx)
	var none *engine.NoTable
	if err != nil && !errors.As(err, &none) {
		return nil, errors.Join(err, db.Close())
	}
	r.DB, r.ledger = db, ledger.For(db, r.Project)
	for _, k := range known {
		if k.Version == version {
			return k, nil
		}
	}
	return nil, nil
}
