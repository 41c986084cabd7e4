package test

import (
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// swapOffice is a live database of a server with a migration that gives two columns other types: one
// that only widens, and one of texts that become numbers.
func swapOffice(t *testing.T, server string, rows int, pace string) *office {
	t.Helper()
	series := fmt.Sprintf("select -g, 'vessel', g * 4, right('000000' || g, 7), 0 from generate_series(1, %d) g", rows)
	triggers := []string{"create function whole() returns trigger language plpgsql as $$ begin if new.tons = 99 then " +
		"new.tons := 100; end if; return new; end $$",
		"create trigger whole before insert or update on vessel for each row execute function whole()",
		"create table seen (id integer)",
		"create function notice() returns trigger language plpgsql as $$ begin insert into seen values (new.id); return " +
			"null; end $$", "create trigger notice after update on vessel for each row execute function notice()"}
	if server == "MariaDB" {
		series = fmt.Sprintf("select -seq, 'vessel', seq * 4, lpad(seq, 7, '0'), 0 from seq_1_to_%d", rows)
		triggers = []string{"create table seen (id integer)"}
		for _, e := range []string{"insert", "update"} {
			triggers = append(triggers, "create trigger whole_"+e+" before "+e+" on vessel for each row set new.tons = "+
				"if(new.tons = 99, 100, new.tons)")
		}
		triggers = append(triggers,
			"create trigger notice after update on vessel for each row insert into seen values (new.id)")
	}
	o := officeOn(t, server, append(append([]string{
		"create table vessel (id integer not null primary key, name varchar(40) not null, tons integer not null default 7, " +
			"code varchar(12), n integer not null, constraint vessel_code unique (code))",
		"create index by_tons on vessel (tons, n)", "insert into vessel " + series}, triggers...),
		map[string]string{"PostgreSQL": "analyze", "MariaDB": "analyze table vessel"}[server]))
	o.paced(pace)
	o.migration("0002-types", "-- Tons of large vessels, and codes that are numbers\nalter table vessel alter column "+
		"tons set data type bigint, alter column code set data type integer using (cast(code as integer));\n")
	return o
}

// helmsman is a program that writes rows of its own and remembers what it was told is written.
type helmsman struct {
	t      *testing.T
	db     *sql.DB
	r      *rand.Rand
	number int
	next   int
	rows   map[int][2]int // tons and code, -1 for none
	wrote  atomic.Int64
}

func (s *helmsman) write() error {
	do := func(text string, args ...any) error {
		_, err := s.db.Exec(fmt.Sprintf(text, args...))
		return err
	}
	tons := s.r.IntN(1000)
	is := tons
	if is == 99 {
		is = 100
	}
	ids := slices.Collect(maps.Keys(s.rows))
	if len(ids) < 20 || s.r.IntN(4) == 0 {
		s.next++
		id := s.next*8 + s.number
		switch s.r.IntN(3) {
		case 0:
			if err := do("insert into vessel (id, name, tons, code, n) values (%d, 'x', %d, '%07d', 1)", id, tons,
				1_000_000+id); err != nil {
				return err
			}
			s.rows[id] = [2]int{is, 1_000_000 + id}
		case 1:
			if err := do("insert into vessel (id, name, n) values (%d, 'x', 2)", id); err != nil {
				return err
			}
			s.rows[id] = [2]int{7, -1}
		default:
			if err := do("insert into vessel (id, name, tons, n) select %d, name, tons + %d, n from vessel where id = -5", id,
				tons); err != nil {
				return err
			}
			if is = 20 + tons; is == 99 {
				is = 100
			}
			s.rows[id] = [2]int{is, -1}
		}
		return nil
	}
	id := ids[s.r.IntN(len(ids))]
	was := s.rows[id]
	switch s.r.IntN(8) {
	case 6: // a row that was there at the start moves to the other end of the table, and back
		first := -1 - 1400*s.number - s.r.IntN(1390) // no neighbour of a row that another program moves
		if err := do("update vessel set id = id - 100000 where id = %d", first); err != nil {
			return err
		}
		return do("update vessel set id = id + 100000 where id = %d", first-100000)
	case 0:
		if err := do("update vessel set tons = %d where id = %d", tons, id); err != nil {
			return err
		}
		s.rows[id] = [2]int{is, was[1]}
	case 1:
		if err := do("update vessel set code = null where id = %d", id); err != nil {
			return err
		}
		s.rows[id] = [2]int{was[0], -1}
	case 2:
		if err := do("update vessel set code = '%07d', n = n + 1 where id = %d", 2_000_000+id, id); err != nil {
			return err
		}
		s.rows[id] = [2]int{was[0], 2_000_000 + id}
	case 3:
		if err := do("delete from vessel where id = %d", id); err != nil {
			return err
		}
		delete(s.rows, id)
	case 4:
		s.next++
		to := s.next*8 + s.number
		if err := do("update vessel set id = %d where id = %d", to, id); err != nil {
			return err
		}
		delete(s.rows, id)
		s.rows[to] = was
	case 5:
		tx, err := s.db.Begin()
		if err != nil {
			return err
		}
		_, err = tx.Exec(fmt.Sprintf("update vessel set tons = %d where id = %d", tons, id))
		if err == nil && s.r.IntN(2) == 0 {
			if err = tx.Commit(); err == nil {
				s.rows[id] = [2]int{is, was[1]}
			}
			return err
		}
		return slices.MaxFunc([]error{err, tx.Rollback()}, func(a, b error) int {
			if a != nil {
				return 1
			}
			return -1
		})
	default:
		return do("update vessel set n = n + 1 where id = %d", id)
	}
	return nil
}

func (s *helmsman) written() *atomic.Int64 { return &s.wrote }

// writing is a program that writes rows of its own, and counts how often it was told that they are written.
type writing interface {
	write() error
	written() *atomic.Int64
}

// writeOn lets programs write until the function that it gives is called.
func writeOn[W writing](t *testing.T, list []W) (end func()) {
	var stop atomic.Bool
	var all sync.WaitGroup
	for i, w := range list {
		all.Go(func() {
			for !stop.Load() {
				if err := w.write(); err != nil {
					t.Errorf("program %d: %v", i, err)
					return
				}
				w.written().Add(1)
			}
		})
	}
	return func() { stop.Store(true); all.Wait() }
}

// goOn waits until each of them has written some more.
func goOn[W writing](t *testing.T, list []W, more int64) {
	t.Helper()
	for i, w := range list {
		from := w.written().Load()
		for end := time.Now().Add(patience); w.written().Load() < from+more && !t.Failed(); time.Sleep(time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("program %d does not go on", i)
			}
		}
	}
}

// TestTypesBesideWriters gives columns other types while programs write them, settles that, and takes
// it back from settled and from open: no program meets an error, in no committed row differ the two
// columns, and in the end each row is as it was last written, and what nobody wrote as it was, to the
// letter.
func TestTypesBesideWriters(t *testing.T) {
	beside(t)
	for _, server := range ofToday(t, everywhere[1:]) {
		t.Run(server, func(t *testing.T) {
			const rows = 6000
			o := swapOffice(t, server, rows, "lock_wait = '300ms'\nlock_tries = 300\nbatch_time = '10ms'\n")
			start := o.canonical(true)
			db := o.open()
			defer db.Close()
			db.SetMaxOpenConns(4)
			helmsmen := make([]*helmsman, 4)
			for i := range helmsmen {
				helmsmen[i] = &helmsman{t: t, db: db, r: rand.New(rand.NewPCG(uint64(i), 11)), number: i, rows: map[int][2]int{}}
			}
			begin := func() (end func()) { return writeOn(t, helmsmen) }
			some := func() { goOn(t, helmsmen, 15) }
			as := "integer"
			if server == "MariaDB" {
				as = "signed"
			}
			differ := func(a, b string) string {
				if server == "MariaDB" {
					return "not (" + a + " <=> " + b + ")"
				}
				return a + " is distinct from " + b
			}
			agree := func() {
				t.Helper()
				for range 30 {
					n := 0
					if err := db.QueryRow("select count(*) from vessel where " + differ("tons", "lastboard_tons_aside") + " or " +
						differ("code", "cast(lastboard_code_aside as "+as+")")).Scan(&n); err != nil || n > 0 {
						t.Errorf("%d rows differ: %v", n, err)
					}
				}
			}
			compare := func() {
				t.Helper()
				all := map[int][2]int{}
				for _, s := range helmsmen {
					maps.Copy(all, s.rows)
				}
				var want []string
				for _, id := range slices.Sorted(maps.Keys(all)) {
					want = append(want, fmt.Sprintf("%d|%d|%d", id, all[id][0], all[id][1]))
				}
				o.same("select id, tons, coalesce(cast(code as "+as+"), -1) from vessel where id > 0 order by id",
					strings.Join(want, "\n"))
				o.same("select count(*) from vessel", fmt.Sprint(rows+len(all)))
			}

			end := begin()
			some()
			o.wants(o.code(0, "advance", "--yes"), "0002 is open", "the old type of column tons of vessel")
			agree()
			some()
			agree()
			o.must("audit")
			o.wants(o.code(0, "describe", "vessel"), "the old type of column code goes when 0002 is settled")
			o.wants(o.code(0, "settle", "--check"), "column code of vessel", "cannot tell")
			o.must("settle", "--yes")
			some()
			o.must("audit")
			o.same("select count(*) from information_schema.columns where column_name like 'lastboard%'"+o.here(), "0")
			o.code(3, "retreat", "--to", "1", "--yes") // programs of after might be there
			o.must("retreat", "--to", "1", "--yes", "--settle")
			some()
			end()
			o.must("audit")
			compare()

			end = begin()
			o.must("advance", "--yes")
			some()
			agree()
			o.must("retreat", "--to", "1", "--yes")
			some()
			end()
			o.must("audit")
			compare()
			o.exec("delete from vessel where id > 0", "update vessel set n = 0 where n <> 0", "delete from seen")
			o.isAgain(start)
		})
	}
}

// TestTypesThatLose is of values that one of two types cannot hold: what is written by the new type
// stays, nobody meets an error, and the way back names the row.
func TestTypesThatLose(t *testing.T) {
	beside(t)
	for _, server := range everywhere[1:] {
		t.Run(server, func(t *testing.T) {
			o := swapOffice(t, server, 20, "lock_wait = '300ms'\n")
			o.exec("update vessel set code = 'A7' where id = -7")
			o.wants(o.code(3, "advance", "--yes"), "the text for column code is no number in 1 row of vessel",
				"A7")
			o.exec("update vessel set code = null where id = -7")
			o.must("advance", "--yes")
			o.exec("update vessel set tons = 3000000000 where id = -1",
				"insert into vessel (id, name, tons, n) values (1, 'x', 5000000000, 0)")
			o.same("select sum(tons) from vessel where id in (-1, 1)", "8000000000")
			o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "tons", "2 rows of vessel")
			o.must("audit")
			o.exec("update vessel set tons = 3 where id = -1", "delete from vessel where id = 1")
			o.must("settle", "--yes")
			o.exec("update vessel set tons = 3000000000 where id = -1", "update vessel set code = 77 where id = -9")
			o.wants(o.code(3, "retreat", "--to", "1", "--yes", "--settle"), "tons", "1 row of vessel")
			o.exec("update vessel set tons = 3 where id = -1")
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.same("select code from vessel where id in (-8, -9) order by id", "77\n0000008")
			o.must("audit")
		})
	}
}

// TestTypesWithWhatNeedsThem is of what stands in the way: it is named, and nothing is done.
func TestTypesWithWhatNeedsThem(t *testing.T) {
	beside(t)
	o := swapOffice(t, "PostgreSQL", 5, "lock_wait = '300ms'\n")
	for what, list := range map[string][2]string{
		"view heavy":      {"create view heavy as select id, tons from vessel", "drop view heavy"},
		"cargo_code_fkey": {"create table cargo (code varchar(12) references vessel (code))", "drop table cargo"},
	} {
		o.exec(list[0])
		r := o.run("advance", "--yes")
		if r.code != 3 || !strings.Contains(r.stderr, what) {
			t.Errorf("%s: %s", what, r)
		}
		o.same("select count(*) from information_schema.columns where column_name like 'lastboard%'"+o.here(), "0")
		o.exec(list[1])
	}
	o.must("advance", "--yes")
	// A program of before that names no columns writes where they stood.
	o.exec("insert into vessel values (1, 'x', 12, '0000101', 0)", "insert into vessel values (2, 'x', 12, null, 0)")
	o.same("select id, tons, code, lastboard_code_aside from vessel where id > 0 order by id",
		"1|12|101|0000101\n2|12|null|null")
	o.must("audit")
	last := o.query("select tgname from pg_trigger where tgname like 'zz_lastboard%swap_update'")
	o.exec(`drop trigger "` + strings.TrimPrefix(last, "string:") + `" on vessel`)
	o.wants(o.code(5, "audit"), "trigger")
}

// killedPace gives a pace by which values are kept in one statement, or on every other day beside the
// applications, as of a table that is long for its lock_wait.
func killedPace() string {
	if itsTurn(0, 2) {
		return "lock_wait = '100us'\nlock_tries = 1000\n"
	}
	return "lock_wait = '300ms'\nlock_tries = 100\n"
}

// killed kills runs that open an overlap, settle it and take it back, from settled and from open, at every
// so many statements of their way, and goes on with them. A program writes meanwhile, where it can; seen
// looks at what it wrote after each of them, and end after all.
func (o *office) killed(place string, every int, write, seen func(i int), end func()) {
	o.Helper()
	if !*allKinds {
		every *= 8 // one place in so many is that of a day
	}
	for n, died := 1+int(*day)%every, true; died && !o.Failed(); n += every {
		died = false
		for i, args := range [][]string{{"advance", "--yes"}, {"settle", "--yes", "--let-writers-wait"},
			{"retreat", "--to", "1", "--yes", "--settle"}, {"advance", "--yes"}, {"retreat", "--to", "1", "--yes"}} {
			o.env = []string{fmt.Sprint("LASTBOARD_FAULT=", place, ":", n)}
			r := o.run(args...)
			o.env = nil
			switch {
			case r.killed:
				died = true
				o.Logf("%v killed at %s %d", args, place, n)
				if place == "sent" { // as after the other place nobody can write until it goes on
					write(i)
				}
				o.must(args...)
			case r.code != 0:
				o.Fatalf("%v killed at %s %d: %s", args, place, n, r)
			}
			if !r.killed || place != "sent" {
				write(i)
			}
			o.must("audit")
			seen(i)
		}
		end()
		if o.onMariaDB() { // it takes only so many changes in an instant
			o.exec("alter table vessel force")
		}
	}
}

// TestTypesAreKilled is that programs can write while runs die that give columns other types, and that
// what they write stays.
func TestTypesAreKilled(t *testing.T) {
	beside(t)
	for i, server := range everywhere[1:] {
		inTurn(t, i, 2, server, func(t *testing.T) {
			o := swapOffice(t, server, 300, killedPace())
			start := o.canonical(true)
			kills := func(place string, every int) {
				o.killed(place, every, func(i int) {
					o.exec(fmt.Sprintf("update vessel set tons = tons + 1, code = '%07d', id = id - 1000 where id = %d", 700+i, -10-i),
						fmt.Sprintf("insert into vessel (id, name, tons, code, n) values (%d, 'x', 1, '%d', 0)", i+1, 800+i))
				}, func(i int) {
					o.same(fmt.Sprintf("select id, tons, cast(code as decimal(10, 0)) from vessel where id in (%d, %d) order by id",
						-1010-i, i+1), fmt.Sprintf("%d|%d|%d\n%d|1|%d", -1010-i, (10+i)*4+1, 700+i, i+1, 800+i))
					o.exec(fmt.Sprintf("update vessel set tons = tons - 1, id = id + 1000 where id = %d", -1010-i),
						fmt.Sprintf("delete from vessel where id = %d", i+1))
				}, func() {
					for i := range 5 {
						o.exec(fmt.Sprintf("update vessel set code = '%07d' where id = %d", 10+i, -10-i))
					}
					o.exec("delete from seen")
					o.isAgain(start)
				})
			}
			kills("sent", 31)
			if server == "MariaDB" {
				kills("locked-statement", 6)
			}
		})
	}
}

// TestLaterMigrationsBesideTypes is that later migrations run while a column has two types, as long as
// they leave alone what it is made from; that all goes back in any order; and that the table keeps its
// name meanwhile.
func TestLaterMigrationsBesideTypes(t *testing.T) {
	beside(t)
	for _, server := range everywhere[1:] {
		t.Run(server, func(t *testing.T) {
			o := swapOffice(t, server, 50, "lock_wait = '300ms'\nlock_tries = 100\n")
			start := o.canonical(true)
			o.migration("0002-types", "-- Codes that are numbers\nalter table vessel alter column code set data type integer "+
				"using "+
				"(cast(code as integer)) restore using (concat(left(name, 1), cast(code as varchar(9))));\n")
			o.must("advance", "--yes")
			for what, statement := range map[string]string{
				"column code of vessel": "alter table vessel alter column code set default 7",
				"column name of vessel": "alter table vessel rename column name to title",
				"column code of ":       "alter table vessel rename to ship",
			} {
				o.migration("0003-later", "-- Later\n"+statement+";\n")
				if r := o.run("advance", "--yes"); r.code != 3 || !strings.Contains(r.stderr, what) ||
					!strings.Contains(r.stderr, "settle-first") {
					t.Errorf("%s: %s", statement, r)
				}
			}
			o.migration("0003-later", "-- Later\nalter table vessel add column port varchar(9) default 'SKR';\ncreate index "+
				"by_port "+
				"on vessel (port, name);\n")
			o.must("advance", "--yes")
			o.must("audit")
			o.exec("update vessel set port = 'HVN', code = 99 where id = -9", "insert into vessel (id, name, tons, code, n) "+
				"values "+
				"(1, 'x', 1, 10001, 0)")
			o.must("settle", "--yes")
			o.must("audit")
			o.must("retreat", "--to", "2", "--yes", "--settle")
			o.must("audit")
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.must("audit")
			o.same("select code from vessel where id in (1, -9, -8) order by id", "v99\n0000008\nx10001")
			o.exec("delete from vessel where id = 1", "update vessel set code = '0000009' where id = -9", "delete from seen")
			o.isAgain(start)
		})
	}
}
