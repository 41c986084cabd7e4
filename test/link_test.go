package test

import (
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
)

// splitOffice is a live database of a server with two migrations: one splits a column into two, the
// other gives one another unit and another name.
func splitOffice(t *testing.T, server string, rows int, pace string) *office {
	t.Helper()
	statements := []string{"create table vessel (id integer not null primary key, label varchar(60) not null, length_ft " +
		"numeric(7,1) not null default 1, n integer not null)"}
	if server == "PostgreSQL" {
		statements = append(statements, fmt.Sprintf("insert into vessel select -g, 'old' || g %% 7 || ':' || g, g %% 300 "+
			"+ 0.5, 0 from generate_series(1, %d) g", rows), "create function louder() returns trigger language plpgsql as "+
			"$$ declare j "+
			"jsonb := to_jsonb(new); begin if j->>'label' = 'quiet:99' then new := jsonb_populate_record(new, "+
			"jsonb_build_object('label', 'LOUD:99')); end if; return new; end $$",
			"create trigger louder before insert or update on vessel for each row execute function louder()", "analyze")
	} else {
		statements = append(statements, fmt.Sprintf("insert into vessel select -seq, concat('old', seq %% 7, ':', seq), "+
			"seq %% 300 + 0.5, 0 from seq_1_to_%d", rows), "analyze table vessel")
	}
	o := officeOn(t, server, statements)
	o.paced(pace)
	o.migration("0002-registry", `-- Registry and number apart
alter table vessel
  add column registry varchar(40) not null using (left(label, position(':' in label) - 1)),
  add column number integer not null using (cast(substring(label from position(':' in label) + 1) as integer)),
  drop column label restore using (concat(registry, ':', cast(number as varchar(12))));
create index by_number on vessel (number);
`)
	o.migration("0003-meters", `-- Lengths in metres
alter table vessel
  alter column length_ft set data type numeric(7,2)
    using (round(length_ft * 0.3048, 2))
    restore using (round(length_m / 0.3048, 1)),
  rename column length_ft to length_m;
`)
	return o
}

// agreeing is the condition that a row is the same in both shapes.
const agreeing = "(label = concat(registry, ':', number)) and (length_m = round(length_ft * 0.3048, 2) or length_ft " +
	"= round(length_m / 0.3048, 1))"

// purser is a program of one age that writes rows of its own and remembers what it was told is written.
type purser struct {
	db      *sql.DB
	r       *rand.Rand
	after   bool // it knows the new columns
	loud    bool // a trigger of the application's changes what is quiet
	number  int
	next    int
	entries map[int]entry
	wrote   atomic.Int64
	settled atomic.Bool // the trigger does not find what it would change
}

// entry is what a row has: the parts of its label, and a length in tenths of a foot, or hundredths of a
// metre.
type entry struct {
	registry       string
	number, length int
}

func (p *purser) length(n int) string {
	if p.after {
		return fmt.Sprintf("%d.%02d", n/100, n%100)
	}
	return fmt.Sprintf("%d.%d", n/10, n%10)
}

func (p *purser) write() error {
	do := func(text string, args ...any) error {
		_, err := p.db.Exec(fmt.Sprintf(text, args...))
		return err
	}
	e := entry{fmt.Sprintf("R%d", p.r.IntN(50)), p.r.IntN(5000), 10 + p.r.IntN(3000)}
	if p.r.IntN(10) == 0 && !p.settled.Load() {
		e.registry, e.number = "quiet", 99
	}
	if p.r.IntN(8) == 0 { // what the column has by default
		e.length = 10
		if p.after {
			e.length = 100
		}
	}
	was := e
	if e.registry == "quiet" && p.loud {
		e.registry = "LOUD"
	}
	label, length := "label", "length_ft"
	value := fmt.Sprintf("'%s:%d'", was.registry, was.number)
	if p.after {
		label, length, value = "registry, number", "length_m", fmt.Sprintf("'%s', %d", was.registry, was.number)
	}
	set := fmt.Sprintf("label = '%s:%d'", was.registry, was.number)
	if p.after {
		set = fmt.Sprintf("registry = '%s', number = %d", was.registry, was.number)
	}
	ids := slices.Sorted(maps.Keys(p.entries))
	if len(ids) < 20 || p.r.IntN(4) == 0 {
		p.next++
		id := p.next*8 + p.number
		text := "insert into vessel (id, n, %s, %s) values (%d, 0, %s, %s)"
		if p.r.IntN(2) == 0 {
			text = "insert into vessel (id, n, %s, %s) select %d, 0, %s, %s"
		}
		err := do(text, label, length, id, value, p.length(e.length))
		if err == nil {
			p.entries[id] = e
		}
		return err
	}
	id := ids[p.r.IntN(len(ids))]
	had := p.entries[id]
	var err error
	switch p.r.IntN(7) {
	case 0:
		if err = do("update vessel set %s where id = %d", set, id); err == nil {
			p.entries[id] = entry{e.registry, e.number, had.length}
		}
	case 1:
		if err = do("update vessel set %s = %s where id = %d", length, p.length(e.length), id); err == nil {
			p.entries[id] = entry{had.registry, had.number, e.length}
		}
	case 2:
		if err = do("update vessel set %s, %s = %s, n = n + 1 where id = %d", set, length, p.length(e.length),
			id); err == nil {
			p.entries[id] = e
		}
	case 3:
		if err = do("delete from vessel where id = %d", id); err == nil {
			delete(p.entries, id)
		}
	case 4:
		p.next++
		to := p.next*8 + p.number
		if err = do("update vessel set id = %d where id = %d", to, id); err == nil {
			delete(p.entries, id)
			p.entries[to] = had
		}
	case 5:
		tx, failed := p.db.Begin()
		if failed != nil {
			return failed
		}
		_, err = tx.Exec(fmt.Sprintf("update vessel set %s where id = %d", set, id))
		if err == nil && p.r.IntN(2) == 0 {
			if err = tx.Commit(); err == nil {
				p.entries[id] = entry{e.registry, e.number, had.length}
			}
			return err
		}
		if failed := tx.Rollback(); err == nil {
			err = failed
		}
	default:
		err = do("update vessel set n = n + 1 where id = %d", id)
	}
	return err
}

func (p *purser) written() *atomic.Int64 { return &p.wrote }

// TestTwoShapesBesideWriters splits a column and changes the unit of another while programs of before
// and of after write each their own: no program meets an error, each committed row is the same in both
// shapes, and what was written stays as it was written, to the letter, also on the way back.
func TestTwoShapesBesideWriters(t *testing.T) {
	beside(t)
	for _, server := range ofToday(t, everywhere[1:]) {
		t.Run(server, func(t *testing.T) {
			const rows = 6000
			o := splitOffice(t, server, rows, "lock_wait = '300ms'\nlock_tries = 300\nbatch_time = '10ms'\n")
			start := o.canonical(true)
			db := o.open()
			defer db.Close()
			db.SetMaxOpenConns(4)
			pursers := make([]*purser, 4) // the first two are of before
			for i := range pursers {
				pursers[i] = &purser{db: db, r: rand.New(rand.NewPCG(uint64(i), 13)), after: i >= 2, loud: server == "PostgreSQL",
					number: i, entries: map[int]entry{}}
			}
			begin := func(list []*purser) (end func()) { return writeOn(t, list) }
			some := func(list []*purser) { goOn(t, list, 20) }
			agree := func() {
				t.Helper()
				for range 30 {
					n := 0
					if err := db.QueryRow("select count(*) from vessel where not (" + agreeing + ")").Scan(&n); err != nil || n > 0 {
						t.Errorf("%d rows differ: %v", n, err)
					}
				}
			}
			// compare looks at what programs wrote, by the columns that they know.
			compare := func(list []*purser) {
				t.Helper()
				for _, p := range list {
					var want []string
					for _, id := range slices.Sorted(maps.Keys(p.entries)) {
						e := p.entries[id]
						want = append(want, fmt.Sprintf("%d|%s:%d|%s", id, e.registry, e.number, p.length(e.length)))
					}
					columns := "label, length_ft"
					if p.after {
						columns = "concat(registry, ':', number), length_m"
					}
					o.same(fmt.Sprintf("select id, %s from vessel where id > 0 and id %% 8 = %d order by id", columns, p.number),
						strings.Join(want, "\n"))
				}
			}
			before, after := pursers[:2], pursers[2:]
			beforeEnds := begin(before)
			some(before)
			o.wants(o.code(0, "advance", "--yes"), "0002 is open", "0003 is open")
			afterEnds := begin(after)
			some(pursers)
			agree()
			some(pursers)
			o.must("audit")
			o.wants(o.code(0, "describe", "vessel"), "column label goes when 0002 is settled",
				"column length_ft (length_m now) goes when 0003 is settled")
			o.run("settle", "--check")
			beforeEnds()
			compare(before)
			for _, p := range after {
				p.settled.Store(true)
			}
			some(after)
			o.must("settle", "--yes")
			some(after)
			o.must("audit")
			afterEnds()
			compare(after)
			o.same("select count(*) from vessel where id < 0 and number <> -id", "0")
			o.code(3, "retreat", "--to", "1", "--yes") // programs of after might be there
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.must("audit")
			for _, p := range after { // what they wrote came back as the expressions have it
				o.same(fmt.Sprintf("select count(*) from vessel where id > 0 and id %% 8 = %d", p.number),
					fmt.Sprint(len(p.entries)))
			}
			o.exec("delete from vessel where id % 8 in (2, 3) and id > 0")
			for _, p := range after {
				p.entries = map[int]entry{}
				p.settled.Store(false)
			}

			beforeEnds = begin(before)
			o.must("advance", "--yes")
			afterEnds = begin(after)
			some(pursers)
			agree()
			afterEnds()
			compare(after)
			o.must("retreat", "--to", "1", "--yes")
			some(before)
			beforeEnds()
			o.must("audit")
			compare(before)
			o.exec("delete from vessel where id > 0")
			o.isAgain(start)
		})
	}
}

// TestTwoShapesAreKilled is that programs of before can write while runs die that split a column and give
// another a new unit, and that what they write stays.
func TestTwoShapesAreKilled(t *testing.T) {
	beside(t)
	for i, server := range everywhere[1:] {
		inTurn(t, i+1, 2, server, func(t *testing.T) {
			o := splitOffice(t, server, 300, killedPace())
			start := o.canonical(true)
			// has reports whether the table has a column now.
			has := func(column string) bool {
				return o.query("select count(*) from information_schema.columns where table_name = 'vessel' and column_name = '"+
					column+"' and table_schema = "+map[string]string{"PostgreSQL": "'public'", "MariaDB": "database()"}[server]) !=
					"int64:0"
			}
			kills := func(place string, every int) {
				o.killed(place, every, func(i int) {
					label, length := fmt.Sprintf("label = 'W:%d'", i), "length_ft = 10.0"
					if !has("label") {
						label = fmt.Sprintf("registry = 'W', number = %d", i)
					}
					if !has("length_ft") {
						length = "length_m = 3.05"
					}
					o.exec(fmt.Sprintf("update vessel set %s, %s, id = id - 1000 where id = %d", label, length, -10-i))
				}, func(i int) {
					label, length := "label", "length_ft"
					if has("registry") {
						label = "concat(registry, ':', number)"
					}
					want := "10.0"
					if has("length_m") {
						length, want = "length_m", "3.05"
					}
					o.same(fmt.Sprintf("select %s, %s from vessel where id = %d", label, length, -1010-i), fmt.Sprintf("W:%d|%s", i,
						want))
					if has("label") && has("registry") {
						o.same("select count(*) from vessel where not ("+agreeing+")", "0")
					}
				}, func() {
					for i := range 5 {
						o.exec(fmt.Sprintf("update vessel set label = 'old%d:%d', length_ft = %d.5, id = %d where id = %d", (10+i)%7,
							10+i,
							10+i, -10-i, -1010-i))
					}
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

// TestDefaultsThatProgramsWrite is that a program which writes what its column has by default, or what
// stands where it is left out, keeps it while a column has two shapes, and so does one that leaves it out.
func TestDefaultsThatProgramsWrite(t *testing.T) {
	beside(t)
	for _, server := range everywhere[1:] {
		t.Run(server, func(t *testing.T) {
			o := officeOn(t, server, []string{"create table vessel (id integer not null primary key, label varchar(60) " +
				"not null, feet numeric(7,1) not null default 1, draught numeric(5,1) default 3)",
				"insert into vessel values (1, 'old:1', 10, 3), (2, 'old:2', 20, null)"})
			o.paced("")
			o.migration("0002-registry", `-- Registry and number apart, and lengths in metres
alter table vessel
  add column registry varchar(40) not null using (left(label, position(':' in label) - 1)),
  add column number integer not null using (cast(substring(label from position(':' in label) + 1) as integer)),
  drop column label restore using (concat(registry, ':', cast(number as varchar(12))));
alter table vessel
  alter column feet set data type numeric(7,2) using (round(feet * 0.3048, 2)) restore using (round(metres / 0.3048, 1)),
  rename column feet to metres;
alter table vessel
  alter column draught set data type numeric(5,2) using (round(draught * 0.3048, 2)) restore using (round(deep / 0.3048, 1)),
  rename column draught to deep;
`)
			o.must("advance", "--yes")
			rows := func(want string) {
				t.Helper()
				o.same("select id, label, feet, draught, registry, number, metres, deep from vessel where id > 2 order by id", want)
			}
			// Programs of before: all given, what has a default left out, the defaults given, and nothing.
			o.exec("insert into vessel (id, label, feet, draught) values (3, 'a:3', 100, 10)")
			o.exec("insert into vessel (id, label) values (4, 'a:4')")
			o.exec("insert into vessel (id, label, feet, draught) values (5, 'a:5', 1, 3)")
			o.exec("insert into vessel (id, label, feet, draught) values (6, 'a:6', 0, null)")
			rows("3|a:3|100.0|10.0|a|3|30.48|3.05\n4|a:4|1.0|3.0|a|4|0.30|0.91\n5|a:5|1.0|3.0|a|5|0.30|0.91\n" +
				"6|a:6|0.0|null|a|6|0.00|null")
			o.exec("delete from vessel where id > 2")
			// Programs of after: the defaults of their columns, what stands where nothing is given, what the old
			// ones have by default.
			o.exec("insert into vessel (id, registry, number, metres, deep) values (3, 'b', 3, 1, 3)")
			o.exec("insert into vessel (id, registry, number, metres, deep) select 4, '', 0, 0, 0")
			o.exec("insert into vessel (id, registry, number, metres, deep) values (5, '', 5, 0.30, 0.91), (6, 'b', 0, 9, 9)")
			o.exec("insert into vessel (id, registry, number) values (7, 'b', 7)")
			empty := ":0"
			if server == "MariaDB" { // which computes just that from what stands where label is left out
				empty = ""
			}
			rows("3|b:3|3.3|9.8|b|3|1.00|3.00\n4|" + empty + "|0.0|0.0||0|0.00|0.00\n5|:5|1.0|3.0||5|0.30|0.91\n" +
				"6|b:0|29.5|29.5|b|0|9.00|9.00\n7|b:7|1.0|3.0|b|7|0.30|0.91")
			o.exec("update vessel set metres = 1, deep = 3 where id = 7")
			o.exec("update vessel set metres = 0, registry = '', number = 0 where id = 3")
			o.same("select label, feet, draught, metres, deep from vessel where id = 7", "b:7|3.3|9.8|1.00|3.00")
			o.same("select label, feet, metres from vessel where id = 3", ":0|0.0|0.00")
			o.must("audit")
			o.must("settle", "--yes")
			o.must("audit")
			o.exec("insert into vessel (id, registry, number) values (8, 'b', 8)")
			o.same("select metres, deep from vessel where id = 8", "1.00|3.00") // by their own defaults
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.must("audit")
			o.same("select id, label, feet, draught from vessel order by id", "1|old:1|10.0|3.0\n2|old:2|20.0|null\n"+
				"3|:0|0.0|9.8\n4|"+empty+"|0.0|0.0\n5|:5|1.0|3.0\n6|b:0|29.5|29.5\n7|b:7|3.3|9.8\n8|b:8|3.3|9.8")
		})
	}
}
