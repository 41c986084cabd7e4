package test

import (
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
)

// TestPreparedStatementsGoOn is that no statement of an application fails since a run makes
// triggers that write to other tables, or takes them away, whether the statement was prepared
// long before or just then. Two that change keys at the same moment may be told of a deadlock on
// MariaDB, while what is kept of the rows is read.
func TestPreparedStatementsGoOn(t *testing.T) {
	beside(t)
	const rows = 2000
	changes := []string{
		"alter table voyage drop column d", "backfill voyage set n = n + 1",
		"alter table voyage alter e set not null using ('none')",
		"insert into voyage (id, n) values (900001, 1)", "alter table voyage alter n set data type bigint",
	}
	for i, c := range [][2]string{{"MariaDB"}, {"MariaDB", ", code text unique"}, {"PostgreSQL"}} {
		if !itsTurn(i, 3) {
			continue
		}
		name, more := c[0], c[1]
		t.Run(name+more, func(t *testing.T) {
			var values []string
			for i := range rows {
				values = append(values, fmt.Sprintf("(%d, 1, null, null)", i))
			}
			o := officeOn(t, name, []string{"create table voyage (id integer not null primary key, n integer, d " +
				"varchar(20), e varchar(20)" + more + ")", "insert into voyage (id, n, d, e) values " + strings.Join(values, ", ")})
			o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
				"'\nlive = true\n[databases.dev.pace]\nlock_wait = '2s'\n")
			o.migration("0002-change", "-- A change\n"+changes[0]+";\n")
			statements := []string{"insert into voyage (id, n, e) values (?, 1, 'x')",
				"update voyage set id = id + 1000000 where id = ?", "delete from voyage where id = ?"}
			next := atomic.Int64{}
			next.Store(rows)
			var kept []*sql.Stmt
			db := o.open()
			defer db.Close()
			for _, text := range statements {
				s, err := db.Prepare(numbered(o, text))
				if err != nil {
					t.Fatal(err)
				}
				kept = append(kept, s)
			}
			stop := o.meanwhile(6, func(fresh *sql.DB, r *rand.Rand) error {
				id := next.Add(1)
				for i, text := range statements {
					ways := []func() (sql.Result, error){
						func() (sql.Result, error) { return fresh.Exec(numbered(o, text), id) },
						func() (sql.Result, error) { return kept[i].Exec(5000000 + id) },
					}
					for _, way := range ways {
						_, err := way()
						var e *mysql.MySQLError
						if errors.As(err, &e) && e.Number == 1213 && i == 1 {
							_, err = way()
						}
						if err != nil {
							return err
						}
					}
					if i == 1 {
						id += 1000000
					}
				}
				return nil
			})
			rounds := 1
			if *allKinds {
				rounds = 10
			}
			for _, change := range changes {
				o.migration("0002-change", "-- A change\n"+change+";\n")
				for range rounds {
					o.must("advance", "--yes", "--settle", "--let-writers-wait")
					o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
				}
			}
			if n := stop(); n < 100 {
				t.Errorf("the application did %d times what it does", n)
			}
		})
	}
}

// numbered writes the marks of a statement as the engine has them.
func numbered(o *office, text string) string {
	if o.onMariaDB() {
		return text
	}
	return strings.Replace(text, "?", "$1", 1)
}

// TestTableThatIsNotAlteredInAnInstant is a live MariaDB table with a unique key of long texts,
// which the server alters by copying it alone: what only makes triggers does without.
func TestTableThatIsNotAlteredInAnInstant(t *testing.T) {
	o := officeOn(t, "MariaDB", []string{"create table berth (id integer not null primary key, code text not null " +
		"unique, depth integer, owner varchar(20))", "insert into berth values (1, 'a', 1, 'x'), (2, 'b', 2, null)"})
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
		"'\nlive = true\n[databases.dev.pace]\nlock_wait = '1s'\n")
	start := o.query("select * from berth order by id")
	for _, statement := range []string{
		"backfill berth set depth = depth + 1", "alter table berth drop owner",
		"alter table berth alter owner set not null using ('q')",
		"alter table berth add tag varchar(90) using (code || '!')",
		"alter table berth alter depth set data type varchar(20)", "delete from berth where id = 2",
	} {
		o.migration("0002-change", "-- A change\n"+statement+";\n")
		o.must("advance", "--yes", "--settle", "--let-writers-wait")
		o.wants(o.code(0, "audit"), "matches:")
		o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
		o.wants(o.code(0, "audit"), "matches:")
		o.same("select count(*) from information_schema.triggers where trigger_schema = database() and trigger_name not "+
			"like '%kept%'", "0")
	}
	if back := o.query("select id, code, depth, owner from berth order by id"); back != start {
		t.Errorf("wanted\n%s\ngot\n%s", start, back)
	}
}

// TestTransactionsGoOn is that no transaction of applications which never wait for each other is ended
// beside a fill, whatever it does to rows that are done and to those that are not, in whatever order.
func TestTransactionsGoOn(t *testing.T) {
	beside(t)
	const rows, workers = 4000, 4
	for i, c := range [][2]string{
		{"MariaDB", "backfill voyage set n = n + 1"}, {"PostgreSQL", "backfill voyage set n = n + 1"},
		{"MariaDB", "alter table voyage alter e set not null using ('none')"},
		{"MariaDB", "alter table voyage add column f integer using (n + 1)"},
		{"PostgreSQL", "alter table voyage add column f integer using (n + 1)"},
		{"MariaDB", "backfill voyage set e = d discard"},
	} {
		if !itsTurn(i, 6) {
			continue
		}
		name, change := c[0], c[1]
		t.Run(name+", "+change, func(t *testing.T) {
			var values []string
			for i := range rows {
				values = append(values, fmt.Sprintf("(%d, 1, 'a', null)", i))
			}
			o := officeOn(t, name, []string{"create table voyage (id integer not null primary key, n integer, d " +
				"varchar(20), e varchar(20))", "insert into voyage (id, n, d, e) values " + strings.Join(values, ", ")})
			o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
				"'\nlive = true\n[databases.dev.pace]\nlock_wait = '5ms'\nlock_tries = 400\n")
			next, worker := atomic.Int64{}, atomic.Int64{}
			next.Store(rows)
			mine := sync.Map{}
			stop := o.meanwhile(workers, func(db *sql.DB, r *rand.Rand) error {
				n, _ := mine.LoadOrStore(r, worker.Add(1)%workers)
				id := func() int64 { return n.(int64) + workers*r.Int64N(rows/workers) } // nobody else's
				tx, err := db.Begin()
				if err != nil {
					return err
				}
				defer tx.Rollback()
				gone, came := id(), next.Add(1)
				for _, sql := range []string{
					fmt.Sprintf("update voyage set n = n + 1, d = 'b' where id = %d", id()),
					fmt.Sprintf("delete from voyage where id = %d", gone),
					fmt.Sprintf("insert into voyage (id, n, e) values (%d, 1, 'x')", came),
					fmt.Sprintf("update voyage set n = n + 1, d = 'b' where id = %d", id()),
					fmt.Sprintf("insert into voyage (id, n, e) values (%d, 1, 'x')", gone),
					fmt.Sprintf("delete from voyage where id = %d", came),
				} {
					if _, err := tx.Exec(sql); err != nil {
						return err
					}
				}
				time.Sleep(time.Millisecond)
				return tx.Commit()
			})
			o.migration("0002-change", "-- A change\n"+change+";\n")
			o.must("advance", "--yes", "--settle", "--let-writers-wait")
			o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
			if n := stop(); n < 100 {
				t.Errorf("the applications did %d transactions", n)
			}
		})
	}
}
