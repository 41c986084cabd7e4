package test

import (
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// inParts are the statements that make a table whose rows stand in parts: one of them is parted in turn, and
// one was a table of its own before, with its columns in another order.
func inParts(rows int) []string {
	return []string{
		"create table port (id integer primary key, name text)", "insert into port values (1, 'Bergen'), (2, 'Florø')",
		"create table call (id bigint not null, at date not null, vessel varchar(40), port_id integer, tons " +
			"integer, flag text, " +
			"primary key (id, at)) partition by range (at)",
		"create table call_2025 partition of call for values from ('2025-01-01') to ('2026-01-01')",
		"create table call_2026 partition of call for values from ('2026-01-01') to ('2027-01-01') partition by list (id)",
		"create table call_2026_few partition of call_2026 for values in (1, 2, 3)",
		"create table \"call_2026 %s;rest\" partition of call_2026 default",
		"create table call_old (at date not null, id bigint not null, tons integer, vessel varchar(40), flag text, " +
			"port_id integer)",
		"alter table call attach partition call_old for values from ('2000-01-01') to ('2025-01-01')",
		fmt.Sprintf(
			"insert into call select g, date '2024-06-01' + (g %% 900)::int, 'vessel ' || g, 1 + g %% 2, g, case when "+
				"g %% 3 > 0 then 'flag ' || g end from generate_series(1, %d) g", rows),
		"create index call_tons on call (tons)", "alter table call add constraint call_id check (id > 0)",
		"create function one() returns integer language sql as 'select 1'", "analyze",
	}
}

// TestTablesInPartsChange makes every kind of change of a table in parts, at once and beside applications,
// and takes it back: the server says that the table and its parts are what they were, with their rows.
func TestTablesInPartsChange(t *testing.T) {
	beside(t)
	changes := []string{
		"alter table call add column berth integer not null default 1",
		"alter table call add column code text using (vessel || '/' || id)",
		"alter table call add column code text not null using (vessel || '/' || id)",
		"alter table call drop column flag", "alter table call drop column port_id discard",
		"alter table call rename column vessel to ship", "alter table call rename to visit",
		"alter table call alter column vessel type varchar(80)", "alter table call alter column port_id type bigint",
		"alter table call alter column flag set not null using ('none')", "alter table call alter column tons set default 7",
		"alter table call add constraint call_tons_check check (tons > 0)",
		"alter table call add constraint call_vessel_at unique (vessel, at, id)",
		"create index call_vessel on call (vessel desc)",
		"create unique index call_once on call (tons, id, at)", "drop index call_tons on call",
		"alter table call add constraint call_port foreign key (port_id) references port (id) on delete cascade",
		"alter table call drop constraint call_id",
		"comment on column call.tons is 'gross'; comment on table call is 'Calls'",
		"backfill call set flag = 'none' where flag is null", "delete from call where id % 2 = 0",
		"insert into call (id, at, vessel) values (100001, date '2026-05-05', 'Selja'), (100002, date '2001-01-01', 'Runde')",
		"drop table call",
	}
	for i, change := range changes {
		for _, rows := range []int{200, 20_000} {
			if !itsTurn(i, 23) && (rows > 200 || !itsTurn(i+1, 23)) {
				continue
			}
			t.Run(fmt.Sprintf("%d %s", rows, change), func(t *testing.T) {
				o := liveOffice(t, "lock_wait = '20ms'\nlock_tries = 200\nbatch_time = '20ms'\nwork_share = '100 %'\n",
					inParts(rows)...)
				before := o.inPartsNow("call")
				o.migration("0002-change", "-- A change\n"+change+";\n")
				o.must("check")
				o.code(0, "advance", "--yes", "--let-writers-wait")
				o.must("audit")
				if n := "visit"; change == "alter table call rename to "+n {
					o.same("select count(*) from visit", fmt.Sprint(rows))
				}
				o.same("select count(*) from pg_index where not indisvalid", "0")
				o.must("settle", "--yes", "--let-writers-wait")
				o.must("audit")
				if strings.HasPrefix(change, "insert") {
					o.same("select tableoid::regclass from call where id > 100000 order by at", "call_old\n\"call_2026 %s;rest\"")
				}
				o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
				o.must("audit")
				o.must("kept", "0002", "--discard", "--yes")
				now := o.inPartsNow("call")
				if strings.Contains(change, "discard") { // whose values are given up
					before, now = o.withoutRows(before), o.withoutRows(now)
				}
				if before != now {
					t.Errorf("it is not what it was:\n%s", firstDifference(before, now))
				}
				o.same("select count(*) from pg_trigger t where not tgisinternal", "0")
			})
		}
	}
}

// indexOfPart is what names an index of a part, which has another name when it is built again.
var indexOfPart = regexp.MustCompile(`(string:(?:call_2[^|]*|call_old)\|string:)[^|]*(\|string:CREATE (?:UNIQUE )?INDEX ).*( ON )`)

// inPartsNow is what the server says of tables and their rows, and in which part each row is.
func (o *office) inPartsNow(table string) string {
	o.Helper()
	lines := strings.Split(indexOfPart.ReplaceAllString(o.serverSnapshot(), "$1…$2…$3"), "\n")
	slices.Sort(lines)
	return strings.Join(lines, "\n") + "\nrows:\n" +
		o.query("select tableoid::regclass, id, at, vessel, port_id, tons, flag from "+table+
			" order by id, at")
}

func (o *office) withoutRows(snapshot string) string {
	before, _, _ := strings.Cut(snapshot, "\nrows:\n")
	return before
}

// caller is a program that has calls of its own: it knows what they hold.
type caller struct {
	*testing.T
	db    *sql.DB
	r     *rand.Rand
	n     int
	calls map[int]*called
	next  int
	flags bool   // it gives calls that come a flag
	past  string // where it writes past the table
}

type called struct {
	day  int // from the first of 2023
	tons int
	flag string
	late bool // it came while the change ran
}

// write does one thing with one call, by the table or by one of its parts: rows move from part to part, go,
// come, and take the keys of others.
func (c *caller) write() error {
	ids := slices.Sorted(maps.Keys(c.calls))
	id := ids[c.r.IntN(len(ids))]
	was, day := c.calls[id], c.r.IntN(3*365)
	columns, flag := "id, at, vessel, tons", ""
	if c.flags {
		columns, flag = columns+", flag", "mine"
	}
	value := map[bool]string{true: ", 'mine'"}[c.flags]
	key := func(id, day int) string { return fmt.Sprintf("id = %d and at = date '2023-01-01' + %d", id, day) }
	exec := func(text string, args ...any) error {
		_, err := c.db.Exec(fmt.Sprintf(text, args...))
		return err
	}
	switch k := c.r.IntN(8); {
	case k < 4: // most move to another part
		if err := exec("update call set at = date '2023-01-01' + %d where %s", day, key(id, was.day)); err != nil {
			return err
		}
		was.day = day
	case k == 4:
		c.next++
		to := c.next*4 + c.n
		if err := exec("update call set id = %d, at = date '2023-01-01' + %d where %s", to, day, key(id,
			was.day)); err != nil {
			return err
		}
		delete(c.calls, id)
		was.day, c.calls[to] = day, was
	case k == 5: // it goes, and another comes under its key
		if err := exec("delete from call where %s", key(id, was.day)); err != nil {
			return err
		}
		delete(c.calls, id)
		if err := exec("insert into call (%s) values (%d, date '2023-01-01' + %d, 'another', 5%s)", columns, id, was.day,
			value); err != nil {
			return err
		}
		c.calls[id] = &called{was.day, 5, flag, true}
	case k == 6: // past the table
		c.next++
		to := c.next*4 + c.n
		if err := exec("insert into "+c.past+" (%s) values (%d, date '2025-02-03', 'past', 6%s)", columns, to,
			value); err != nil {
			return err
		}
		c.calls[to] = &called{2*365 + 1 + 33, 6, flag, true}
	default:
		if err := exec("update call set vessel = vessel || '!' where %s", key(id, was.day)); err != nil {
			return err
		}
	}
	return nil
}

// TestRowsThatMoveBetweenParts lets programs move rows from part to part, and parts come and go, while a change
// runs: each row that was there is done once, what came meanwhile is not, and the way back finds each row
// wherever it stands.
func TestRowsThatMoveBetweenParts(t *testing.T) {
	beside(t)
	for i, k := range []struct {
		name, change string
	}{
		{"each once", "backfill call set tons = tons + 1"},
		{"nulls", "alter table call alter column flag set not null using ('none')"},
		{"dropped", "alter table call drop column flag"},
		{"added", "alter table call add column code bigint using (tons * 2); create index call_code on call (code)"},
		{"nulls of a table in one part", "alter table call alter column flag set not null using ('none')"},
	} {
		inTurn(t, i, 5, k.name, func(t *testing.T) {
			const rows = 6000
			tables, past, flags := inParts(0), "call_2025", strings.HasPrefix(k.name, "nulls")
			if strings.Contains(k.name, "one part") {
				tables, past = []string{"create table call (id bigint not null, at date not null, vessel varchar(40), " +
					"port_id integer, " +
					"tons integer, flag text, primary key (id, at))"}, "call"
			}
			o := liveOffice(t, "lock_wait = '20ms'\nlock_tries = 2000\nbatch_time = '10ms'\nwork_share = '66 %'\n", append(
				tables, fmt.Sprintf("insert into call select g, date '2023-01-01' + (g %% 1000)::int, 'v', 1, g, case "+
					"when g %% 3 > 0 then "+
					"'flag ' || g end from generate_series(1, %d) g", rows), "analyze")...)
			callers := make([]*caller, 4)
			for n := range callers {
				callers[n] = &caller{T: t, db: o.open(), r: rand.New(rand.NewPCG(uint64(n), uint64(i))), n: n,
					calls: map[int]*called{},
					next:  rows, flags: flags, past: past}
				defer callers[n].db.Close()
			}
			for id := 1; id <= rows; id++ {
				flag := ""
				if id%3 > 0 {
					flag = fmt.Sprint("flag ", id)
				}
				callers[id%4].calls[id] = &called{day: id % 1000, tons: id, flag: flag}
			}
			change := func(ended func() bool) {
				var all sync.WaitGroup
				for _, c := range callers {
					all.Go(func() {
						for !ended() && !t.Failed() {
							if err := c.write(); err != nil {
								t.Errorf("a program was told: %v", err)
							}
						}
					})
				}
				if past != "call" {
					all.Go(func() { o.partsCome(ended, flags) })
				}
				all.Wait()
			}
			beside := func(args ...string) {
				p := o.pausedAt("batch-committed:1", args...) // what comes from now on is not there when it begins
				if p == nil {
					p = o.start(args...)
				}
				os.Remove(p.file)
				change(func() bool {
					select {
					case <-p.ended:
						return true
					default:
						return false
					}
				})
				if r := p.goOn(); r.code != 0 {
					t.Fatal(r)
				}
				o.must("audit")
			}
			o.migration("0002-change", "-- A change\n"+k.change+";\n")
			switch k.name {
			case "each once":
				beside("advance", "--yes")
				o.callsAre(callers, "tons || ' ' || coalesce(flag, '')", func(c *called) string {
					return fmt.Sprint(c.tons+map[bool]int{false: 1}[c.late], " ", c.flag)
				})
			case "dropped":
				o.must("advance", "--yes")
				beside("settle", "--yes")
			case "added":
				beside("advance", "--yes")
				o.same("select count(*) from call where code is distinct from tons * 2 and vessel like 'v%'", "0")
			default:
				beside("advance", "--yes")
				o.same("select count(*) from call where flag is null", "0")
			}
			for range 200 { // what is kept follows its rows
				for _, c := range callers {
					if err := c.write(); err != nil {
						t.Fatal(err)
					}
				}
			}
			beside("retreat", "--to", "1", "--yes", "--settle")
			o.callsAre(callers, "tons || ' ' || coalesce(flag, '')", func(c *called) string {
				return fmt.Sprint(c.tons,
					" ", c.flag)
			})
		})
	}
}

// partsCome makes parts and takes them away, until it is told to end.
func (o *office) partsCome(ended func() bool, flags bool) {
	column, value := "", ""
	if flags {
		column, value = ", flag", ", 'goes'"
	}
	db := o.open()
	defer db.Close()
	for n := 0; !ended(); n++ {
		for _, text := range []string{
			fmt.Sprintf("create table part_%d partition of call for values from ('%d-01-01') to ('%d-01-01')", n,
				1900+n%50, 1901+n%50),
			fmt.Sprintf("insert into part_%d (id, at%s) values (%d, '%d-05-05'%s)", n, column, 1_000_000+n, 1900+n%50, value),
			fmt.Sprintf("alter table call detach partition part_%d", n), fmt.Sprintf("drop table part_%d", n),
		} {
			if _, err := db.Exec(text); err != nil {
				o.Errorf("%s: %v", text, err)
				return
			}
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// callsAre compares what is there with what the programs know.
func (o *office) callsAre(callers []*caller, shows string, want func(*called) string) {
	o.Helper()
	var lines []string
	for _, c := range callers {
		for id, x := range c.calls {
			lines = append(lines, fmt.Sprintf("%d %d %s", id, x.day, want(x)))
		}
	}
	got := strings.Split(
		strings.ReplaceAll(o.query("select id || ' ' || (at - date '2023-01-01') || ' ' || "+shows+" from call"),
			"string:", ""), "\n")
	slices.Sort(lines)
	slices.Sort(got)
	if a, b := strings.Join(lines, "\n"), strings.Join(got, "\n"); a != b {
		o.Errorf("the rows are not what the programs wrote: %s", firstDifference(a, b))
	}
}

// TestPartsAreKilled kills runs that build indexes and keys part by part at every so many statements, and goes
// on with them or takes them back: nothing half built is left on any part.
func TestPartsAreKilled(t *testing.T) {
	beside(t)
	for i, place := range []string{"sent", "statement"} {
		inTurn(t, i, 2, place, func(t *testing.T) {
			o := liveOffice(t, "lock_wait = '5ms'\nlock_tries = 1000\nwork_share = '100 %'\n", inParts(2000)...)
			o.migration("0002-change", "-- Keys\ncreate index call_vessel on call (vessel);\n"+
				"alter table call add constraint call_once unique (tons, id, at);\n"+
				"alter table call add constraint call_port foreign key (port_id) references port (id);\n"+
				"alter table call alter column flag set not null using ('none');\n")
			start := o.inPartsNow("call")
			every := map[string]int{"sent": 150, "statement": 12}[place]
			for n, died := 1+int(*day)%every, true; died && !t.Failed(); n += every {
				o.env = []string{fmt.Sprint("LASTBOARD_FAULT=", place, ":", n)}
				r := o.run("advance", "--yes")
				o.env = nil
				if died = r.killed; !died && r.code != 0 {
					t.Fatalf("killed at %s %d: %s", place, n, r)
				}
				if n/every%2 == 0 {
					o.must("advance", "--yes")
					o.must("audit")
					o.same("select count(*) from pg_index where not indisvalid", "0")
				}
				o.must("retreat", "--to", "1", "--yes", "--settle")
				o.must("audit")
				if now := o.inPartsNow("call"); now != start {
					t.Errorf("killed at %s %d, it is not what it was: %s", place, n, firstDifference(start, now))
				}
			}
		})
	}
}

// TestNullsOfRowsThatMoveAllTheTime fills the nulls of rows that get a key from one end of the table to the other
// all the time, past every walk: all are remembered, and are null again on the way back.
func TestNullsOfRowsThatMoveAllTheTime(t *testing.T) {
	rows := make([]string, 60)
	for i := range rows {
		rows[i] = fmt.Sprintf("(%d, null, %d)", 1_000_000+i, 1+i)
	}
	o := liveOffice(t, "lock_wait = '10ms'\nlock_tries = 2000\nbatch_time = '5ms'\n",
		"create table vessel (id integer not null primary key, flag varchar(20), n integer not null)",
		"insert into vessel select g, 'flag', 0 from generate_series(1, 4000) g",
		"insert into vessel values "+strings.Join(rows, ", "), "analyze")
	o.migration("0002-flag", "-- Flags\nalter table vessel alter column flag set not null using ('none');\n")
	stop := o.meanwhile(4, func(db *sql.DB, r *rand.Rand) error {
		_, err := db.Exec(fmt.Sprintf("update vessel set id = -id where n = %d", 1+r.IntN(60)))
		return err
	})
	r := o.run("advance", "--yes")
	stop()
	if r.code != 0 {
		t.Fatal(r)
	}
	o.same("select count(*) from vessel where flag = 'none'", "60")
	o.must("retreat", "--to", "1", "--yes", "--settle")
	o.same("select count(*) from vessel where flag is null", "60")
	o.must("audit")
}

// TestPartsWithRowsAreAttached is that what is kept does not come to rows of a part that is attached later under
// keys which other rows had, unless a person says that they are the same; parts that are made empty are no matter.
func TestPartsWithRowsAreAttached(t *testing.T) {
	o := liveOffice(t, "lock_wait = '300ms'\n", inParts(300)...)
	o.migration("0002-flag", "-- No flags\nalter table call drop column flag;\n")
	o.must("advance", "--yes", "--settle")
	o.exec("create table call_2027 partition of call for values from ('2027-01-01') to ('2028-01-01')",
		"update call set at = '2027-03-03' where id = 1")
	o.must("audit")
	o.exec("alter table call detach partition call_old", "create table other (like call_old including constraints)",
		"insert into other select * from call_old",
		"alter table call attach partition other for values from ('2000-01-01') to "+
			"('2025-01-01')")
	o.wants(o.code(5, "audit"), "what is kept may be of rows that went meanwhile")
	o.wants(o.code(3, "retreat", "--to", "1", "--yes", "--settle"), "has attached a part with rows", "--trust-kept")
	o.must("retreat", "--to", "1", "--yes", "--settle", "--trust-kept")
	o.same("select count(*) from call where flag is distinct from case when id % 3 > 0 then 'flag ' || id end", "0")
	o.must("audit")
}

// TestTriggersOfPartsAreMissed is that audit misses each trigger by which what is kept of a table in parts
// follows its rows.
func TestTriggersOfPartsAreMissed(t *testing.T) {
	beside(t)
	o := liveOffice(t, "", inParts(200)...)
	o.migration("0002-less", "-- Less\nalter table call drop column flag;\n")
	o.code(0, "advance", "--yes", "--settle")
	o.wants(o.code(0, "audit"), "matches:")
	names := o.query("select tgname from pg_trigger where tgrelid = 'call'::regclass and tgname like " +
		"'%lastboard_kept_%' order by 1")
	list := strings.Fields(strings.ReplaceAll(names, "string:", ""))
	if len(list) != 4 {
		t.Fatalf("triggers: %v", list)
	}
	for _, name := range list {
		o.exec("alter table call disable trigger \"" + name + "\"")
		o.wants(o.code(5, "audit"), strings.TrimPrefix(name, "zz_"))
		o.exec("alter table call enable always trigger \"" + name + "\"")
		o.wants(o.code(0, "audit"), "matches:")
	}
	o.exec("drop trigger zz_lastboard_kept_1_turn on call")
	o.wants(o.code(5, "audit"), "lastboard_kept_1_turn")
}
