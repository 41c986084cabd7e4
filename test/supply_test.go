package test

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync/atomic"
	"testing"
)

// berthOffice is a live database of a server, with a migration that adds a column which inserts
// would have to give from then on.
func berthOffice(t *testing.T, server string, rows int, pace string) *office {
	t.Helper()
	var values []string
	for i := 1; i <= rows; i++ {
		values = append(values, fmt.Sprintf("(%d, 'berth %d', %d, 1)", -i, i, i%200))
	}
	statements := []string{"create table berth (id integer not null primary key, code varchar(40) not null unique, " +
		"meters integer not null, n integer not null)"}
	for len(values) > 0 {
		some := values[:min(len(values), 5000)]
		statements = append(statements, "insert into berth values "+strings.Join(some, ", "))
		values = values[len(some):]
	}
	if server == "PostgreSQL" { // a trigger of the application's, which writes what the column is computed from
		statements = append(statements, "create function longer() returns trigger language plpgsql as $$ begin if "+
			"new.meters = 99 then new.meters := 199; end if; return new; end $$", "create trigger longer before insert on "+
			"berth for each row execute function longer()")
	}
	if server == "SQLite" {
		statements = append([]string{"pragma journal_mode = wal"}, statements...)
	}
	o := officeOn(t, server, statements)
	o.paced(pace)
	o.migration("0002-size", "-- A berth has a size\nalter table berth add column size varchar(10) not null using (case "+
		"when meters > 100 then 'large' else 'small' end);\ncreate index by_size on berth (size);\n")
	return o
}

// TestColumnsAreSupplied is that programs of before, which do not know a column that is added not
// null, add rows without an error until it is settled, and that each row has what it should.
func TestColumnsAreSupplied(t *testing.T) {
	beside(t)
	for _, server := range ofToday(t, everywhere) {
		for i, c := range []struct {
			what, pace string
			rows       int
		}{
			{"a short table", "lock_wait = '500ms'\nlock_tries = 200\n", 300},
			{"a long one", "lock_wait = '20ms'\nlock_tries = 2000\nbatch_time = '10ms'\n", 20_000},
		} {
			if !itsTurn(i, 2) {
				continue
			}
			t.Run(server+"/"+c.what, func(t *testing.T) {
				o := berthOffice(t, server, c.rows, c.pace)
				start := o.canonical(true)
				advance, settle := []string{"advance", "--yes"}, []string{"settle", "--yes"}
				if server == "SQLite" { // which builds an index while nobody writes
					advance, settle = append(advance, "--let-writers-wait"), append(settle, "--let-writers-wait")
				}
				var next, age atomic.Int64
				upsert := "on conflict (id) do update set n = berth.n + 1"
				if o.onMariaDB() {
					upsert = "on duplicate key update n = n + 1"
				}
				stop := o.meanwhile(3, func(db *sql.DB, r *rand.Rand) error {
					id, meters := next.Add(2), r.IntN(200)
					list := []string{
						fmt.Sprintf("insert into berth (id, code, meters, n) values (%d, 'c%d', %d, 0)", id, id, meters),
						fmt.Sprintf("insert into berth (id, code, meters, n) values (%d, 'c%d', %d, 0), (%d, 'c%d', 120, 0)", id, id,
							meters, id+1, id+1),
						fmt.Sprintf("insert into berth (id, code, meters, n) select %d, 'c%d', meters, 0 from berth where id = %d",
							id, id, -1-r.IntN(200)),
						fmt.Sprintf("insert into berth (id, code, meters, n) values (%d, 'c%d', %d, 0) %s", -1-r.IntN(200), id, meters,
							upsert),
						fmt.Sprintf("update berth set n = n + 1 where id = %d", -1-r.IntN(200)),
					}
					if age.Load() == 1 { // programs of after are there, too
						list = append(list, fmt.Sprintf("insert into berth (id, code, meters, n, size) values (%d, 'c%d', %d, 0, "+
							"'given')", id, id, meters))
					}
					return again(db, list[r.IntN(len(list))])
				})
				waitFor(t, o, "select count(*) from berth where id > 0 having count(*) > 20")
				o.wants(o.code(0, advance...), "0002 is open", "supplies column size of berth")
				age.Store(1)
				waitFor(t, o, "select count(*) from berth where size = 'given' having count(*) > 20")
				o.must("audit")
				o.wants(o.code(0, "describe", "berth"), "supplied where a program leaves it out until 0002 is settled")
				if n := stop(); n < 50 {
					t.Fatalf("the programs did %d times what they do", n)
				}
				o.same("select count(*) from berth where size <> 'given' and size <> case when meters > 100 then 'large' else "+
					"'small' end", "0")
				o.wants(o.code(0, settle...), "0002 is settled")
				o.must("audit")
				db := o.open()
				defer db.Close()
				if _, err := db.Exec("insert into berth (id, code, meters, n) values (0, 'none', 5, 0)"); err == nil {
					t.Error("a row without a size is taken once it is settled")
				}
				o.exec("delete from berth where id > 0", "update berth set n = 1 where n <> 1")
				back := []string{"retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait"}
				o.must(back...)
				o.must("audit")
				o.isAgain(start)

				// And back from open.
				o.must(advance...)
				o.exec("insert into berth (id, code, meters, n) values (0, 'none', 5, 0)", "delete from berth where id = 0")
				o.must(back...)
				o.must("audit")
				o.isAgain(start)
				o.exec("insert into berth (id, code, meters, n) values (0, 'none', 5, 0)")
			})
		}
	}
}

// TestWhatIsSupplied is which columns an overlap is open for, and what is in its way.
func TestWhatIsSupplied(t *testing.T) {
	beside(t)
	for _, server := range ofToday(t, everywhere) {
		t.Run(server, func(t *testing.T) {
			o := berthOffice(t, server, 300, "lock_wait = '500ms'\n")
			o.migration("0002-size", "-- Nothing that programs have to give\n"+
				"alter table berth add column size varchar(10) not null default 'none' using (code), add column depth integer "+
				"using (meters);\nalter table berth add column width integer not null using (3);\n"+
				"alter table berth alter column width set default 4;\n"+
				"create table pier (id integer primary key);\nalter table pier add column code integer not null using (id);\n")
			o.wants(o.code(0, "advance", "--yes"), "0002 is settled")
			o.exec("insert into berth (id, code, meters, n) values (0, 'none', 5, 0)")

			o.migration("0003-more", "-- Hostile names, and two of them\nalter table berth add column \"a\"\"b'c`; --%s\" "+
				"integer not null using (meters * 2), add column \"order\" varchar(50) not null using (upper(code));\n"+
				"alter table berth drop column depth;\n")
			o.wants(o.code(0, "advance", "--yes"), "0003 is open", "still has to drop column depth", "supplies column")
			o.run("settle", "--check") // for its names
			o.exec("insert into berth (id, code, meters, n) values (1, 'one', 5, 0)")
			o.same("select count(*) from berth where upper(code) = "+o.nameOf("order"), "302")
			for _, statement := range []string{"alter table berth rename column code to name",
				"alter table berth drop column meters", "alter table berth alter column \"order\" drop not null",
				"alter table berth rename to berths", "drop table berth"} {
				o.migration("0004-way", "-- In the way\n"+statement+";\n")
				o.wants(o.code(3, "advance", "--yes"), "settle-first", "lastboard settle 0003")
			}
			o.migration("0004-way", "-- Not in the way\nbackfill berth set \"order\" = 'x' where id = 1;\n"+
				"create index by_order on berth (\"order\");\nalter table berth add column far integer not null using (n);\n")
			o.wants(o.code(0, "advance", "--yes"), "0004 is open")
			o.must("audit")
			o.exec("insert into berth (id, code, meters, n) values (2, 'two', 5, 7)")
			o.same("select far from berth where id = 2", "7")
			o.must("settle", "0003", "--yes")
			o.must("audit")
			o.wants(o.code(0, "settle", "--yes"), "0004 is settled")
			o.must("audit")
			o.must("retreat", "--to", "2", "--yes", "--settle")
			o.must("audit")
			o.exec("insert into berth (id, code, meters, n) values (3, 'three', 5, 7)")

			// With --settle there is no overlap, and applications are told.
			o.wants(o.code(0, "advance", "--to", "3", "--yes", "--settle"), "0003 is settled")
			o.must("audit")
		})
	}
}

// TestSupplyingTriggerTakenAway is that audit misses a trigger that supplies a column, and says how
// to make it again.
func TestSupplyingTriggerTakenAway(t *testing.T) {
	beside(t)
	o := berthOffice(t, "PostgreSQL", 10, "lock_wait = '500ms'\n")
	o.must("advance", "--yes")
	name := strings.TrimPrefix(o.query("select tgname from pg_trigger where tgname ~ "+
		"'^zz_lastboard_berth_.*_size_supply$'"), "string:")
	o.exec("drop trigger " + name + " on berth")
	r := o.code(5, "audit")
	o.wants(r, name, "create or replace trigger")
	_, cure, _ := strings.Cut(r.stdout, "create or replace function")
	o.asPerson("create or replace function" + cure)
	o.must("audit")
	o.exec("insert into berth (id, code, meters, n) values (0, 'none', 5, 0)")
	o.must("settle", "--yes")
}

// TestSuppliedColumnsThatReadAlike is that columns of two tables whose names come to the same when they
// are put together each get their own values, and that check says where there may be none.
func TestSuppliedColumnsThatReadAlike(t *testing.T) {
	beside(t)
	for _, server := range everywhere {
		t.Run(server, func(t *testing.T) {
			o := officeOn(t, server, []string{"create table a (id integer not null primary key, n integer)",
				"create table a_b (id integer not null primary key, n integer)"})
			o.paced("lock_wait = '500ms'\n")
			o.migration("0002-alike", "-- Alike\nalter table a add column b_c varchar(9) not null using ('of a');\n"+
				"alter table a_b add column c varchar(9) not null using (concat('of a_b', n));\n"+
				"alter table a_b add column d integer not null using (n + 1);\n")
			r := o.code(0, "check")
			o.wants(r, "supplied-may-be-null", "null for n")
			if strings.Count(r.stdout, "supplied-may-be-null") != 1 {
				t.Errorf("%s", r)
			}
			o.must("advance", "--yes")
			o.exec("insert into a (id, n) values (1, 1)", "insert into a_b (id, n) values (1, 1)")
			o.same("select concat(a.b_c, a_b.c, d) from a, a_b", "of aof a_b12")
			if server == "PostgreSQL" {
				o.wants(o.code(5, "settle", "--check"), "inserts into a without b_c", "1 time")
			}
			o.must("settle", "--yes")
			o.must("audit")
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.must("audit")
		})
	}
}

// TestNobodyElseSupplies is that a function which somebody puts in the place of the server's own is not
// called by what supplies a column.
func TestNobodyElseSupplies(t *testing.T) {
	o := liveOffice(t, "lock_wait = '500ms'\n", "create table berth (id integer not null primary key, code varchar(20) "+
		"not null)", "create function public.upper(varchar) returns text language plpgsql as $$ begin raise exception 'not "+
		"the server''s'; end $$")
	o.migration("0002-loud", "-- Loud\nalter table berth add column loud varchar(20) not null using (upper(code));\n")
	o.must("advance", "--yes")
	o.exec("insert into berth (id, code) values (1, 'a')")
	o.same("select loud from berth", "A")
}

// TestFunctionsOfOthersSupplyNothing is that a column whose expression calls a function which is none of
// the language is not supplied: applications may not be allowed to call it. check says what follows.
func TestFunctionsOfOthersSupplyNothing(t *testing.T) {
	beside(t)
	for _, server := range everywhere {
		t.Run(server, func(t *testing.T) {
			call, loud, statement := "shout", "A", "create function shout(text) returns text language sql immutable as "+
				"'select upper($1)'"
			switch server {
			case "MariaDB": // on whose empty copies there are no functions of others
				call, statement = "ucase", "create table pier (id integer not null primary key)"
			case "SQLite": // which has none that stay
				call, loud, statement = "hex", "61", "create table pier (id integer not null primary key)"
			}
			o := officeOn(t, server, []string{"create table berth (id integer not null primary key, code varchar(20) not null)",
				"insert into berth values (1, 'a')", statement})
			o.paced("lock_wait = '500ms'\n")
			o.migration("0002-loud", "-- Loud\nalter table berth add column loud varchar(20) not null using ("+call+"(code));\n")
			o.wants(o.code(0, "check"), "inserts-need-value")
			o.wants(o.code(0, "advance", "--yes"), "0002 is settled")
			o.same("select loud from berth", loud)
		})
	}
}

// TestRowsThatComeBeforeTheyAreSupplied is that a row which a program of before adds between any two
// transactions of the run that opens the overlap has its value in the end.
func TestRowsThatComeBeforeTheyAreSupplied(t *testing.T) {
	beside(t)
	for _, server := range ofToday(t, []string{"PostgreSQL", "SQLite"}) {
		t.Run(server, func(t *testing.T) {
			o := berthOffice(t, server, 3000, "lock_wait = '2ms'\nlock_tries = 2000\nbatch_time = '2ms'\n")
			paused, sizes := 0, "select count(*) from berth where size is null or size <> case when meters > 100 then "+
				"'large' else "+
				"'small' end"
			for n, came := 1, true; came; n++ {
				if p := o.pausedAt(fmt.Sprint("after-commit:", n), "advance", "--yes", "--let-writers-wait"); p != nil {
					o.exec(fmt.Sprintf("insert into berth (id, code, meters, n) values (%d, 'late %d', %d, 0)", n, n, n*40))
					if r := p.goOn(); r.code != 0 {
						t.Fatalf("a row came after commit %d: %s", n, r)
					}
					paused++
				} else {
					came = false
				}
				o.same(sizes, "0")
				o.must("audit")
				o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
			}
			if paused < 2 {
				t.Errorf("a row came only %d times", paused)
			}
		})
	}
}
