package ledger

import (
	"context"
	"encoding/json"
	"strconv"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/engine"
)

// Record adds an entry.
func Record(ctx context.Context, tx engine.Tx, e Entry) error {
	var forecast any
	if e.Forecast != nil {
		forecast = *e.Forecast
	}
	_, err := tx.Exec(ctx, "insert into lastboard_entry (id, at, version, what, by_whom, host, seconds, "+
		"changed_rows, note, forecast) values ((select coalesce(max(id), 0) + 1 from lastboard_entry), ?, ?, ?, ?, ?, "+
		"?, ?, ?, ?)",
		e.At, e.Version, e.What, e.By, e.Host, e.Seconds, e.Rows, e.Note, forecast)
	return err
}

// Put writes a migration's record.
func Put(ctx context.Context, tx engine.Tx, m *Migration) error {
	if _, err := tx.Exec(ctx, "delete from lastboard_migration where version = ?", m.Version); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, `insert into lastboard_migration (version, name, title, reason, state, direction, checksum, source, changes, wanted, advanced_at, settled_at)
		values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		m.Version, m.Name, m.Title, m.Reason, m.State, m.Direction, m.Checksum, m.Source, string(m.Changes), string(m.Wanted),
		null(m.AdvancedAt), null(m.SettledAt))
	return err
}

func null(s string) any {
	if s == "" {
		return nil
	}
	return s
}

// Forget takes a migration's record away, and those of its steps.
func Forget(ctx context.Context, tx engine.Tx, version string) error {
	for _, table := range []string{"lastboard_migration", "lastboard_step", "lastboard_backfill", "lastboard_plan"} {
		if _, err := tx.Exec(ctx, "delete from "+table+" where version = ?", version); err != nil {
			return err
		}
	}
	return nil
}

// PutSteps writes the steps that a run will take, in place of any it had.
func PutSteps(ctx context.Context, tx engine.Tx, version, direction string, steps []*engine.Step) error {
	for _, table := range []string{"lastboard_step", "lastboard_backfill"} {
		if _, err := tx.Exec(ctx, "delete from "+table+" where version = ? and direction = ?", version,
			direction); err != nil {
			return err
		}
	}
	for _, s := range steps {
		data, err := json.Marshal(s)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into lastboard_step (version, direction, number, step, state, changed_rows, tries, longest_wait)
			values (?, ?, ?, ?, 'waiting', 0, 0, 0)`, version, direction, s.Number, string(data)); err != nil {
			return err
		}
	}
	return nil
}

// PutFacts writes what the plan of a run was made from, in place of what its direction had. Those of an advance that
// is taken back before its end stay.
func PutFacts(ctx context.Context, tx engine.Tx, version, direction string, facts json.RawMessage) error {
	if _, err := tx.Exec(ctx, "delete from lastboard_plan where version = ? and direction = ?", version,
		direction); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, "insert into lastboard_plan (version, direction, facts) values (?, ?, ?)", version, direction,
		string(facts))
	return err
}

// ForgetFacts takes them away: a run that came to its end is not gone on with.
func ForgetFacts(ctx context.Context, tx engine.Tx, version string) error {
	_, err := tx.Exec(ctx, "delete from lastboard_plan where version = ?", version)
	return err
}

// StepBegun records that a step is about to be done whose outcome the database alone
// will know.
func StepBegun(ctx context.Context, tx engine.Tx, version, direction string, step int) error {
	_, err := tx.Exec(ctx, "update lastboard_step set state = 'running', started_at = ? where version = ? and "+
		"direction = ? and number = ?", Now(), version, direction, step)
	return err
}

// StepDone records that a step is done, in the transaction that did it.
func StepDone(ctx context.Context, tx engine.Tx, version, direction string, step int, started time.Time, rows int64,
	tries int, wait time.Duration) error {
	_, err := tx.Exec(ctx, "update lastboard_step set state = 'done', started_at = ?, done_at = ?, changed_rows = ?, "+
		"tries = ?, longest_wait = ? where version = ? and direction = ? and number = ?",
		started.UTC().Format(timeFormat), Now(), rows, tries, wait.Seconds(), version, direction, step)
	return err
}

// PutCheckpoint records how far a backfill is, in the transaction of its batch.
func PutCheckpoint(ctx context.Context, tx engine.Tx, version, direction string, step int, last, upper string,
	rows int64) error {
	n, err := tx.Exec(ctx, "update lastboard_backfill set last_key = ?, upper_key = ?, done_rows = ? where version = "+
		"? and direction = ? and number = ?",
		last, upper, rows, version, direction, step)
	if err != nil || n > 0 {
		return err
	}
	_, err = tx.Exec(ctx, "insert into lastboard_backfill (version, direction, number, last_key, upper_key, "+
		"done_rows) values (?, ?, ?, ?, ?, ?)",
		version, direction, step, last, upper, rows)
	return err
}

// Keep records what a step keeps, in the transaction that begins to keep it. A
// table that is recorded already stays as it is.
func Keep(ctx context.Context, tx engine.Tx, version, direction, checksum string, k *engine.Keeping) error {
	return KeepSince(ctx, tx, version, direction, checksum, k, Now())
}

// KeepSince does so with the time, or its mark.
func KeepSince(ctx context.Context, tx engine.Tx, version, direction, checksum string, k *engine.Keeping,
	at string) error {
	data, err := json.Marshal(k)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `insert into lastboard_kept (id, version, direction, checksum, table_name, kept_table, keeping, kept_at)
		select (select coalesce(max(id), 0) + 1 from lastboard_kept), ?, ?, ?, ?, ?, ?, ? where not exists (select 1 from lastboard_kept where kept_table = ?)`,
		version, direction, checksum, k.Table, k.Kept, string(data), at, k.Kept)
	return err
}

// LetGo records that a table of kept values is there no more.
func LetGo(ctx context.Context, tx engine.Tx, kept string) error {
	_, err := tx.Exec(ctx, "delete from lastboard_kept where kept_table = ?", kept)
	return err
}

// PutModel remembers a table or view as it is.
func PutModel(ctx context.Context, tx engine.Tx, m Model, model string) error {
	if err := DropModel(ctx, tx, m); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, "insert into lastboard_table (kind, name, model) values (?, ?, ?)", m.Kind, m.Name, model)
	return err
}

// DropModel forgets a table or view that is gone.
func DropModel(ctx context.Context, tx engine.Tx, m Model) error {
	_, err := tx.Exec(ctx, "delete from lastboard_table where kind = ? and name = ?", m.Kind, m.Name)
	return err
}

// PutMeta sets one of the ledger's own values: "kept".
func PutMeta(ctx context.Context, tx engine.Tx, name, value string) error {
	if _, err := tx.Exec(ctx, "delete from lastboard_meta where name = ?", name); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, "insert into lastboard_meta (name, value) values (?, ?)", name, value)
	return err
}

// PutKeptNumber remembers the greatest number given to a table of kept values,
// so that none is given twice.
func PutKeptNumber(ctx context.Context, tx engine.Tx, n int64) error {
	return PutMeta(ctx, tx, "kept", strconv.FormatInt(n, 10))
}

func runner(ctx context.Context, query func(context.Context, string, ...any) (*engine.Rows, error)) (*Runner, error) {
	r, err := query(ctx, "select token, by_whom, host, process, since, beat from lastboard_runner")
	if err != nil || len(r.Values) == 0 {
		return nil, err
	}
	v := r.Values[0]
	since, err := time.Parse(timeFormat, text(v[4]))
	if err != nil {
		return nil, err
	}
	beat, err := time.Parse(timeFormat, text(v[5]))
	return &Runner{text(v[0]), text(v[1]), text(v[2]), int(number(v[3])), since, beat}, err
}

// lease is how long a runner on another host may be silent before it counts as
// dead.
const lease = 30 * time.Second

// TakeOver makes r the one runner. A runner that is recorded still is dead where its
// claim is known to be free: on the same host, and everywhere when the server itself
// keeps the claim. One on another host is only after it has been silent for the time of
// its lease. The error is a refusal that
// says who the other is and since when.
func TakeOver(ctx context.Context, tx engine.Tx, r *Runner, server bool) error {
	other, err := runner(ctx, tx.Query)
	if err != nil {
		return err
	}
	if other != nil && !server && other.Host != r.Host && !other.silent() {
		return OneRunner(other, nil, "")
	}
	for _, sql := range []string{"delete from lastboard_runner", "delete from lastboard_work",
		"delete from lastboard_pace"} {
		if _, err := tx.Exec(ctx, sql); err != nil {
			return err
		}
	}
	_, err = tx.Exec(ctx, "insert into lastboard_runner (id, token, by_whom, host, process, since, beat) values (1, "+
		"?, ?, ?, ?, ?, ?)",
		r.Token, r.By, r.Host, r.Process, r.Since.UTC().Format(timeFormat), Now())
	return err
}

// OneRunner is the refusal for a second runner. holder is the session that holds the claim,
// and end the statement that ends it; nil where they are not known.
func OneRunner(other *Runner, holder *engine.Session, end string) error {
	f := fault.New(fault.Refused, "runner-busy", "wait until it is done", "another Lastboard is changing this database")
	switch {
	case other != nil && holder != nil:
		f.Message += ": " + other.String() + "; the lock of the one runner is held by " + holder.String()
	case other != nil:
		f.Message += ": " + other.String()
	case holder != nil:
		f.Message = "the lock of the one runner of this database is held by " + holder.String()
	}
	if holder != nil {
		f.Cure += "; if that session is no Lastboard, end it: " + end
	}
	return f
}

// String says who a runner is.
func (r *Runner) String() string {
	return r.By + " on " + r.Host + " (process " + strconv.Itoa(r.Process) + "), since " +
		r.Since.UTC().Format(time.DateTime) + " UTC"
}

// silent reports whether a runner has not been heard of for the time of its lease.
func (r *Runner) silent() bool { return time.Since(r.Beat) >= lease }

// Beat asserts in a transaction that r is still the one runner.
func Beat(ctx context.Context, tx engine.Tx, r *Runner) error {
	n, err := tx.Exec(ctx, "update lastboard_runner set beat = ? where token = ?", Now(), r.Token)
	if err != nil {
		return err
	}
	if n == 0 {
		return replaced()
	}
	return nil
}

// Holds asserts that r is still the one runner, beside others that do so at the same
// time. It is for engines on which a claim outlasts silence.
func Holds(ctx context.Context, tx engine.Tx, r *Runner) error {
	rows, err := tx.Query(ctx, "select 1 from lastboard_runner where token = ? for share", r.Token)
	if err == nil && len(rows.Values) == 0 {
		err = replaced()
	}
	return err
}

func replaced() error {
	return fault.New(fault.Stopped, "runner-replaced", "look at status",
		"another Lastboard has taken this run over, since this one was silent for too long")
}

// Leave ends r's run.
func Leave(ctx context.Context, tx engine.Tx, r *Runner) error {
	if err := putPace(ctx, tx, AsSaid); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "delete from lastboard_work where token = ?", r.Token); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, "delete from lastboard_runner where token = ?", r.Token)
	return err
}
