package ledger

import (
	"context"
	"errors"

	"lastboard/internal/engine"
)

// A script writes the same records as a run, with marks where a run writes what it finds out.

// ScriptClaim makes a script the one runner.
func ScriptClaim(ctx context.Context, tx engine.Tx) error {
	for _, table := range []string{"lastboard_runner", "lastboard_work", "lastboard_pace"} {
		if _, err := tx.Exec(ctx, "delete from "+table); err != nil {
			return err
		}
	}
	_, err := tx.Exec(ctx, "insert into lastboard_runner (id, token, by_whom, host, process, since, beat) values (1, "+
		"?, ?, ?, 0, ?, ?)", engine.Token, engine.Account, engine.Machine, engine.Moment, engine.Moment)
	return err
}

// ScriptBeat asserts that it still is.
func ScriptBeat(ctx context.Context, tx engine.Tx) error {
	_, err := tx.Exec(ctx, "update lastboard_runner set beat = ? where token = ?", engine.Moment, engine.Token)
	return err
}

// ScriptLeave ends that.
func ScriptLeave(ctx context.Context, tx engine.Tx) error {
	_, err := tx.Exec(ctx, "delete from lastboard_runner where token = ?", engine.Token)
	return err
}

// ScriptStepBegun records that a step of a script begins.
func ScriptStepBegun(ctx context.Context, tx engine.Tx, version, direction string, step int) error {
	_, err := tx.Exec(ctx, "update lastboard_step set state = 'running', started_at = ? where version = ? and "+
		"direction = ? and number = ?", engine.Moment, version, direction, step)
	return err
}

// ScriptStepDone records that it is done, in the transaction that does it.
func ScriptStepDone(ctx context.Context, tx engine.Tx, version, direction string, step int) error {
	_, err := tx.Exec(ctx, "update lastboard_step set state = 'done', started_at = coalesce(started_at, ?), done_at = ?, "+
		"changed_rows = ?, tries = 1 where version = ? and direction = ? and number = ?", engine.Moment, engine.Moment,
		engine.Written, version, direction, step)
	return err
}

// ScriptCheckpoint records how far a backfill of a script is, in the transaction of its batch.
func ScriptCheckpoint(ctx context.Context, tx engine.Tx, version, direction string, step int) error {
	_, err := tx.Exec(ctx, "delete from lastboard_backfill where version = ? and direction = ? and number = ?", version,
		direction, step)
	_, e := tx.Exec(ctx, "insert into lastboard_backfill (version, direction, number, last_key, upper_key, done_rows) "+
		"values (?, ?, ?, ?, ?, ?)", version, direction, step, engine.LastKey, engine.UpperKey, engine.Written)
	return errors.Join(err, e)
}

// ScriptRecord adds the entry of a script that has come to its end.
func ScriptRecord(ctx context.Context, tx engine.Tx, version, direction, what string, forecast float64) error {
	_, err := tx.Exec(ctx, "insert into lastboard_entry (id, at, version, what, by_whom, host, seconds, changed_rows, "+
		"note, forecast) values ((select coalesce(max(id), 0) + 1 from lastboard_entry), ?, ?, ?, ?, ?, ?, "+
		"(select coalesce(sum(changed_rows), 0) from lastboard_step where version = ? and direction = ?), ?, ?)",
		engine.Moment, version, what, engine.Account, engine.Machine, engine.Took, version, direction, "by a script",
		forecast)
	return err
}
