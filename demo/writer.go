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
	"regexp"
	"strings"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the drivers
	_ "modernc.org/sqlite"

	"lastboard/internal/engine/mariadb"
)

// Report is what the second process says when it ends.
type Report struct {
	Writes  int           `json:"writes"`
	Longest time.Duration `json:"longest"` // that one write had to wait
	Refused int           `json:"refused"` // writes that the database did not take
	Error   string        `json:"error"`
}

// connect opens the office's database as an application would: the file in its folder,
// where it waits when somebody else is writing, or one on a server.
func connect(folder, url string) (*sql.DB, error) {
	driver, source := "sqlite", "file:"+filepath.Join(folder, "harbour.db")+
		"?_pragma=busy_timeout(20000)&_pragma=foreign_keys(1)&_pragma=synchronous(1)"
	if onMariaDB(url) {
		c, err := mariadb.Connector(url)
		if err != nil {
			return nil, err
		}
		db := sql.OpenDB(c)
		db.SetMaxOpenConns(1)
		return db, nil
	}
	if url != "" {
		driver, source = "pgx", url
	}
	db, err := sql.Open(driver, source)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

func onMariaDB(url string) bool {
	return strings.HasPrefix(url, "mariadb:") || strings.HasPrefix(url, "mysql:")
}

// parameter is a numbered mark in a statement.
var parameter = regexp.MustCompile(`\$[0-9]+`)

// spell writes a statement as the database's engine has it.
func spell(url, statement string) string {
	if !onMariaDB(url) {
		return statement
	}
	return strings.NewReplacer(" as text)", " as char)", " as integer)", " as signed)",
		"string_agg(winter_berth, '' order by id)", "group_concat(winter_berth order by id separator '')").
		Replace(parameter.ReplaceAllString(statement, "?"))
}

// now gives the time as the database's column takes it.
func now(url string) any {
	t := time.Now().UTC()
	if url != "" {
		return t
	}
	return t.Format(time.DateTime)
}

// Write is the second process: it notes an arrival every few milliseconds until
// its standard input ends, as it does when its parent does, writes down which ones
// the database has taken, and reports.
func Write(ctx context.Context, folder, url string, pause time.Duration, input io.Reader) error {
	ctx, stop := untilEnd(ctx, input)
	defer stop()
	db, err := connect(folder, url)
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
		var id int64
		err := db.QueryRow(spell(url, "insert into port_call (vessel_id, berth_id, arrived_at, dues) values ($1, $2, "+
			"$3, $4) returning id"),
			i%20+1, i%(berths-1)+1, now(url), i%900).Scan(&id)
		if err != nil {
			r.Refused++
			r.Error = err.Error()
		} else {
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

// untilEnd gives a context that ends with what a process reads: it does so when its parent does.
func untilEnd(ctx context.Context, input io.Reader) (context.Context, context.CancelFunc) {
	ctx, stop := context.WithCancel(ctx)
	go func() {
		_, _ = io.Copy(io.Discard, input) // its end is all that counts
		stop()
	}()
	return ctx, stop
}
