package main

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"syscall"
	"time"
)

// calm compares the 99th percentile of what writers wait while a backfill of every row goes
// on at its usual pace with that of the same writers alone, on both servers.
func (b *bench) calm() error {
	h, err := b.openHarbour()
	if err != nil {
		return err
	}
	defer h.Stop()
	r, err := b.openRoads()
	if err != nil {
		return err
	}
	defer r.Stop()
	r.copies = 100 // the two servers' projects stand in one folder
	const fill = `backfill "call" set x = n + 1`
	for _, s := range []struct {
		name  string
		fresh func(live bool, migration string) (database, project string, err error)
		open  func(database string) (*sql.DB, error)
		// settle waits until the server has written out what has changed.
		settle func(database string) error
	}{
		{"PostgreSQL", h.fresh, func(database string) (*sql.DB, error) { return sql.Open("pgx", h.URL(database)) },
			func(database string) error { return h.exec(database, "checkpoint") }},
		{"MariaDB", r.fresh, r.open, r.settle},
	} {
		database, project, err := s.fresh(true, fill)
		if err != nil {
			return err
		}
		open := func() (*sql.DB, error) { return s.open(database) }
		// Not while the server still writes out the copy of the table.
		if err := s.settle(database); err != nil {
			return err
		}
		syscall.Sync()
		quiet := func() error { time.Sleep(15 * time.Second); return nil }
		alone, err := percentile(open, quiet)
		if err != nil {
			return err
		}
		began := time.Now()
		beside, err := percentile(open, func() error { _, err := b.lastboard(project, "advance", "--yes"); return err })
		if err != nil {
			return err
		}
		took := time.Since(began)
		if err := s.settle(database); err != nil {
			return err
		}
		syscall.Sync()
		after, err := percentile(open, quiet)
		if err != nil {
			return err
		}
		alone = min(alone, after) // where the disk was busy with something else
		fmt.Printf("%-62s beside a backfill of %.0f s %.1f ms   alone %.1f ms   ratio %.2f   (at most 2)\n",
			s.name+": 99th percentile of a write", took.Seconds(), ms(beside), ms(alone), beside.Seconds()/alone.Seconds())
	}
	return nil
}

// settle waits until the server has written out what has changed.
func (r *roads) settle(database string) error {
	db, err := r.open(database)
	if err != nil {
		return err
	}
	defer db.Close()
	const often = "set global innodb_max_dirty_pages_pct_lwm = 0.001, innodb_max_dirty_pages_pct = 0.001"
	if _, err := db.Exec(often); err != nil {
		return err
	}
	for range 600 {
		var name string
		var dirty int
		if err := db.QueryRow("show global status like 'Innodb_buffer_pool_pages_dirty'").Scan(&name, &dirty); err != nil {
			return err
		}
		if dirty < 100 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	_, err = db.Exec("set global innodb_max_dirty_pages_pct_lwm = default, innodb_max_dirty_pages_pct = default")
	return err
}

// percentile gives the 99th percentile of the writes of three writers while something is
// done.
func percentile(open func() (*sql.DB, error), do func() error) (time.Duration, error) {
	var lock sync.Mutex
	var all []time.Duration
	var failed error
	var group sync.WaitGroup
	quit := make(chan struct{})
	for range 3 {
		group.Go(func() {
			db, err := open()
			if err == nil {
				defer db.Close()
				db.SetMaxOpenConns(1)
			}
			for err == nil {
				select {
				case <-quit:
					return
				case <-time.After(5 * time.Millisecond):
				}
				began := time.Now()
				_, err = db.Exec(fmt.Sprintf(`update "call" set filler = 'y' where id = %d`, 1+rand.IntN(*rows)))
				lock.Lock()
				all = append(all, time.Since(began))
				lock.Unlock()
			}
			lock.Lock()
			failed = err
			lock.Unlock()
		})
	}
	err := do()
	close(quit)
	group.Wait()
	if err == nil {
		err = failed
	}
	if err != nil {
		return 0, err
	}
	slices.Sort(all)
	return all[len(all)*99/100], nil
}
