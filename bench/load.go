package main

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"
)

// waits are the longest times that applications had to wait.
type waits struct{ insert, update, took time.Duration }

// comes is what writers insert.
const comes = `insert into "call" (n, berth_id, code, note) values (1, 1, 'new %d', 'n')`

// underLoad does something while applications write and a reader idles in a transaction
// for two seconds.
func underLoad(open func() (*sql.DB, error), do func() error) (waits, error) {
	reader, err := open()
	if err != nil {
		return waits{}, err
	}
	defer reader.Close()
	tx, err := reader.Begin()
	if err != nil {
		return waits{}, err
	}
	if _, err := tx.Exec(`select 1 from "call" limit 1`); err != nil {
		return waits{}, err
	}
	end := time.AfterFunc(2*time.Second, func() { tx.Commit() })
	defer end.Stop()
	return besideWriters(open, comes, do)
}

// besideWriters does something while applications write.
func besideWriters(open func() (*sql.DB, error), insert string, do func() error) (waits, error) {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	var w waits
	var lock sync.Mutex
	var group sync.WaitGroup
	var failed error
	write := func(longest *time.Duration, statement func() string) {
		db, err := open()
		if err == nil {
			defer db.Close()
			db.SetMaxOpenConns(1)
		}
		for err == nil && ctx.Err() == nil {
			began := time.Now()
			_, err = db.Exec(statement())
			lock.Lock()
			*longest = max(*longest, time.Since(began))
			lock.Unlock()
			time.Sleep(5 * time.Millisecond)
		}
		if err != nil {
			lock.Lock()
			failed = err
			lock.Unlock()
		}
	}
	n := time.Now().UnixMicro()
	group.Go(func() {
		write(&w.insert, func() string {
			n++
			return fmt.Sprintf(insert, n)
		})
	})
	group.Go(func() {
		write(&w.update, func() string {
			return fmt.Sprintf(`update "call" set filler = 'y' where id = %d`, 1+rand.IntN(*rows))
		})
	})
	time.Sleep(200 * time.Millisecond)
	began := time.Now()
	err := do()
	w.took = time.Since(began)
	stop()
	group.Wait()
	if err == nil {
		err = failed
	}
	return w, err
}
