package backfill_test

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"reflect"
	"slices"
	"testing"
	"time"

	"lastboard/internal/core/backfill"
	"lastboard/internal/engine"
	"lastboard/internal/engine/sqlite"
)

func TestKeysSurviveTheLedger(t *testing.T) {
	keys := [][]any{
		{int64(-5)}, {int64(9223372036854775807)}, {"a'b\"c\n"}, {""}, {2.5}, {1e300}, {[]byte{0, 255}}, {true},
		{int64(1), "two", 3.0, []byte("four"), false},
	}
	for _, k := range keys {
		text, err := backfill.EncodeKey(k)
		if err != nil {
			t.Fatal(err)
		}
		got, err := backfill.DecodeKey(text)
		if err != nil || !reflect.DeepEqual(got, k) {
			t.Errorf("%v became %v (%v)", k, got, err)
		}
	}
	if _, err := backfill.EncodeKey([]any{nil}); err == nil {
		t.Error("null is no key")
	}
	for _, text := range []string{"", "{}", `[["int","x"]]`, `[["blob","%"]]`} {
		if _, err := backfill.DecodeKey(text); err == nil {
			t.Errorf("%q was taken for a key", text)
		}
	}
}

// tables are walked in the order of their keys; each has 5,000 rows in n.
var tables = map[string]struct {
	create, insert string
	batch          engine.Batch
}{
	"numbers with gaps": {"create table t (id integer primary key, n integer)",
		"insert into t select value * value - 9000, 0 from s",
		engine.Batch{Keys: []string{"id"}, Upper: "select id from t order by id desc limit 1",
			Next:  "select id from t where " + engine.Range + " order by id limit 1 offset ?",
			Ahead: "select id from t where " + engine.Range + " order by id limit ?"}},
	"texts": {"create table t (id text primary key, n integer) without rowid",
		"insert into t select 'k' || value, 0 from s",
		engine.Batch{Keys: []string{"id"}, Upper: "select id from t order by id desc limit 1",
			Next:  "select id from t where " + engine.Range + " order by id limit 1 offset ?",
			Ahead: "select id from t where " + engine.Range + " order by id limit ?"}},
	"two columns": {"create table t (a text, b integer, n integer, primary key (a, b)) without rowid",
		"insert into t select 'k' || (value % 7), value, 0 from s",
		engine.Batch{Keys: []string{"a", "b"}, Upper: "select a, b from t order by a desc, b desc limit 1",
			Next:  "select a, b from t where " + engine.Range + " order by a, b limit 1 offset ?",
			Ahead: "select a, b from t where " + engine.Range + " order by a, b limit ?"}},
}

const series = "create view s as with recursive c(value) as (select 1 union all select value + 1 from c where " +
	"value < 5000) select value from c"

// paces are those at which every table is walked.
var paces = map[string]backfill.Pace{
	"small batches":  {BatchTime: time.Microsecond},
	"many stretches": {BatchTime: 20 * time.Millisecond, Stretch: time.Microsecond, Pause: 0.1},
}

// TestEveryRowIsDoneOnce stops a backfill after each batch, goes on from its
// checkpoint, and counts.
func TestEveryRowIsDoneOnce(t *testing.T) {
	for name, pace := range paces {
		for _, ahead := range []bool{true, false} {
			t.Run(fmt.Sprintf("%s, keys ahead %v", name, ahead), func(t *testing.T) { everyRowIsDoneOnce(t, pace, ahead) })
		}
	}
}

func everyRowIsDoneOnce(t *testing.T, pace backfill.Pace, ahead bool) {
	for name, c := range tables {
		if !ahead {
			c.batch.Ahead = ""
		}
		t.Run(name, func(t *testing.T) {
			ctx := context.Background()
			db := open(t)
			exec(t, db, series, c.create, c.insert)
			c.batch.Do = []string{"update t set n = n + 1 where " + engine.Range}
			var saved backfill.Checkpoint
			stops, updates := 0, 0
			for {
				ctx, stop := context.WithCancel(ctx)
				_, err := backfill.Run(ctx, &c.batch, saved, backfill.Hooks{
					Pace: func(context.Context) (backfill.Pace, error) { return pace, nil },
					Begin: func(ctx context.Context, _ bool) (engine.Tx, error) {
						tx, err := db.Begin(ctx, engine.TxOptions{})
						return counting{tx, &updates}, err
					},
					Save: func(_ context.Context, _ engine.Tx, p backfill.Checkpoint) error {
						saved = p
						return nil
					},
					Done: func(int64, time.Duration, time.Duration) { stop() },
				})
				stop()
				if err == nil {
					break
				}
				if !errors.Is(err, context.Canceled) {
					t.Fatal(err)
				}
				// A row that comes meanwhile, above all others, is not the backfill's.
				if stops++; stops == 1 {
					exec(t, db, map[string]string{"numbers with gaps": "insert into t values (99999999, 5)",
						"texts": "insert into t values ('zzz', 5)", "two columns": "insert into t values ('zzz', 1, 5)"}[name])
				}
			}
			rows, err := db.Query(ctx, "select count(*), sum(n), max(n), min(n) from t where n <> 5")
			if err != nil {
				t.Fatal(err)
			}
			if got := fmt.Sprint(rows.Values[0]...); got != "5000 5000 1 1" || saved.Rows != 5000 || stops < 2 {
				t.Errorf("rows, sum, most and least: %s; the checkpoint says %d; stopped %d times", got, saved.Rows, stops)
			}
			if many := updates > 2*stops; many != (pace.Stretch > 0) {
				t.Errorf("%d updates in %d batches", updates, stops)
			}
		})
	}
}

// counting counts what is written in a transaction.
type counting struct {
	engine.Tx
	writes *int
}

func (c counting) Exec(ctx context.Context, sql string, args ...any) (int64, error) {
	*c.writes++
	return c.Tx.Exec(ctx, sql, args...)
}

// held is a transaction that does not get the row with a key while somebody has it.
type held struct {
	engine.Tx
	key   int64
	tries *int
}

func (h held) Exec(ctx context.Context, sql string, args ...any) (int64, error) {
	low, high := int64(-1<<62), args[len(args)-1].(int64)
	if len(args) == 2 {
		low = args[0].(int64)
	}
	if low < h.key && h.key <= high && *h.tries > 0 {
		*h.tries--
		return 0, &engine.Busy{Err: errors.New("a row is locked")}
	}
	return h.Tx.Exec(ctx, sql, args...)
}

// TestABatchGivesWay is that a batch which does not get a row lets go of the others, comes
// down to that row alone, and waits only then.
func TestABatchGivesWay(t *testing.T) {
	for name, pace := range paces {
		t.Run(name, func(t *testing.T) {
			ctx := context.Background()
			db := open(t)
			c := tables["numbers with gaps"]
			exec(t, db, series, c.create, "insert into t select value, 0 from s")
			c.batch.Do = []string{"update t set n = n + 1 where " + engine.Range}
			tries, gaveWay := 6, 0
			var waits []bool
			end, err := backfill.Run(ctx, &c.batch, backfill.Checkpoint{}, backfill.Hooks{
				Pace: func(context.Context) (backfill.Pace, error) { return pace, nil },
				Begin: func(ctx context.Context, alone bool) (engine.Tx, error) {
					if 0 < tries && tries < 6 {
						waits = append(waits, alone)
					}
					tx, err := db.Begin(ctx, engine.TxOptions{})
					return held{tx, 700, &tries}, err
				},
				GaveWay: func(times int, busy *engine.Busy) { gaveWay = times },
				Save:    func(context.Context, engine.Tx, backfill.Checkpoint) error { return nil },
				Done:    func(int64, time.Duration, time.Duration) {},
			})
			if err != nil || end.Rows != 5000 || gaveWay == 0 {
				t.Errorf("%d rows, given up %d times: %v", end.Rows, gaveWay, err)
			}
			rows, err := db.Query(ctx, "select min(n), max(n) from t")
			if err != nil || fmt.Sprint(rows.Values[0]...) != "1 1" {
				t.Errorf("the least and the most that a row was done: %v, %v", rows, err)
			}
			if slices.Contains(waits[:1], true) || !slices.Contains(waits, true) {
				t.Errorf("it waited in its tries: %v", waits)
			}
		})
	}
}

func TestAnEmptyTableHasNothingToDo(t *testing.T) {
	ctx := context.Background()
	db := open(t)
	c := tables["texts"]
	exec(t, db, c.create)
	c.batch.Do = []string{"update t set n = n + 1 where " + engine.Range}
	_, err := backfill.Run(ctx, &c.batch, backfill.Checkpoint{}, backfill.Hooks{
		Pace:  func(context.Context) (backfill.Pace, error) { return backfill.Pace{BatchTime: time.Second}, nil },
		Begin: func(ctx context.Context, _ bool) (engine.Tx, error) { return db.Begin(ctx, engine.TxOptions{}) },
		Save: func(context.Context, engine.Tx, backfill.Checkpoint) error {
			t.Error("there is nothing to save")
			return nil
		},
		Done: func(int64, time.Duration, time.Duration) {},
	})
	if err != nil {
		t.Error(err)
	}
}

// open makes an empty database for a test.
func open(t *testing.T) engine.Database {
	t.Helper()
	db, err := sqlite.Engine{}.Open(context.Background(), "sqlite:"+filepath.Join(t.TempDir(), "x.db"), engine.Create)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

func exec(t *testing.T, db engine.Database, statements ...string) {
	t.Helper()
	tx, err := db.Begin(context.Background(), engine.TxOptions{})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range statements {
		if _, err := tx.Exec(context.Background(), s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
}

// slow is a transaction on a database whose log takes a while for each row.
type slow struct {
	engine.Tx
	rows  *int64
	times map[int64]int // how often a commit had so many thousand rows
}

func (s slow) Commit() error {
	time.Sleep(2*time.Millisecond + time.Duration(*s.rows)*60*time.Microsecond)
	s.times[*s.rows/1000]++
	return s.Tx.Commit()
}

// TestCommitsStayShort is that batches shrink where what others commit would wait for a
// log that is busy with a batch.
func TestCommitsStayShort(t *testing.T) {
	for _, c := range []struct {
		flush float64
		large bool
	}{{0, true}, {2, false}} {
		ctx := context.Background()
		db := open(t)
		numbers := tables["numbers with gaps"]
		exec(t, db, series, numbers.create, "insert into t select value * 4 + b.n, 0 from s, (select 0 as n union all "+
			"select 1 union all select 2 union all select 3) b")
		numbers.batch.Do = []string{"update t set n = n + 1 where " + engine.Range}
		var done, batch int64
		times := map[int64]int{}
		end, err := backfill.Run(ctx, &numbers.batch, backfill.Checkpoint{}, backfill.Hooks{
			Pace: func(context.Context) (backfill.Pace, error) {
				return backfill.Pace{BatchTime: time.Second, Flush: c.flush}, nil
			},
			Begin: func(ctx context.Context, _ bool) (engine.Tx, error) {
				tx, err := db.Begin(ctx, engine.TxOptions{})
				return slow{tx, &batch, times}, err
			},
			Save: func(_ context.Context, _ engine.Tx, p backfill.Checkpoint) error {
				batch, done = p.Rows-done, p.Rows
				return nil
			},
			Done: func(int64, time.Duration, time.Duration) {},
		})
		if err != nil || end.Rows != 20_000 {
			t.Fatalf("%d rows: %v", end.Rows, err)
		}
		many := 0
		for thousands, n := range times {
			if thousands >= 4 {
				many += n
			}
		}
		if large := many > 0; large != c.large {
			t.Errorf("with a bound of %v the commits had thousands of rows so often: %v", c.flush, times)
		}
	}
}

// lame is a transaction that the engine gives up, with whatever it does, a number of times.
type lame struct {
	engine.Tx
	left *int
}

func (l lame) Exec(ctx context.Context, sql string, args ...any) (int64, error) {
	if *l.left > 0 {
		*l.left--
		return 0, &engine.Slow{Limit: time.Second}
	}
	return l.Tx.Exec(ctx, sql, args...)
}

// TestARowIsTriedAgain is that a row which takes too long by itself is tried a few times, and
// that it stops the backfill then.
func TestARowIsTriedAgain(t *testing.T) {
	for _, c := range []struct {
		times int
		ends  bool
	}{{5, true}, {6, false}} { // 200 rows, 25, 3, and 1 row three times
		ctx := context.Background()
		db := open(t)
		numbers := tables["numbers with gaps"]
		exec(t, db, series, numbers.create, "insert into t select value, 0 from s")
		numbers.batch.Do = []string{"update t set n = n + 1 where " + engine.Range}
		left, heard := c.times, 0
		end, err := backfill.Run(ctx, &numbers.batch, backfill.Checkpoint{}, backfill.Hooks{
			Pace: func(context.Context) (backfill.Pace, error) { return backfill.Pace{BatchTime: time.Second}, nil },
			Begin: func(ctx context.Context, _ bool) (engine.Tx, error) {
				tx, err := db.Begin(ctx, engine.TxOptions{})
				return lame{tx, &left}, err
			},
			TooSlow: func(int, *engine.Slow) { heard++ },
			Save:    func(context.Context, engine.Tx, backfill.Checkpoint) error { return nil },
			Done:    func(int64, time.Duration, time.Duration) {},
		})
		var slow *engine.Slow
		if c.ends && (err != nil || end.Rows != 5_000 || heard != 5) || !c.ends && (!errors.As(err, &slow) || end.Rows != 0) {
			t.Errorf("given up %d times, it ended at %d rows, and was heard of %d times: %v", c.times, end.Rows, heard, err)
		}
	}
}
