package test

import (
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// TestDroppedIsKeptBesideWriters settles that a column is dropped of a table which is long for its
// lock_wait, while programs of before write that column until it has gone: each value that they were
// told is written comes back, with the row that has it then.
func TestDroppedIsKeptBesideWriters(t *testing.T) {
	beside(t)
	for _, server := range everywhere[1:] {
		t.Run(server, func(t *testing.T) {
			o := droppingFlags(t, server)
			db := o.open()
			defer db.Close()
			flags := make([]map[int]string, 4)
			var all sync.WaitGroup
			for i := range flags {
				flags[i] = map[int]string{}
				for id := range 200 {
					flags[i][-1-id*4-i] = fmt.Sprint("old ", 1+id*4+i)
				}
				all.Go(func() { writeFlags(t, db, rand.New(rand.NewPCG(uint64(i), 17)), i, flags[i]) })
			}
			o.must("settle", "--yes")
			all.Wait()
			o.must("audit")
			// What programs of after do moves what is kept, and takes it away.
			want := map[int]string{}
			for _, f := range flags {
				maps.Copy(want, f)
			}
			ids := slices.Sorted(maps.Keys(want))
			o.exec(fmt.Sprintf("delete from vessel where id = %d", ids[0]),
				fmt.Sprintf("update vessel set id = 1000000 where id = %d", ids[1]), "insert into vessel (id, n) values "+
					"(1000001, 0)")
			want[1000000], want[1000001] = want[ids[1]], ""
			delete(want, ids[0])
			delete(want, ids[1])
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.must("audit")
			var lines []string
			for _, id := range slices.Sorted(maps.Keys(want)) {
				lines = append(lines, fmt.Sprintf("%d|%s", id, want[id]))
			}
			o.same("select id, coalesce(flag, '') from vessel where id > -801 order by id", strings.Join(lines, "\n"))
			o.same("select count(*) from vessel where id < -800 and flag <> "+map[string]string{"PostgreSQL": "'old ' || -id",
				"MariaDB": "concat('old ', -id)"}[server], "0")
		})
	}
}

// droppingFlags has a migration open that drops a column, whose values are kept beside applications.
func droppingFlags(t *testing.T, server string) *office {
	t.Helper()
	const rows = 8000
	series := fmt.Sprintf("select -g, 'old ' || g, 0 from generate_series(1, %d) g", rows)
	if server == "MariaDB" {
		series = fmt.Sprintf("select -seq, concat('old ', seq), 0 from seq_1_to_%d", rows)
	}
	o := officeOn(t, server,
		[]string{"create table vessel (id integer not null primary key, flag varchar(20), n integer " +
			"not null)", "insert into vessel " + series, "create table port (id integer not null primary key)",
			map[string]string{"PostgreSQL": "analyze", "MariaDB": "analyze table vessel"}[server]})
	o.paced("lock_wait = '5ms'\nlock_tries = 2000\nbatch_time = '5ms'\n")
	o.migration("0002-flag", "-- No flags\nalter table vessel drop column flag;\n")
	o.must("advance", "--yes")
	if r := o.code(0, "forecast"); !strings.Contains(r.stdout, "of rows that are written") {
		t.Fatalf("it is not kept beside the applications: %s", r)
	}
	return o
}

// TestKeptBesideOldSnapshots writes a row whose value is kept, or is just about to be, in a transaction that
// began before that: it is told at most what it would be told when another program had written the row.
func TestKeptBesideOldSnapshots(t *testing.T) {
	beside(t)
	for _, server := range ofToday(t, everywhere[1:]) {
		t.Run(server, func(t *testing.T) {
			o := droppingFlags(t, server)
			db := o.open()
			defer db.Close()
			for _, level := range []sql.IsolationLevel{sql.LevelRepeatableRead, sql.LevelSerializable} {
				tx, err := db.BeginTx(t.Context(), &sql.TxOptions{Isolation: level})
				if err == nil {
					err = tx.QueryRow("select count(*) from port").Scan(new(int))
				}
				if err != nil {
					t.Fatal(err)
				}
				var p *paused
				if server == "PostgreSQL" {
					p = o.pausedAt("batch-committed:1", "settle", "--yes")
				} else { // which lets such transactions end before a trigger writes a table that they may not use
					p = o.start("settle", "--yes")
					for place := ""; place == ""; {
						place = o.query("select table_name from information_schema.tables where table_schema = database() and " +
							"table_name like 'lastboard_kept_%'")
					}
					time.Sleep(200 * time.Millisecond)
				}
				if p == nil {
					t.Fatal("it ended at once")
				}
				_, err = tx.Exec("update vessel set flag = 'mine' where id = -8000")
				if err != nil && !strings.Contains(err.Error(), "could not serialize") {
					t.Errorf("an application was told: %v", err)
				}
				if err = errors.Join(err, tx.Commit()); err != nil {
					t.Logf("%v: %v", level, err)
				}
				want := map[bool]string{true: "mine", false: "old 8000"}[err == nil]
				if r := p.goOn(); r.code != 0 {
					t.Fatal(r)
				}
				o.must("retreat", "--to", "1", "--yes", "--settle")
				o.same("select flag from vessel where id = -8000", want)
				o.exec("update vessel set flag = 'old 8000' where id = -8000")
				o.must("advance", "--yes")
			}
		})
	}
}

// writeFlags writes rows of its own until the column has gone.
func writeFlags(t *testing.T, db *sql.DB, r *rand.Rand, number int, flags map[int]string) {
	next := 0
	for {
		ids := slices.Sorted(maps.Keys(flags))
		id, flag := ids[r.IntN(len(ids))], fmt.Sprint("new ", r.IntN(100000))
		next++
		to := next*4 + number
		var text string
		done := func() { flags[id] = flag }
		switch r.IntN(5) {
		case 0:
			text, done = fmt.Sprintf("insert into vessel values (%d, '%s', 0)", to, flag), func() { flags[to] = flag }
		case 1:
			text, done = fmt.Sprintf("delete from vessel where id = %d and flag is not null", id), func() { delete(flags, id) }
		case 2:
			text = fmt.Sprintf("update vessel set id = %d, flag = '%s' where id = %d", to, flag, id)
			done = func() { delete(flags, id); flags[to] = flag }
		default:
			text = fmt.Sprintf("update vessel set flag = '%s' where id = %d", flag, id)
		}
		if _, err := db.Exec(text); err != nil {
			if !strings.Contains(err.Error(), "flag") && !strings.Contains(err.Error(), "more expressions than target "+
				"columns") &&
				!strings.Contains(err.Error(), "Column count") {
				t.Errorf("%s: %v", text, err)
			}
			return
		}
		done()
		if len(flags) < 20 {
			return
		}
	}
}
