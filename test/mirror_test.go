package test

import (
	"context"
	"database/sql"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

var ages = flag.Duration("ages", 1500*time.Millisecond,
	"how long programs of two ages write beside each other in each stage of an overlap")

// boat is a row as a program last wrote it.
type boat struct {
	name, flag string // flag is "" for null
	tons       int
}

// crew is a program: it knows a table by the names of its age, and remembers what it was told
// is written.
type crew struct {
	t           *testing.T
	db          *sql.DB
	r           *rand.Rand
	name, flag  string // of the columns
	number      int    // its rows are those whose id leaves this when it is divided by 8
	boats       map[int]*boat
	next, ports int
	wrote       int
}

func (c *crew) set(id int, b boat) {
	if strings.HasPrefix(b.name, "shout") { // as the application's own trigger has it
		b.name = strings.ToUpper(b.name)
	}
	c.boats[id] = &b
}

func (c *crew) some() (int, bool) {
	if len(c.boats) == 0 {
		return 0, false
	}
	ids := slices.Sorted(maps.Keys(c.boats))
	return ids[c.r.IntN(len(ids))], true
}

func (c *crew) fresh() int { c.next++; return c.next*8 + c.number }

func (c *crew) word() string {
	return []string{"boat", "shout", "Boat", "boat ", "BOAT"}[c.r.IntN(5)] + fmt.Sprint(c.r.IntN(1000))
}

func (c *crew) port() string {
	c.ports++
	return fmt.Sprintf("%c%d-%d", 'A'+c.r.IntN(3), c.number, c.ports)
}

// write does one thing that a program does, and notes what came of it once it is committed.
func (c *crew) write() error {
	id, found := c.some()
	if !found || len(c.boats) < 20 {
		id = 0
	}
	n, f := c.name, c.flag
	word := c.word()
	kind := c.r.IntN(16)
	if id == 0 {
		kind = c.r.IntN(4)
	}
	var level sql.IsolationLevel
	if k := c.r.IntN(10); k == 0 {
		level = sql.LevelSerializable
	} else if k == 1 {
		level = sql.LevelRepeatableRead
	}
	tx, err := c.db.BeginTx(context.Background(), &sql.TxOptions{Isolation: level})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	exec := func(text string, args ...any) {
		if err == nil {
			_, err = tx.Exec(strings.NewReplacer("NAME", n, "FLAG", f).Replace(text), args...)
		}
	}
	was := boat{}
	if id != 0 {
		was = *c.boats[id]
	}
	var after func()
	switch kind {
	case 0:
		now, port := c.fresh(), c.port()
		exec("insert into vessel (id, NAME, FLAG, tons) values ($1, $2, $3, 1)", now, word, port)
		after = func() { c.set(now, boat{word, port, 1}) }
	case 1:
		now := c.fresh()
		exec("insert into vessel (id) values ($1)", now)
		after = func() { c.set(now, boat{"none", "", 0}) }
	case 2:
		a, b := c.fresh(), c.fresh()
		exec("insert into vessel (id, NAME, tons) values ($1, $2, 2), ($3, $4, 3)", a, word, b, word+"b")
		after = func() { c.set(a, boat{word, "", 2}); c.set(b, boat{word + "b", "", 3}) }
	case 3:
		now := c.fresh()
		exec("insert into vessel (id, NAME, tons) select $1::int, cast($2 as text), 4 union all select 0, 'none', 0 "+
			"where false", now, word)
		after = func() { c.set(now, boat{word, "", 4}) }
	case 4, 5:
		exec("update vessel set NAME = $2 where id = $1", id, word)
		after = func() { c.set(id, boat{word, was.flag, was.tons}) }
	case 6:
		exec("update vessel set NAME = NAME || '+' where id = $1", id)
		after = func() { c.set(id, boat{was.name + "+", was.flag, was.tons}) }
	case 7:
		exec("update vessel set tons = tons + 1 where id = $1", id)
		after = func() { c.set(id, boat{was.name, was.flag, was.tons + 1}) }
	case 8: // all columns that it knows are written back, one of them changed
		var b boat
		var port sql.NullString
		err = tx.QueryRow(strings.NewReplacer("NAME", n, "FLAG",
			f).Replace("select NAME, FLAG, tons from vessel where id = $1 for update"), id).Scan(&b.name, &port, &b.tons)
		exec("update vessel set NAME = $2, FLAG = $3, tons = $4 where id = $1", id, b.name, port, 77)
		after = func() { c.set(id, boat{was.name, was.flag, 77}) }
	case 9:
		port := c.port() + "u"
		exec("insert into vessel (id, NAME, FLAG) values ($1, $2, $3) on conflict (id) do update set NAME = "+
			"excluded.NAME, FLAG = excluded.FLAG", id, word, port)
		after = func() { c.set(id, boat{word, port, was.tons}) }
	case 10:
		exec("delete from vessel where id = $1", id)
		after = func() { delete(c.boats, id) }
	case 11:
		exec("delete from vessel where id = $1", id)
		exec("insert into vessel (id, NAME, tons) values ($1, $2, 9)", id, word)
		after = func() { c.set(id, boat{word, "", 9}) }
	case 12:
		exec("savepoint a")
		exec("update vessel set NAME = 'never' where id = $1", id)
		exec("rollback to savepoint a")
		exec("update vessel set FLAG = null where id = $1", id)
		after = func() { c.set(id, boat{was.name, "", was.tons}) }
	case 13:
		exec("update vessel set NAME = 'never', FLAG = null, tons = -1 where id = $1", id)
		if err != nil {
			return err
		}
		return tx.Rollback()
	case 14:
		now := c.fresh()
		exec("update vessel set id = $2, NAME = $3 where id = $1", id, now, word)
		after = func() { delete(c.boats, id); c.set(now, boat{word, was.flag, was.tons}) }
	case 15:
		exec("update vessel set NAME = default where id = $1", id)
		after = func() { c.set(id, boat{"none", was.flag, was.tons}) }
	}
	if err == nil {
		err = tx.Commit()
	}
	if err == nil {
		after()
		c.wrote++
	}
	return err
}

// work writes until it is told to stop. What a serializable transaction is told is tried again.
func (c *crew) work(stop *atomic.Bool) {
	for !stop.Load() {
		err := c.write()
		var pg *pgconn.PgError
		if err != nil && errors.As(err, &pg) && pg.Code == "40001" {
			continue
		}
		if err != nil {
			c.t.Errorf("a program that knows %s: %v", c.name, err)
			return
		}
	}
}

// TestTwoAgesWriteOneColumn is that programs of before and of after, each by its own name, write
// a column that is renamed, beside triggers of their own: in no committed row the names differ, no
// program meets an error, and in the end each row is as it was last written.
func TestTwoAgesWriteOneColumn(t *testing.T) {
	const rows = 12_000
	o := liveOffice(t, "lock_wait = '200ms'\nlock_tries = 500\nbatch_time = '10ms'\n",
		"create table vessel (id integer primary key, name text not null default 'none', flag varchar(40) unique, tons "+
			"integer not null default 0)",
		"create index by_name on vessel (name)", "create table seen (id integer)",
		// It finds the column under whatever name it has.
		"create function shout() returns trigger language plpgsql as $$ declare j jsonb := to_jsonb(new); k text := "+
			"case when j ? 'name' then 'name' else 'title' end; "+
			"begin if j->>k like 'shout%' then new := jsonb_populate_record(new, jsonb_build_object(k, upper(j->>k))); end "+
			"if; return new; end $$",
		"create trigger shout before insert or update on vessel for each row execute function shout()",
		"create function notice() returns trigger language plpgsql as $$ begin insert into seen values (new.id); return "+
			"null; end $$",
		"create trigger notice after update of name on vessel for each row execute function notice()",
		fmt.Sprintf("insert into vessel (id, name, flag) select -g, 'old ' || g, 'F' || g from generate_series(1, %d) g",
			rows), "analyze")
	start := o.canonical(true)
	o.migration("0002-title", "-- A vessel has a title\nalter table vessel rename column name to title, rename "+
		"column flag to colours;\n")
	db := o.open()
	defer db.Close()
	db.SetMaxOpenConns(8)
	begin := func(name, flag string, numbers ...int) (crews []*crew, end func()) {
		var stop atomic.Bool
		var all sync.WaitGroup
		for _, n := range numbers {
			c := &crew{t: t, db: db, r: rand.New(rand.NewPCG(uint64(n), 3)), name: name, flag: flag, number: n,
				boats: map[int]*boat{}}
			crews = append(crews, c)
			all.Go(func() { c.work(&stop) })
		}
		return crews, func() { stop.Store(true); all.Wait() }
	}
	var crews []*crew
	old, oldEnds := begin("name", "flag", 0, 1)
	time.Sleep(200 * time.Millisecond)
	o.must("advance", "--yes")
	after, afterEnds := begin("title", "colours", 2, 3)
	crews = append(old, after...)
	looked := 0
	for end := time.Now().Add(*ages); time.Now().Before(end) || looked < 30; looked++ {
		const differ = "record_image_ne(row(name, flag), row(title, colours))"
		if n := o.query("select count(*) from vessel where " + differ); n != "int64:0" {
			t.Fatalf("%s rows have other values by one name than by the other", n)
		}
	}
	oldEnds()
	o.must("settle", "--yes")
	time.Sleep(*ages / 3)
	afterEnds()
	wrote := 0
	for _, c := range crews {
		wrote += c.wrote
		for _, id := range slices.Sorted(maps.Keys(c.boats)) {
			b := c.boats[id]
			var got boat
			var port sql.NullString
			if err := db.QueryRow("select title, colours, tons from vessel where id = $1", id).Scan(&got.name, &port,
				&got.tons); err != nil {
				t.Fatalf("row %d of a program that knows %s: %v", id, c.name, err)
			}
			if got.flag = port.String; got != *b {
				t.Errorf("row %d of a program that knows %s is %v and should be %v", id, c.name, got, *b)
			}
		}
	}
	t.Logf("%d writes, %d looks", wrote, looked)
	o.same("select count(*) from vessel where id < 0 and (title <> 'old ' || -id or colours <> 'F' || -id)", "0")
	o.same(fmt.Sprintf("select count(*) from vessel where id < 0 and title is not null and %d = (select count(*) "+
		"from vessel where id < 0)", rows), fmt.Sprint(rows))
	o.must("audit")
	o.must("retreat", "--to", "1", "--yes", "--settle")
	o.exec("delete from vessel where id >= 0", "truncate seen")
	o.isAgain(start)
}

// TestTwoNamesOfOneColumn is what holds while a column has two names: of rights, defaults, later
// migrations, a statement that writes both, and triggers that somebody takes away.
func TestTwoNamesOfOneColumn(t *testing.T) {
	o := liveOffice(t, "", "create table vessel (id integer primary key, name varchar(40) not null default 'none', "+
		"tons integer)",
		"insert into vessel values (1, 'a', 1), (2, 'b', 2)",
		"create function nothing() returns trigger language plpgsql as $$ begin return new; end $$",
		"create trigger of_the_office before update on vessel for each row execute function nothing()")
	role := "clerk_" + o.name()
	o.exec("create role "+role, "grant select (id, name), update (name) on vessel to "+role)
	defer o.exec("drop owned by "+role, "drop role "+role)
	o.exec("create schema yard", "create table yard.vessel (id integer primary key, hull varchar(9))",
		"insert into yard.vessel values (1, 'steel')")
	o.migration("0002-yard", "-- The yard's\nalter table yard.vessel rename column hull to made_of;\n")
	o.must("advance", "--yes")
	defer o.must("retreat", "--to", "1", "--yes")
	o.exec("update yard.vessel set made_of = 'wood'")
	start := o.canonical(true)
	o.migration("0003-title", "-- A title\nalter table vessel rename column name to title;\n")
	o.wants(o.code(0, "check"), "note trigger-names-column", "of_the_office")
	o.wants(o.code(0, "advance", "--yes"), "0003 is open", "column name (title now) of vessel")
	o.wants(o.code(0, "describe", "vessel"), "column name (title now) goes when 0003 is settled")
	o.must("audit")

	o.exec("set role " + role + "; update vessel set title = 'by the clerk' where id = 1; reset role")
	o.exec("set session_replication_role = replica; update vessel set title = 'x' where id = 2; update vessel set " +
		"name = 'b' where id = 2; set session_replication_role = origin")
	o.exec("insert into vessel (id, name) values (3, 'old')", "insert into vessel (id, title) values (4, 'new')",
		"insert into vessel (id) values (5)",
		"insert into vessel (id, title) values (6, default)",
		"insert into vessel (id, name, title) values (7, 'same', 'same')", "update vessel set name = title, title = name")
	o.same("select id, name, title from vessel order by id",
		"1|by the clerk|by the clerk\n2|b|b\n3|old|old\n4|new|new\n5|none|none\n6|none|none\n7|same|same")
	db := o.open()
	defer db.Close()
	for _, text := range []string{
		"update vessel set name = 'x', title = 'y' where id = 2", "insert into vessel (id, name, title) values (8, 'x', 'y')",
		"update vessel set title = null where id = 2", "insert into vessel (id, title) values (8, null)",
	} {
		var pg *pgconn.PgError
		if _, err := db.Exec(text); !errors.As(err, &pg) || pg.Code != "23514" && pg.Code != "23502" {
			t.Errorf("%s: %v", text, err)
		}
	}

	for _, statement := range []string{"alter table vessel alter title set default 'x'", "backfill vessel set name = 'x'",
		"create index by_title on vessel (title)", "drop table vessel"} {
		o.migration("0004-way", "-- In the way\n"+statement+";\n")
		if r := o.run("advance", "--yes"); statement != "drop table vessel" {
			o.wants(r, "settle-first", "0003")
		} else if r.code == 0 { // it stays until then
			o.must("retreat", "--to", "3", "--yes")
		}
	}
	o.migration("0004-way", "-- Beside it\nalter table vessel alter tons set not null using (0), add column port "+
		"varchar(20) using ('p' || cast(id as varchar(9)));\nbackfill vessel set tons = tons + 1;\n")
	o.must("advance", "--yes")
	o.same("select count(*) from vessel where name <> title or port <> 'p' || id", "0")
	o.must("audit")

	o.exec("alter table vessel disable trigger zz_lastboard_vessel_last")
	o.exec("update vessel set name = 'past it' where id = 1")
	o.wants(o.code(5, "audit"), "zz_lastboard_vessel_last", "create or replace trigger")
	o.wants(o.code(3, "settle", "3", "--yes"), "mirror-differs")
	o.exec("alter table vessel enable trigger zz_lastboard_vessel_last", "update vessel set name = name")
	o.wants(o.code(1, "settle", "3", "--yes"), "are not all there")
	o.exec("alter table vessel enable always trigger zz_lastboard_vessel_last")
	o.must("settle", "3", "--yes")
	o.exec("set role " + role + "; update vessel set title = 'again' where id = 1; reset role")
	o.exec("update yard.vessel set hull = 'iron'")
	o.same("select made_of from yard.vessel", "iron")
	o.exec("update yard.vessel set made_of = 'wood'")
	o.must("retreat", "--to", "2", "--yes", "--settle")
	o.exec("delete from vessel where id > 2", "update vessel set name = 'a' where id = 1")
	o.isAgain(start)
}

// TestTwoNamesThatAreHostile is that names which would end a text, a body or a format do nothing
// but name.
func TestTwoNamesThatAreHostile(t *testing.T) {
	beside(t)
	const table, old, now = `o'$lastboard$"%s`, `n'$lastboard$"; drop table plain; --%I`, `m\'$lastboard$"$$`
	for _, name := range everywhere {
		t.Run(name, func(t *testing.T) {
			table1, old1, now1 := quoted(table), quoted(old), quoted(now)
			o := officeOn(t, name, []string{"create table plain (id integer)",
				"create table " + table1 + " (id integer primary key, " + old1 + " varchar(20) unique default 'no''ne')",
				"insert into " + table1 + " values (1, 'a')"})
			o.paced("")
			start := o.canonical(true)
			o.migration("0002-name", "-- A name\nalter table "+table1+" rename column "+old1+" to "+now1+";\n")
			o.wants(o.code(0, "advance", "--yes"), "0002 is open")
			o.exec("insert into "+table1+" (id, "+old1+") values (2, 'old')",
				"insert into "+table1+" (id, "+now1+") values (3, 'new')", "insert into "+table1+" (id) values (4)")
			o.same("select id, "+old1+", "+now1+" from "+table1+" order by id",
				"1|a|a\n2|old|old\n3|new|new\n4|no'ne|no'ne")
			o.must("audit")
			o.wants(o.code(0, "settle", "--trial", "1s", "--yes"), "the trial is over")
			o.must("settle", "--yes")
			o.must("audit")
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.exec("delete from " + table1 + " where id > 1")
			o.isAgain(start)
			o.same("select count(*) from plain", "0")
		})
	}
}

// TestTwoNamesAreKilled kills runs that give a column a second name, that settle it and that take
// it back, at statements of their way: programs of before and of after go on meanwhile, and nothing
// that they write is lost.
func TestTwoNamesAreKilled(t *testing.T) {
	beside(t)
	k := interleavedKinds[slices.IndexFunc(interleavedKinds, func(k interleaved) bool { return k.name == "another name" })]
	for _, name := range ofToday(t, everywhere) {
		t.Run(name, func(t *testing.T) {
			o := interleavedOffice(t, name, nil)
			differ := map[string]string{"PostgreSQL": "flag is distinct from ensign",
				"MariaDB": "not (flag <=> ensign)", "SQLite": "flag is not ensign"}[name]
			// known gives the name by which a program can write now.
			known := func() string {
				columns := "information_schema.columns where table_name = 'vessel' and column_name = 'flag' and table_schema = " +
					map[string]string{"PostgreSQL": "'public'", "MariaDB": "database()"}[name]
				if name == "SQLite" {
					columns = "pragma_table_info('vessel') where name = 'flag'"
				}
				if o.query("select count(*) from "+columns) == "int64:0" {
					return "ensign"
				}
				return "flag"
			}
			kills := func(place string, every int) {
				for n, died := 1+int(*day)%every, true; died && !t.Failed(); n += every {
					f := &convoy{office: o, engine: name, ships: map[int]*ship{}}
					f.begin(k)
					died = false
					for i, args := range [][]string{{"advance", "--yes"}, {"settle", "--yes"},
						{"retreat", "--to", "1", "--yes", "--settle"}} {
						if name == "SQLite" { // which writes the table anew to drop a column
							args = append(args, "--let-writers-wait")
						}
						o.env = []string{fmt.Sprint("LASTBOARD_FAULT=", place, ":", n)}
						r := o.run(args...)
						o.env = nil
						if r.killed {
							died = true
							if place == "sent" { // as after the other place nobody can write until it goes on
								o.exec(fmt.Sprintf("update vessel set %s = 'W%d' where id in (%d, 300)", known(), i, i+1))
							}
							o.must(args...)
						} else if r.code != 0 {
							t.Fatalf("%v: %s", args, r)
						}
						o.exec("update vessel set " + known() + " = 'W9' where id = 301")
						if i == 0 {
							o.same("select count(*) from vessel where "+differ, "0")
							o.exec("update vessel set ensign = 'new' where id = 10",
								"update vessel set flag = 'old' where id = 11")
							o.same("select count(*) from vessel where "+differ, "0")
						}
					}
					o.must("audit")
					o.same("select flag from vessel where id in (10, 11, 12) order by id", "new\nold\nNO")
					if died && place == "sent" {
						o.same("select count(*) from vessel where id = 300 and flag like 'W%'", "1")
					}
					o.same("select count(*) from vessel where id between 20 and 299 and (flag = 'NO') = (orig % 7 <> 0)",
						"240")
					o.same("select count(*) from vessel where id between 20 and 299 and flag is null", "40")
				}
			}
			kills("sent", 12)
			if name == "MariaDB" {
				kills("locked-statement", 2)
			}
		})
	}
}
