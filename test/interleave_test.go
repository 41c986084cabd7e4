package test

import (
	"database/sql"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

var (
	interleavings = flag.Int("interleavings", 6, "how many interleavings are tried on each engine")
	interleaveBy  = flag.Uint64("interleave-seed", 0, "the seed by which they are chosen; 0 takes the day's")
)

// ship is what a row has to be in the end, by the number that it was given at the start and
// that nothing changes.
type ship struct{ name, flag, berth string }

// convoy plays what applications are told they have done on a plain copy in memory.
type convoy struct {
	*office
	engine  string
	r       *rand.Rand
	ships   map[int]*ship
	gone    map[int]bool
	moved   map[int]bool
	touched map[int]bool // its berth was written, or its name when nothing followed it
	named   []int        // rows whose name was just written
	kind    interleaved
	next    int
}

// A kind of change, with what holds of every row once it has run. Rows whose berth an
// application wrote are left out where untouched is set.
type interleaved struct {
	name, statement, wrong string
	untouched              bool
	loses                  bool // what is kept of a row on SQLite once its key changes
}

var interleavedKinds = []interleaved{
	{"a backfill that reads what it writes", "backfill vessel set berth = berth * 2", "berth <> orig * 2 and name <> 'new'", true, false},
	{"a backfill of some rows", "backfill vessel set berth = berth * 2 where mod(orig, 3) = 0", "orig % 3 = 0 and berth <> orig * 2 and name <> 'new' or orig % 3 <> 0 and berth <> orig", true, false},
	{"a column that is filled", "alter table vessel add column tag varchar(80) using (name || '!')", "tag is null or tag <> concat(name, '!')", true, false},
	{"a not null column that is filled", "alter table vessel add column tag varchar(80) not null using (name || '!')", "tag is null or tag <> concat(name, '!')", true, false},
	{"nulls that are filled", "alter table vessel alter flag set not null using ('IS')", "flag is null", false, false},
	{"another type", "alter table vessel alter length set data type varchar(20) using (cast(length as varchar(20)))", "length <> cast(orig as char(20))", false, false},
	{"a column that goes", "alter table vessel drop column flag", "1 = 0", false, true},
	{"rows that go", "delete from vessel where mod(orig, 3) = 0", "1 = 0", false, false},
}

// things are what an application does to rows while the run is at some place.
func (f *convoy) thing() (what string, do func(db *sql.DB) error) {
	some := func() []int {
		list := make([]int, 4)
		for i := range list {
			list[i] = 1 + f.r.IntN(400)
		}
		return list
	}
	list := some()
	in := strings.Trim(strings.ReplaceAll(fmt.Sprint(list), " ", ", "), "[]")
	f.next++
	n := f.next
	each := func(set string, change func(o int, s *ship)) func(*sql.DB) error {
		return func(db *sql.DB) error {
			tx, err := db.Begin()
			if err != nil {
				return err
			}
			defer tx.Rollback()
			var written []int
			for _, o := range list {
				r, err := tx.Exec(fmt.Sprintf("update vessel set %s where orig = %d", set, o))
				if err != nil {
					return err
				}
				if count, err := r.RowsAffected(); err != nil {
					return err
				} else if count == 1 {
					written = append(written, o)
				}
			}
			if err := tx.Commit(); err != nil {
				return err
			}
			for _, o := range written {
				change(o, f.ships[o])
			}
			return nil
		}
	}
	switch f.r.IntN(11) {
	case 6:
		name := fmt.Sprintf("called %d", n)
		return "existing rows are inserted, and so updated", func(db *sql.DB) error { return f.upserts(db, list, name) }
	case 7:
		return "another row takes the key of one", func(db *sql.DB) error { return f.replaces(db, list[0], 5000+n) }
	case 8:
		return "rows are copied", func(db *sql.DB) error { return f.copies(db, in, 5000+n) }
	case 9:
		return "the table is emptied, and keys come again", func(db *sql.DB) error { return f.empties(db, 5000+n) }
	case 10:
		return "somebody else runs it, too", func(*sql.DB) error { f.command("advance", "--yes", "--settle", "--let-writers-wait").Run(); return nil }
	case 0:
		name := fmt.Sprintf("called %d", n)
		return "what is read changes", each("name = '"+name+"'", func(o int, s *ship) { s.name = name; f.named = append(f.named, o) })
	case 1:
		return "keys change", each(fmt.Sprintf("id = id + %d", 10000*n), func(o int, _ *ship) { f.moved[o] = true })
	case 2:
		return "keys change to lower ones", each(fmt.Sprintf("id = id - %d", 10000*n), func(o int, _ *ship) { f.moved[o] = true })
	case 3:
		return "what is written changes", each("berth = 7", func(o int, s *ship) { s.berth, f.touched[o] = "7", true })
	case 4:
		return "rows go, and their keys come again", func(db *sql.DB) error {
			tx, err := db.Begin()
			if err != nil {
				return err
			}
			defer tx.Rollback()
			key := 5000 + n
			var went int64
			for i, text := range []string{
				fmt.Sprintf("delete from vessel where orig = %d", list[0]),
				fmt.Sprintf("insert into vessel (id, orig, name, berth, length) values (%d, %d, 'new', %d, %d)", key, key, key, key),
				fmt.Sprintf("delete from vessel where id = %d", key),
				fmt.Sprintf("insert into vessel (id, orig, name, berth, length) values (%d, %d, 'new', %d, %d)", key, key, key, key),
			} {
				r, err := tx.Exec(text)
				if err != nil {
					return err
				}
				if i == 0 {
					went, _ = r.RowsAffected()
				}
			}
			if err := tx.Commit(); err != nil {
				return err
			}
			if went == 1 {
				f.gone[list[0]] = true
			}
			f.ships[key] = &ship{"new", "null", fmt.Sprint(key)}
			f.named = append(f.named, key)
			return nil
		}
	}
	return "an application gives up", func(db *sql.DB) error {
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		for _, text := range []string{"savepoint a", "update vessel set name = 'never' where orig = 1", "rollback to savepoint a"} {
			if _, err := tx.Exec(text); err != nil {
				return err
			}
		}
		_, err = tx.Exec(fmt.Sprintf("update vessel set name = 'never', berth = 9, id = id + 700000 where orig in (%s)", in))
		return err
	}
}

// upserts writes rows as applications do that do not know whether they are there.
func (f *convoy) upserts(db *sql.DB, list []int, name string) error {
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var written []int
	for _, o := range list {
		var id int
		if err := tx.QueryRow(fmt.Sprintf("select id from vessel where orig = %d", o)).Scan(&id); err == sql.ErrNoRows {
			continue
		} else if err != nil {
			return err
		}
		meets := "on conflict (id) do update set name = excluded.name"
		if f.engine == "MariaDB" {
			meets = "on duplicate key update name = values(name)"
		}
		if _, err := tx.Exec(fmt.Sprintf("insert into vessel (id, orig, name, berth, length) values (%d, %d, '%s', 1, %d) %s", id, o, name, o, meets)); err != nil {
			return err
		}
		written = append(written, o)
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	for _, o := range written {
		f.ships[o].name, f.named = name, append(f.named, o)
	}
	return nil
}

// replaces puts a row, with its number, in the place of another one.
func (f *convoy) replaces(db *sql.DB, o, number int) error {
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var id int
	if err := tx.QueryRow(fmt.Sprintf("select id from vessel where orig = %d", o)).Scan(&id); err == sql.ErrNoRows {
		return nil
	} else if err != nil {
		return err
	}
	row := fmt.Sprintf("into vessel (id, orig, name, berth, length) values (%d, %d, 'new', %d, %d)", id, number, number, number)
	statements := []string{"replace " + row}
	if f.engine == "PostgreSQL" {
		statements = []string{fmt.Sprintf("delete from vessel where id = %d", id), "insert " + row}
	}
	for _, text := range statements {
		if _, err := tx.Exec(text); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	f.gone[o] = true
	f.came(number)
	return nil
}

// came notes a row that an application has made.
func (f *convoy) came(number int) {
	f.ships[number] = &ship{"new", "null", fmt.Sprint(number)}
	f.named = append(f.named, number)
}

// copies makes a row of another one; its number is the given one.
func (f *convoy) copies(db *sql.DB, in string, number int) error {
	r, err := db.Exec(fmt.Sprintf("insert into vessel (id, orig, name, berth, length) select %d, %d, 'new', %d, %d from vessel where orig in (%s) and orig = (select min(v.orig) from vessel v where v.orig in (%s))", number, number, number, number, in, in))
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return err
	}
	f.came(number)
	return nil
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
	for o := range f.ships {
		f.gone[o] = true
	}
	for range 200 { // the run may have it locked
		if _, err := db.Exec(fmt.Sprintf("insert into vessel (id, orig, name, berth, length) values (%d, %d, 'new', %d, %d)", id.Int64, number, number, number)); err == nil {
			f.came(number)
			return nil
		} else if strings.Contains(err.Error(), "tag") || strings.Contains(err.Error(), "flag") {
			return err
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("no row can be inserted any more")
}

// run runs the program, and lets something happen at the n-th statement that it sends. It
// reports whether it came there.
func (f *convoy) run(n int, args ...string) (what string, came bool) {
	f.Helper()
	p := f.pausedAt(fmt.Sprint("sent:", n), args...)
	if p == nil {
		return "", false
	}
	what, do := f.thing()
	db := f.open()
	defer db.Close()
	done := make(chan error, 1)
	go func() {
		var err error
		for range 40 { // the run may be given way to
			if err = do(db); err == nil {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		done <- err
	}()
	select {
	case err := <-done:
		if f.follows() {
			f.named = nil
		}
		done <- err
	case <-time.After(150 * time.Millisecond): // it waits for the run
	}
	r := p.goOn()
	if err := <-done; err != nil && !strings.Contains(err.Error(), "tag") && !strings.Contains(err.Error(), "flag") { // which is wanted of new rows by then
		f.Errorf("%s at statement %d of %v: %v", what, n, args, err)
	}
	for _, o := range f.named {
		f.touched[o] = true
	}
	f.named = nil
	if r.code != 0 {
		f.code(0, args...) // it gave way, and goes on
	}
	return what, true
}

// follows reports whether a fill is going on that follows what applications write.
func (f *convoy) follows() bool {
	query := map[string]string{
		"SQLite":     "select count(*) from sqlite_schema where type = 'trigger' and name like '%_fill'",
		"PostgreSQL": "select count(*) from pg_trigger where tgname like '%_fill'",
		"MariaDB":    "select count(*) from information_schema.triggers where trigger_schema = database() and trigger_name like '%_update_fill'",
	}[f.engine]
	return f.query(query) != "int64:0"
}

// check compares the rows with the model.
func (f *convoy) check(k interleaved, what string) {
	f.Helper()
	db := f.open()
	defer db.Close()
	rows, err := db.Query("select orig, name, coalesce(flag, 'null'), berth from vessel")
	if err != nil {
		f.Fatal(err)
	}
	defer rows.Close()
	found := map[int]ship{}
	for rows.Next() {
		var o int
		var s ship
		if err := rows.Scan(&o, &s.name, &s.flag, &s.berth); err != nil {
			f.Fatal(err)
		}
		if _, twice := found[o]; twice {
			f.Errorf("%s: row %d is there twice", what, o)
		}
		found[o] = s
	}
	for o, s := range f.ships {
		got, there := found[o]
		switch {
		case f.gone[o] && there:
			f.Errorf("%s: row %d was deleted and is there again", what, o)
		case f.gone[o]:
		case !there:
			f.Errorf("%s: row %d is lost", what, o)
		case k.loses && f.url == "" && f.moved[o]:
		case strings.Contains(k.name, "nulls") && s.name == "new" && got.name == s.name && got.berth == s.berth:
			// It came while nulls were filled, and got its value with them.
		case got != *s:
			f.Errorf("%s: row %d is %v and should be %v", what, o, got, *s)
		}
	}
	if len(found) > len(f.ships) {
		f.Errorf("%s: there are %d rows, and %d should be", what, len(found), len(f.ships))
	}
}

// TestInterleavings stops a run before one of the statements that it sends, forward and back,
// lets an application do something to the rows, and lets the run go on: in the end every row
// is what a copy says on which the application's acknowledged statements alone were played.
func TestInterleavings(t *testing.T) {
	seed := *interleaveBy
	if seed == 0 {
		seed = uint64(time.Now().Unix() / 86400)
	}
	t.Logf("-interleave-seed %d", seed)
	for i, name := range everywhere {
		t.Run(name, func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, uint64(i)))
			o := interleavedOffice(t, name)
			for n := range *interleavings {
				k := interleavedKinds[(n+r.IntN(2))%len(interleavedKinds)]
				f := &convoy{office: o, engine: name, r: r, ships: map[int]*ship{}, gone: map[int]bool{}, moved: map[int]bool{}, touched: map[int]bool{}}
				f.begin(k)
				forth, _ := f.run(1+r.IntN(90), "advance", "--yes", "--settle", "--let-writers-wait")
				what := fmt.Sprintf("%s, forward %q", k.name, forth)
				f.holds(k, what)
				if strings.HasPrefix(k.name, "rows that go") {
					f.r = rand.New(rand.NewPCG(seed, uint64(n))) // and nobody uses their keys meanwhile
				}
				back, _ := f.run(1+r.IntN(90), "retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
				f.check(k, fmt.Sprintf("%s, back %q", what, back))
				f.wants(f.code(0, "audit"), "matches:")
				if t.Failed() {
					return
				}
			}
		})
	}
}

// interleavedOffice is a live database whose few rows go the way of many.
func interleavedOffice(t *testing.T, name string) *office {
	t.Helper()
	const table = "create table vessel (id integer primary key, orig integer not null, name varchar(60) not null, flag varchar(20), berth integer, length integer)"
	var o *office
	switch name {
	case "SQLite":
		o = newOffice(t, "pragma journal_mode = wal", table)
	case "PostgreSQL":
		o = newServerOffice(t, table)
	default:
		o = newOfficeOn(t, mariadb, table+" engine=InnoDB character set utf8mb4 collate utf8mb4_nopad_bin")
	}
	o.must("adopt", "--yes")
	url := o.url
	if url == "" {
		url = "sqlite:harbour.db"
	}
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+url+"'\nlive = true\n[databases.dev.pace]\nlock_wait = '100us'\nbatch_time = '5ms'\n"+workShare(url))
	return o
}

// begin fills the table anew.
func (f *convoy) begin(k interleaved) {
	f.Helper()
	f.kind = k
	var rows []string
	for o := 1; o <= 400; o++ {
		s := &ship{fmt.Sprint("vessel ", o), "null", fmt.Sprint(o)}
		flag := "null"
		if o%7 != 0 {
			s.flag, flag = "NO", "'NO'"
		}
		f.ships[o] = s
		rows = append(rows, fmt.Sprintf("(%d, %d, '%s', %s, %d, %d)", o, o, s.name, flag, o, o))
	}
	statements := []string{"delete from vessel", "insert into vessel (id, orig, name, flag, berth, length) values " + strings.Join(rows, ", ")}
	if f.engine == "PostgreSQL" {
		statements = append(statements, "analyze")
	}
	f.exec(statements...)
	f.migration("0002-change", "-- A change\n"+k.statement+";\n")
}

// holds asserts what a change leads to.
func (f *convoy) holds(k interleaved, what string) {
	f.Helper()
	condition := k.wrong
	switch f.engine {
	case "SQLite":
		condition = strings.NewReplacer("concat(name, '!')", "name || '!'", "cast(orig as char(20))", "cast(orig as text)").Replace(condition)
	case "PostgreSQL":
		condition = strings.ReplaceAll(condition, "cast(orig as char(20))", "cast(orig as varchar(20))")
	}
	if k.untouched {
		list := []string{"0"}
		for o := range f.touched {
			list = append(list, fmt.Sprint(o))
		}
		slices.Sort(list)
		condition = "(" + condition + ") and orig not in (" + strings.Join(list, ", ") + ")"
	}
	if n := f.query("select count(*) from vessel where " + condition); n != "int64:0" {
		f.Errorf("%s: %s rows are not what the change says", what, n)
	}
}
