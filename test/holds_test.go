package test

import (
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"lastboard/test/server"
)

// TestHoldsForOthers is that a backfill holds by itself while an old transaction is open,
// and while others wait for its table, says why, and goes on.
func TestHoldsForOthers(t *testing.T) {
	beside(t)
	for i, name := range slices.Sorted(maps.Keys(engines)) {
		if !itsTurn(i, 3) {
			continue
		}
		database := engines[name]
		t.Run(name+", an old transaction", func(t *testing.T) {
			beside(t)
			f := filling(t, database(t), 80_000, "", "old_transaction = '3s'\n")
			db := f.open()
			defer db.Close()
			db.SetMaxOpenConns(2)
			f.until("its rows", begun)
			f.must("pace", "--hold") // it would be done before the transaction is old
			tx := f.reader(db)
			time.Sleep(3500 * time.Millisecond)
			f.must("pace", "--release")
			w := f.until("holding for it", func(w map[string]any) bool {
				return holding(w) && strings.Contains(w["holding"].(string), "an old transaction")
			})
			if !strings.Contains(w["holding"].(string), "session") {
				t.Errorf("it does not say whose: %v", w)
			}
			if err := tx.Rollback(); err != nil {
				t.Fatal(err)
			}
			f.end()
		})
		t.Run(name+", a session that waits", func(t *testing.T) {
			beside(t)
			f := filling(t, database(t), 80_000, "", "old_transaction = '0s'\n")
			db := f.open()
			defer db.Close()
			db.SetMaxOpenConns(2)
			f.until("its rows", begun)
			f.must("pace", "--hold")
			tx := f.reader(db)
			var changed atomic.Bool
			go func() { // it waits for the reader
				if _, err := db.Exec("alter table call_ add column later integer"); err == nil {
					changed.Store(true)
				}
			}()
			time.Sleep(300 * time.Millisecond)
			f.must("pace", "--release")
			f.until("holding for it", func(w map[string]any) bool {
				return holding(w) && strings.Contains(w["holding"].(string), "others wait for the table")
			})
			if err := tx.Rollback(); err != nil {
				t.Fatal(err)
			}
			f.until("going on", goesOn)
			for began := time.Now(); !changed.Load() && time.Since(began) < patience; {
				time.Sleep(10 * time.Millisecond)
			}
			if !changed.Load() {
				t.Error("the other's change did not come about")
			}
			if _, err := db.Exec("alter table call_ drop column later"); err != nil {
				t.Error(err)
			}
			f.end()
		})
	}
}

// TestHoldsForAReplica is that a backfill holds while a replica is behind or has stopped,
// says so, and goes on once it follows again.
func TestHoldsForAReplica(t *testing.T) {
	beside(t)
	inTurn(t, 0, 2, "PostgreSQL", func(t *testing.T) {
		beside(t)
		p, err := server.StartPostgres()
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { p.Stop() })
		name, err := p.Database()
		if err != nil {
			t.Fatal(err)
		}
		replica, err := p.Replica("pier_b")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { replica.Stop() })
		f := filling(t, p.URL(name), 400_000, "", "")
		on := &office{T: t, dir: f.dir, url: replica.URL("postgres")}
		f.until("its rows", begun)
		on.exec("select pg_wal_replay_pause()")
		paused := time.Now()
		w := f.until("holding", holding)
		if took := time.Since(paused); took < 4*time.Second || took > 9*time.Second ||
			!strings.HasPrefix(w["holding"].(string), "replica pier_b is ") {
			t.Errorf("it held after %s: %v", took, w["holding"])
		}
		f.wants(f.follows(1), "holding: replica pier_b is ", " s behind")
		on.exec("select pg_wal_replay_resume()")
		f.until("going on", goesOn)
		if err := replica.Kill(); err != nil {
			t.Fatal(err)
		}
		f.until("holding", func(w map[string]any) bool {
			return holding(w) && w["holding"] == "replica pier_b does not follow"
		})
		if err := replica.Start(); err != nil {
			t.Fatal(err)
		}
		f.until("going on", goesOn)
		f.end()
	})
	inTurn(t, 1, 2, "MariaDB", func(t *testing.T) {
		beside(t)
		m, err := server.StartMariaDB("log-bin=log", "server-id=1", "binlog-format=ROW", "log-bin-trust-function-creators=1")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { m.Stop() })
		name, err := m.Database()
		if err != nil {
			t.Fatal(err)
		}
		replica, err := m.Replica(2)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { replica.Stop() })
		for began := time.Now(); replica.Exec(name, "select 1") != nil; time.Sleep(50 * time.Millisecond) {
			if time.Since(began) > patience {
				t.Fatal("the replica does not follow")
			}
		}
		f := filling(t, m.URL(name), 400_000, "replicas = ['"+replica.URL(name)+"']\n", "")
		f.until("its rows", begun)
		if err := replica.Exec("", "stop slave"); err != nil {
			t.Fatal(err)
		}
		f.until("holding", func(w map[string]any) bool {
			return holding(w) && strings.HasSuffix(w["holding"].(string), " does not follow")
		})
		if err := replica.Exec("", "start slave"); err != nil {
			t.Fatal(err)
		}
		f.until("going on", goesOn)
		db := (&office{T: t, dir: f.dir, url: replica.URL(name)}).open()
		defer db.Close()
		c, err := db.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if _, err := c.ExecContext(t.Context(), "lock tables call_ read"); err != nil {
			t.Fatal(err)
		}
		f.until("holding", func(w map[string]any) bool {
			return holding(w) && strings.HasSuffix(w["holding"].(string), " s behind")
		})
		if _, err := c.ExecContext(t.Context(), "unlock tables"); err != nil {
			t.Fatal(err)
		}
		f.until("going on", goesOn)
		f.end()
	})
}

// TestReadingWaitsNotForEver is that what only reads gives up, and says who is in the way, where
// somebody waits for a table behind somebody else who does not let go of it.
func TestReadingWaitsNotForEver(t *testing.T) {
	o := newServerOffice(t, "create table vessel (id integer primary key)",
		"create function nothing() returns trigger language plpgsql as $$ begin return new; end $$",
		"create trigger of_the_office before update on vessel for each row execute function nothing()")
	o.must("adopt", "--yes")
	o.migration("0002-name", "-- A name\nalter table vessel add column name varchar(20);\n")
	writing, waiting := o.open(), o.open()
	defer writing.Close()
	defer waiting.Close()
	tx, err := writing.Begin()
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	if _, err := tx.Exec("insert into vessel values (1)"); err != nil {
		t.Fatal(err)
	}
	go waiting.Exec("truncate vessel")
	time.Sleep(300 * time.Millisecond)
	o.wants(o.code(1, "advance", "--yes"), "in the way is", "truncate vessel")
}
