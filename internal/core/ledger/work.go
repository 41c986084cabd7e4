package ledger

import (
	"context"
	"encoding/json"
	"time"

	"lastboard/internal/core/fault"
	"lastboard/internal/engine"
)

// Work is what a run is doing, for whoever looks on. Times are in seconds.
type Work struct {
	Version   string `json:"version"`
	Name      string `json:"name,omitempty"`
	Direction string `json:"direction,omitempty"`
	Step      int    `json:"step"`
	Steps     int    `json:"steps"`
	Kind      string `json:"kind,omitempty"`
	What      string `json:"what,omitempty"`
	Table     string `json:"table,omitempty"`
	// Forecast is how long the step was to take, Took how long it has taken so far.
	Forecast float64 `json:"forecast_seconds"`
	Took     float64 `json:"seconds"`
	Rows     int64   `json:"rows"`
	Of       int64   `json:"of_rows"`
	Rate     float64 `json:"rows_per_second"`
	Left     float64 `json:"seconds_left"`
	Batch    float64 `json:"batch_seconds"`
	Longest  float64 `json:"longest_batch_seconds"`
	// WorkShare is the share of time that it works, from 0 to 1; the rest it pauses.
	WorkShare float64 `json:"work_share"`
	Goal      float64 `json:"batch_goal_seconds"`
	Holding   string  `json:"holding,omitempty"` // why it does nothing just now
	Held      float64 `json:"held_seconds"`      // that it has done nothing, in all
	Try       int     `json:"try,omitempty"`     // for a lock that somebody else holds
	// InTheWay are the sessions that hold it, in words.
	InTheWay []string      `json:"in_the_way,omitempty"`
	Replicas []ReplicaWork `json:"replicas,omitempty"`
	Batches  int64         `json:"batches"`
	At       time.Time     `json:"at"`
}

// ReplicaWork is how far a replica is behind, in seconds.
type ReplicaWork struct {
	Name    string  `json:"name"`
	Behind  float64 `json:"behind_seconds"`
	Stopped bool    `json:"stopped,omitempty"`
}

// Pace is what somebody at another terminal wants of a run.
type Pace struct {
	Held bool
	// BatchTime is what one batch may take, and Pause how long a pause is against the
	// batch before it; below zero they are as the project says.
	BatchTime, Pause float64
	By, Host         string
	At               string
}

// AsSaid is a pace that wants nothing else than the project says.
var AsSaid = Pace{BatchTime: -1, Pause: -1}

// ShareOf gives the share of time that is worked where a pause is so long against the work
// before it, and PauseOf the other way round.
func ShareOf(pause float64) float64 { return 1 / (1 + pause) }

// PauseOf gives how long a pause is against the work before it for a share, above 0.
func PauseOf(share float64) float64 { return 1/share - 1 }

// side are tables that a database which an earlier version took under care gets when the next
// run begins: of those who look on and steer, and of what the plan of a run was made from.
var side = []string{
	`create table if not exists lastboard_work (id integer not null primary key, token varchar(64) not null, work text not null)`,
	`create table if not exists lastboard_plan (version varchar(20) not null, direction varchar(20) not null, facts text not null, primary key (version, direction))`,
	`create table if not exists lastboard_pace (id integer not null primary key, held integer not null, batch_time double precision not null, rest double precision not null,
		by_whom varchar(200) not null, host varchar(200) not null, at varchar(30) not null)`,
}

// Complete makes what a ledger of an earlier version lacks.
func (l *Ledger) Complete(ctx context.Context, do func(func(engine.Tx) error) error) error {
	var lacks []string
	if _, err := l.db.Query(ctx, "select 1 from lastboard_pace join lastboard_work on 1 = 0 join lastboard_plan on 1 "+
		"= 0"); err != nil {
		lacks = append(lacks, side...)
	}
	if _, err := l.db.Query(ctx, "select forecast from lastboard_entry where 1 = 0"); err != nil {
		lacks = append(lacks, "alter table lastboard_entry add column forecast double precision")
	}
	if len(lacks) == 0 {
		return nil
	}
	return do(func(tx engine.Tx) error {
		for _, sql := range lacks {
			if _, err := tx.Exec(ctx, sql); err != nil {
				return err
			}
		}
		return nil
	})
}

// PutWork writes what a run does.
func PutWork(ctx context.Context, tx engine.Tx, r *Runner, w Work) error {
	data, err := json.Marshal(w)
	if err != nil {
		return err
	}
	n, err := tx.Exec(ctx, "update lastboard_work set token = ?, work = ? where id = 1", r.Token, string(data))
	if err != nil || n > 0 {
		return err
	}
	_, err = tx.Exec(ctx, "insert into lastboard_work (id, token, work) values (1, ?, ?)", r.Token, string(data))
	return err
}

// Work gives what the runner is doing; nil before it has said so.
func (l *Ledger) Work(ctx context.Context, r *Runner) (*Work, error) {
	rows, err := l.db.Query(ctx, "select work from lastboard_work where token = ?", r.Token)
	if err != nil || len(rows.Values) == 0 {
		return nil, err
	}
	var w Work
	return &w, Decode([]byte(text(rows.Values[0][0])), &w)
}

// Pace gives what is wanted of the run.
func (l *Ledger) Pace(ctx context.Context) (Pace, error) { return pace(ctx, l.db.Query) }

func pace(ctx context.Context, query func(context.Context, string, ...any) (*engine.Rows, error)) (Pace, error) {
	rows, err := query(ctx, "select held, batch_time, rest, by_whom, host, at from lastboard_pace")
	if err != nil || len(rows.Values) == 0 {
		return AsSaid, err
	}
	v := rows.Values[0]
	return Pace{number(v[0]) != 0, real(v[1]), real(v[2]), text(v[3]), text(v[4]), text(v[5])}, nil
}

// Steer changes what is wanted of the run: change gives it anew from what it is. Who steers
// at the same time waits, and changes what the first has made. It is refused when nobody runs.
func Steer(ctx context.Context, tx engine.Tx, change func(Pace) Pace) error {
	if _, err := tx.Exec(ctx, "update lastboard_pace set at = ? where id = 1", Now()); err != nil {
		return err
	}
	r, err := runner(ctx, tx.Query)
	if err != nil {
		return err
	}
	if r == nil {
		return NothingRuns()
	}
	p, err := pace(ctx, tx.Query)
	if err != nil {
		return err
	}
	return putPace(ctx, tx, change(p))
}

func putPace(ctx context.Context, tx engine.Tx, p Pace) error {
	held := 0
	if p.Held {
		held = 1
	}
	n, err := tx.Exec(ctx, "update lastboard_pace set held = ?, batch_time = ?, rest = ?, by_whom = ?, host = ?, at "+
		"= ? where id = 1", held, p.BatchTime, p.Pause, p.By, p.Host, Now())
	if err != nil || n > 0 {
		return err
	}
	_, err = tx.Exec(ctx, "insert into lastboard_pace (id, held, batch_time, rest, by_whom, host, at) values (1, ?, "+
		"?, ?, ?, ?, ?)", held, p.BatchTime, p.Pause, p.By, p.Host, Now())
	return err
}

// NothingRuns is the refusal for who wants to steer what does not run.
func NothingRuns() error {
	return fault.New(fault.Refused, "nothing-runs", "see lastboard status", "nothing is running on this database")
}

func real(v any) float64 {
	switch v := v.(type) {
	case float64:
		return v
	case int64:
		return float64(v)
	case string:
		var f float64
		_ = json.Unmarshal([]byte(v), &f)
		return f
	}
	return 0
}
