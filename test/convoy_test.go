package test

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/stdlib"
)

// ship is what a row has to be in the end, by the number that it was given at the start and
// that nothing changes.
type ship struct{ name, flag, berth string }

// convoy plays what applications are told they have done on a plain copy in memory.
type convoy struct {
	*office
	engine   string
	altered  string // what somebody has made by hand: "column" or "index"
	r        *rand.Rand
	ships    map[int]*ship
	gone     map[int]bool
	moved    map[int]bool
	touched  map[int]bool // its berth was written, or its name when nothing followed it
	followed bool         // a fill followed what the last transaction changed
	fed      bool         // one computed what the last transaction inserted
	kind     interleaved
	next     int
	// In a storm there are several crews, each with rows of its own.
	crew  int // from 1; 0 where there is one alone
	storm *storm
	sent  int // transactions
}

// things is how many things applications do.
const things = 12

// thing is one of the things that applications do.
func (f *convoy) thing(which int) (what string, do func(db *sql.DB) error) {
	list := make([]int, 4)
	for i := range list {
		list[i] = 1 + f.r.IntN(400)
		if f.crew > 0 {
			list[i] = list[i]/3*3 + f.crew - 1
		}
	}
	f.next++
	n := f.next
	number := 100000*f.crew + 5000 + n
	switch which % things {
	case 0:
		name := fmt.Sprintf("called %d", n)
		return "what is read changes", f.each(list, "name = '"+name+"'", func(o int, s *ship) { s.name = name; f.named(o) })
	case 1:
		return "keys change", f.each(list, fmt.Sprintf("id = id + %d", 10000*n), func(o int, _ *ship) { f.moved[o] = true })
	case 2:
		return "keys change to lower ones", f.each(list, fmt.Sprintf("id = id - %d", 10000*n),
			func(o int, _ *ship) { f.moved[o] = true })
	case 3:
		return "what is written changes", f.each(list, "berth = 7",
			func(o int, s *ship) { s.berth, f.touched[o] = "7", true })
	case 4:
		return "rows go, and their keys come again", func(db *sql.DB) error { return f.goes(db, list[0], number) }
	case 5:
		return "an application gives up", func(db *sql.DB) error { return f.givesUp(db, list) }
	case 6:
		name := fmt.Sprintf("called %d", n)
		return "existing rows are inserted, and so updated", func(db *sql.DB) error { return f.upserts(db, list, name) }
	case 7:
		return "another row takes the key of one", func(db *sql.DB) error { return f.replaces(db, list[0], number) }
	case 8:
		if f.r.IntN(2) == 0 && f.engine != "SQLite" {
			return "rows are loaded", func(db *sql.DB) error { return f.loads(db, number) }
		}
		return "rows are copied", func(db *sql.DB) error { return f.copies(db, list, number) }
	case 9:
		return "the table is emptied, and keys come again", func(db *sql.DB) error { return f.empties(db, number) }
	case 10:
		if f.r.IntN(2) == 0 {
			return "somebody makes an index by hand", func(db *sql.DB) error {
				return f.alters(db, "index", "create index by_hand on vessel (berth)")
			}
		}
		return "somebody adds a column by hand", func(db *sql.DB) error {
			return f.alters(db, "column", "alter table vessel add column by_hand integer")
		}
	}
	return "somebody else runs it, too", func(*sql.DB) error {
		f.command("advance", "--yes", "--settle",
			"--let-writers-wait").Run()
		return nil
	}
}

// named notes rows whose name was just changed: where no fill followed that, what was
// computed from it may be of before.
func (f *convoy) named(list ...int) {
	for _, o := range list {
		if !f.followed {
			f.touched[o] = true
		}
	}
}

// came notes a row that an application has made.
func (f *convoy) came(number int) {
	f.ships[number] = &ship{"new", "null", fmt.Sprint(number)}
	if !f.fed {
		f.touched[number] = true
	}
}

// newRow inserts one.
func newRow(id, number int) string {
	return fmt.Sprintf("into vessel (id, orig, name, berth, length) values (%d, %d, 'new', %d, %d)", id, number, number,
		number)
}

// each updates rows, and plays it on those that were there.
func (f *convoy) each(list []int, set string, change func(o int, s *ship)) func(*sql.DB) error {
	return func(db *sql.DB) error {
		var written []int
		err := f.within(db, func(tx sender) error {
			for _, o := range list {
				n, err := affected(tx, fmt.Sprintf("update vessel set %s where orig = %d", set, o))
				if err != nil {
					return err
				}
				if n == 1 {
					written = append(written, o)
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		for _, o := range written {
			change(o, f.ships[o])
		}
		return nil
	}
}

// affected sends a statement, and says how many rows it wrote.
func affected(tx sender, text string) (int64, error) {
	r, err := tx.ExecContext(context.Background(), text)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// goes deletes a row, and puts a new one under a key that was used just before.
func (f *convoy) goes(db *sql.DB, o, number int) error {
	var went int64
	err := f.within(db, func(tx sender) (err error) {
		if went, err = affected(tx, fmt.Sprintf("delete from vessel where orig = %d", o)); err != nil {
			return err
		}
		for _, text := range []string{"insert " + newRow(number, number),
			fmt.Sprintf("delete from vessel where id = %d", number), "insert " + newRow(number, number)} {
			if _, err := affected(tx, text); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if went == 1 {
		f.gone[o] = true
	}
	f.came(number)
	return nil
}

// givesUp writes rows, and takes all back.
func (f *convoy) givesUp(db *sql.DB, list []int) error {
	err := f.within(db, func(tx sender) error {
		texts := []string{"savepoint a", "update vessel set name = 'never' where orig = 1", "rollback to savepoint a"}
		if f.crew > 1 { // that row is another's
			texts = nil
		}
		for _, text := range append(texts, fmt.Sprintf("update vessel set name = 'never', berth = 9, id = id + %d where "+
			"orig in (%s)", 700000+10000000*f.crew, among(list))) {
			if _, err := affected(tx, text); err != nil {
				return err
			}
		}
		return errUndone
	})
	if err == errUndone {
		return nil
	}
	return err
}

// among lists numbers for a statement.
func among(list []int) string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprint(list), " ", ", "), "[]")
}

// keyOf gives a row's key, which nobody can change until the transaction ends; 0 for a row
// that is not there.
func (f *convoy) keyOf(tx sender, o int) (id int, err error) {
	text := fmt.Sprintf("select id from vessel where orig = %d", o)
	if f.engine != "SQLite" {
		text += " for update"
	}
	if err = tx.QueryRowContext(context.Background(), text).Scan(&id); err == sql.ErrNoRows {
		return 0, nil
	}
	return id, err
}

// upserts writes rows as applications do that do not know whether they are there.
func (f *convoy) upserts(db *sql.DB, list []int, name string) error {
	var written []int
	err := f.within(db, func(tx sender) error {
		for _, o := range list {
			id, err := f.keyOf(tx, o)
			if err != nil {
				return err
			} else if id == 0 {
				continue
			}
			meets := "on conflict (id) do update set name = excluded.name"
			if f.engine == "MariaDB" {
				meets = "on duplicate key update name = values(name)"
			}
			if _, err := affected(tx, fmt.Sprintf("insert into vessel (id, orig, name, berth, length) values (%d, %d, "+
				"'%s', 1, %d) %s", id, o, name, o, meets)); err != nil {
				return err
			}
			written = append(written, o)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, o := range written {
		f.ships[o].name = name
	}
	f.named(written...)
	return nil
}

// replaces puts a row, with its number, in the place of another one.
func (f *convoy) replaces(db *sql.DB, o, number int) error {
	id := 0
	err := f.within(db, func(tx sender) (err error) {
		if id, err = f.keyOf(tx, o); err != nil || id == 0 {
			return err
		}
		statements := []string{"replace " + newRow(id, number)}
		if f.engine == "PostgreSQL" {
			statements = []string{fmt.Sprintf("delete from vessel where id = %d", id), "insert " + newRow(id, number)}
		}
		for _, text := range statements {
			if _, err := affected(tx, text); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil || id == 0 {
		return err
	}
	f.gone[o] = true
	f.came(number)
	return nil
}

// copies makes a row of another one; its number is the given one.
func (f *convoy) copies(db *sql.DB, list []int, number int) error {
	var n int64
	err := f.within(db, func(tx sender) (err error) {
		n, err = affected(tx, fmt.Sprintf("insert into vessel (id, orig, name, berth, length) select %d, %d, 'new', %d, "+
			"%d from vessel where orig in (%s) and orig = (select min(v.orig) from vessel v where v.orig in (%s))", number,
			number, number, number, among(list), among(list)))
		return err
	})
	if err == nil && n > 0 {
		f.came(number)
	}
	return err
}

// loads sends a row as a file of them.
func (f *convoy) loads(db *sql.DB, number int) error {
	err := f.within(db, func(tx sender) error {
		c, ok := tx.(*sql.Conn)
		if !ok {
			return fmt.Errorf("no connection to load rows by")
		}
		line := fmt.Sprintf("%d\t%d\tnew\t%d\t%d\n", number, number, number, number)
		if f.engine == "MariaDB" {
			name := fmt.Sprint(f.name(), number)
			mysql.RegisterReaderHandler(name, func() io.Reader { return strings.NewReader(line) })
			defer mysql.DeregisterReaderHandler(name)
			_, err := affected(tx, "load data local infile 'Reader::"+name+"' into table vessel (id, orig, name, berth, length)")
			return err
		}
		return c.Raw(func(driver any) error {
			_, err := driver.(*stdlib.Conn).Conn().PgConn().CopyFrom(context.Background(), strings.NewReader(line),
				"copy vessel (id, orig, name, berth, length) from stdin")
			return err
		})
	})
	if err == nil {
		f.came(number)
	}
	return err
}

// empties takes all rows away, and puts another one under the key of one of them.
func (f *convoy) empties(db *sql.DB, number int) error {
	if strings.HasPrefix(f.kind.name, "rows that go") {
		return nil // those that went before come back
	}
	var id sql.NullInt64
	if err := db.QueryRow("select min(id) from vessel").Scan(&id); err != nil || !id.Valid {
		return err
	}
	empty := "delete from vessel"
	if f.engine != "SQLite" {
		empty = "truncate table vessel"
	}
	if _, err := db.Exec(empty); err != nil {
		return err
	}
	crews := []*convoy{f}
	if f.storm != nil {
		crews = f.storm.crews
	}
	for _, c := range crews {
		for o := range c.ships {
			c.gone[o] = true
		}
	}
	for range 200 { // the run may have it locked
		err := f.within(db, func(tx sender) error {
			_, err := affected(tx,
				"insert "+newRow(int(id.Int64), number))
			return err
		})
		if err == nil {
			f.came(number)
			return nil
		} else if strings.Contains(err.Error(), "tag") || strings.Contains(err.Error(), "flag") {
			return err
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("no row can be inserted any more")
}

// alters makes something by hand, once.
func (f *convoy) alters(db *sql.DB, what, statement string) error {
	if f.altered != "" {
		return nil
	}
	_, err := db.Exec(statement)
	if err == nil {
		f.altered = what
	}
	return err
}

// follow asks whether a fill is going on that follows what applications change, and whether
// it computes what they insert: on MariaDB one of the two ends before the other.
func (f *convoy) follow() string {
	return map[string]string{
		"SQLite":     "select count(*) > 0, count(*) > 0 from sqlite_schema where type = 'trigger' and name like '%_fill'",
		"PostgreSQL": "select count(*) > 0, count(*) > 0 from pg_trigger where tgname like '%_fill'",
		"MariaDB": "select coalesce(sum(trigger_name like '%_update_fill'), 0) > 0, coalesce(sum(trigger_name like " +
			"'%_insert_fill'), 0) > 0 from information_schema.triggers where trigger_schema = database()",
	}[f.engine]
}
