package demo

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	_ "modernc.org/sqlite" // the driver
)

// Report is what the second process says when it ends.
type Report struct {
	Writes  int           `json:"writes"`
	Longest time.Duration `json:"longest"` // that one write had to wait
	Refused int           `json:"refused"` // writes that the database did not take
	Error   string        `json:"error"`
}

// connect opens the office's database as an application would: it waits when
// somebody else is writing.
func connect(folder string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file:"+filepath.Join(folder, "harbour.db")+"?_pragma=busy_timeout(20000)&_pragma=foreign_keys(1)&_pragma=synchronous(1)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

// Write is the second process: it notes an arrival every few milliseconds until
// its standard input ends, as it does when its parent does, writes down which ones
// the database has taken, and reports.
func Write(ctx context.Context, folder string, pause time.Duration, input io.Reader) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	go func() {
		_, _ = io.Copy(io.Discard, input) // its end is all that counts
		stop()
	}()
	db, err := connect(folder)
	if err != nil {
		return err
	}
	defer db.Close()
	f, err := os.Create(filepath.Join(folder, "writer.log"))
	if err != nil {
		return err
	}
	taken := bufio.NewWriter(f)
	var r Report
	for i := 0; ctx.Err() == nil; i++ {
		began := time.Now()
		result, err := db.Exec("insert into port_call (vessel_id, berth_id, arrived_at, dues) values (?, ?, ?, ?)",
			i%20+1, i%(berths-1)+1, time.Now().UTC().Format(time.DateTime), i%900)
		if err != nil {
			r.Refused++
			r.Error = err.Error()
		} else {
			id, err := result.LastInsertId()
			if err != nil {
				return err
			}
			fmt.Fprintln(taken, id, i%900)
			r.Writes++
			r.Longest = max(r.Longest, time.Since(began))
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
	data, err := json.Marshal(r)
	return errors.Join(err, taken.Flush(), f.Close(), os.WriteFile(filepath.Join(folder, "writer.json"), data, 0o666))
}
