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

// TestTwoNamesOfOneColumnOnMariaDB is what holds while a column has two names: of defaults, values
// that compare as equal, triggers of the application's own, later migrations, a statement that
// writes both, and triggers that somebody takes away.
func TestTwoNamesOfOneColumnOnMariaDB(t *testing.T) {
	o := newOfficeOn(t, mariadb, "create table vessel (id integer primary key, name varchar(40) not null, flag "+
		"varchar(40) default 'none', tons integer, key by_name (name), unique key one_flag (flag, id)) engine=InnoDB "+
		"character set utf8mb4 collate utf8mb4_general_ci",
		"insert into vessel values (1, 'a', 'NO', 1), (2, 'b', null, 2)",
		"create trigger trims before insert on vessel for each row set new.tons = coalesce(new.tons, 7)",
		"create trigger shouts before update on vessel for each row set new.tons = new.tons + 1")
	o.must("adopt", "--yes")
	o.paced("lock_wait = '200ms'\n")
	start := o.canonical(true)
	o.migration("0002-title", "-- A title\nalter table vessel rename column name to title, rename column flag to "+
		"colours;\n")
	o.wants(o.code(0, "check"), "note trigger-names-column")
	o.wants(o.code(0, "advance", "--yes"), "0002 is open", "column name (title now) of vessel")
	o.wants(o.code(0, "describe", "vessel"), "column name (title now) goes when 0002 is settled")
	o.must("audit")

	o.exec("insert into vessel (id, name) values (3, 'old')", "insert into vessel (id, title) values (4, 'new')",
		"insert into vessel (id, name, title) values (7, 'same', 'same')", "insert into vessel values (8, 'all', 'DK', 3)",
		"insert into vessel (id, title, colours) select 9, 'copied', 'IS'",
		"replace into vessel (id, title) values (4, 'newer')",
		"insert into vessel (id, title, colours) values (3, 'OLD', 'SE') on duplicate key update title = values(title), "+
			"colours = values(colours)",
		"update vessel set title = 'A' where id = 1", "update vessel set name = title, title = name, colours = colours",
		"update vessel set colours = null where id = 8", "update vessel set flag = default where id = 9")
	const rows = "1|A|A|NO|NO\n2|b|b|null|null\n3|OLD|OLD|SE|SE\n4|newer|newer|none|none\n7|same|same|none|none\n" +
		"8|all|all|null|null\n9|copied|copied|none|none"
	o.same("select id, name, title, flag, colours from vessel order by id", rows)
	db := o.open()
	defer db.Close()
	for _, text := range []string{
		"update vessel set name = 'x', title = 'y' where id = 2",
		"insert into vessel (id, name, title) values (10, 'x', 'y')",
		"update vessel set title = null where id = 2", "insert into vessel (id, title) values (10, null)",
		"insert into vessel (id) values (10)",
	} {
		if _, err := db.Exec(text); err == nil || !strings.Contains(err.Error(), "both written") &&
			!strings.Contains(err.Error(), "cannot be null") && !strings.Contains(err.Error(), "default value") {
			t.Errorf("%s: %v", text, err)
		}
	}
	for _, statement := range []string{"alter table vessel alter title set default 'x'",
		"backfill vessel set name = 'x'", "create index by_title on vessel (title)"} {
		o.migration("0003-way", "-- In the way\n"+statement+";\n")
		o.wants(o.run("advance", "--yes"), "settle-first", "0002")
	}
	o.migration("0003-way", "-- Beside it\nalter table vessel add column port varchar(20) using ('p' || "+
		"cast(id as varchar(9)));\nbackfill vessel set tons = tons + 1;\n")
	o.must("advance", "--yes")
	o.same("select count(*) from vessel where not (binary name <=> binary title) or port <> concat('p', id)", "0")
	o.must("audit")
	o.must("retreat", "--to", "2", "--yes", "--settle")
	o.must("audit")

	o.exec("drop trigger lastboard_vessel_last_update_mirror", "update vessel set name = 'past it' where id = 1")
	r := o.code(5, "audit")
	o.wants(r, "lastboard_vessel_last_update_mirror", "create or replace trigger")
	o.wants(o.code(3, "settle", "2", "--yes"), "mirror-differs")
	o.exec("update vessel set title = 'past it' where id = 1")
	o.wants(o.code(1, "settle", "2", "--yes"), "are not all there")
	o.must("retreat", "--to", "1", "--yes")
	o.must("audit")
	o.must("advance", "--yes")
	o.exec("create trigger greets after insert on vessel for each row set @hello = new.name")
	o.wants(o.code(3, "settle", "2", "--yes"), "trigger greets")
	o.exec("drop trigger greets")
	o.must("settle", "2", "--yes")
	o.must("audit")
	o.same("select title, colours from vessel where id = 9", "copied|none")
	o.must("retreat", "--to", "1", "--yes", "--settle")
	o.must("audit")
	o.exec("delete from vessel where id > 2", "update vessel set name = 'a', tons = 0 where id = 1",
		"update vessel set tons = 1 where id = 2")
	o.exec("drop trigger shouts", "update vessel set tons = id",
		"create trigger shouts before update on vessel for each row set new.tons = new.tons + 1")
	o.isAgain(start)
}

// sailor is a program on MariaDB that knows a table by the names of its age, and remembers what it
// was told is written.
type sailor struct {
	t          *testing.T
	db         *sql.DB
	r          *rand.Rand
	name, flag string
	number     int // its rows are those whose id leaves this when it is divided by 8
	boats      map[int]*boat
	next       int
	wrote      int
}

// write does one thing that a program does.
func (s *sailor) write() error {
	var id int
	var was boat
	if ids := slices.Sorted(maps.Keys(s.boats)); len(ids) >= 20 {
		id = ids[s.r.IntN(len(ids))]
		was = *s.boats[id]
	}
	kind := s.r.IntN(13)
	if id == 0 {
		kind = s.r.IntN(4)
	}
	s.next++
	now := s.next*8 + s.number
	word := []string{"boat", "BOAT", "Boat", "boat "}[s.r.IntN(4)] + fmt.Sprint(s.r.IntN(1000))
	port := fmt.Sprintf("%c%d-%d", 'A'+s.r.IntN(3), s.number, s.next)
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	exec := func(format string, args ...any) {
		if err == nil {
			_, err = tx.Exec(strings.NewReplacer("NAME", s.name, "FLAG", s.flag).Replace(fmt.Sprintf(format, args...)))
		}
	}
	var after func()
	set := func(id int, b boat) func() { return func() { s.boats[id] = &b } }
	switch kind {
	case 0:
		exec("insert into vessel (id, NAME, FLAG, tons) values (%d, '%s', '%s', 1)", now, word, port)
		after = set(now, boat{word, port, 1})
	case 1:
		exec("insert into vessel (id, NAME) values (%d, '%s')", now, word)
		after = set(now, boat{word, "", 0})
	case 2:
		exec("insert into vessel (id, NAME, tons) select %d, '%s', 4", now, word)
		after = set(now, boat{word, "", 4})
	case 3:
		exec("replace into vessel (id, NAME, FLAG, tons) values (%d, '%s', '%s', 5)", now, word, port)
		after = set(now, boat{word, port, 5})
	case 4, 5:
		exec("update vessel set NAME = '%s' where id = %d", word, id)
		after = set(id, boat{word, was.flag, was.tons})
	case 6:
		exec("update vessel set NAME = concat(NAME, '+') where id = %d", id)
		after = set(id, boat{was.name + "+", was.flag, was.tons})
	case 7:
		exec("update vessel set tons = tons + 1 where id = %d", id)
		after = set(id, boat{was.name, was.flag, was.tons + 1})
	case 8: // all columns that it knows are written back, one of them changed
		var b boat
		var port sql.NullString
		err = tx.QueryRow("select "+s.name+", "+s.flag+", tons from vessel where id = ? for update", id).
			Scan(&b.name, &port, &b.tons)
		if err == nil {
			_, err = tx.Exec("update vessel set "+s.name+" = ?, "+s.flag+" = ?, tons = 77 where id = ?", b.name, port, id)
		}
		after = set(id, boat{was.name, was.flag, 77})
	case 9:
		exec("insert into vessel (id, NAME, FLAG) values (%d, '%s', '%s') on duplicate key update NAME = values(NAME), "+
			"FLAG = values(FLAG)", id, word, port)
		after = set(id, boat{word, port, was.tons})
	case 10:
		exec("delete from vessel where id = %d", id)
		after = func() { delete(s.boats, id) }
	case 11:
		exec("update vessel set NAME = 'never', FLAG = null, tons = -1 where id = %d", id)
		if err != nil {
			return err
		}
		return tx.Rollback()
	case 12:
		exec("update vessel set id = %d, NAME = '%s' where id = %d", now, word, id)
		after = func() { delete(s.boats, id); s.boats[now] = &boat{word, was.flag, was.tons} }
	}
	if err == nil {
		err = tx.Commit()
	}
	if err == nil {
		after()
		s.wrote++
	}
	return err
}

// TestTwoAgesWriteOneColumnOnMariaDB is that programs of before and of after, each by its own name,
// write a column that is renamed: in no committed row the names differ, no program meets an error,
// and in the end each row is as it was last written.
func TestTwoAgesWriteOneColumnOnMariaDB(t *testing.T) {
	o := newOfficeOn(t, mariadb, "create table vessel (id integer primary key, name varchar(60) not null, flag "+
		"varchar(40) unique, tons integer not null default 0, key by_name (name)) engine=InnoDB character set utf8mb4 "+
		"collate "+
		"utf8mb4_general_ci", "insert into vessel (id, name, flag) select -seq, concat('old ', seq), concat('F', seq) "+
		"from seq_1_to_12000")
	o.must("adopt", "--yes")
	o.paced("lock_wait = '200ms'\nlock_tries = 500\nbatch_time = '10ms'\n")
	start := o.canonical(true)
	o.migration("0002-title", "-- A vessel has a title\nalter table vessel rename column name to title, rename "+
		"column flag to colours;\n")
	db := o.open()
	defer db.Close()
	db.SetMaxOpenConns(8)
	begin := func(name, flag string, numbers ...int) (crews []*sailor, end func()) {
		var stop atomic.Bool
		var all sync.WaitGroup
		for _, n := range numbers {
			s := &sailor{t: t, db: db, r: rand.New(rand.NewPCG(uint64(n), uint64(*day))), name: name, flag: flag,
				number: n, boats: map[int]*boat{}}
			crews = append(crews, s)
			all.Go(func() {
				for !stop.Load() {
					err := s.write()
					// What the engine alone would have told it, too.
					if err != nil && !strings.Contains(err.Error(), "1213") && !strings.Contains(err.Error(), "1020") {
						t.Errorf("a program that knows %s: %v", s.name, err)
						return
					}
				}
			})
		}
		return crews, func() { stop.Store(true); all.Wait() }
	}
	old, oldEnds := begin("name", "flag", 0, 1)
	time.Sleep(200 * time.Millisecond)
	o.must("advance", "--yes")
	after, afterEnds := begin("title", "colours", 2, 3)
	const differ = "select count(*) from vessel where not (binary name <=> binary title and binary flag <=> binary " +
		"colours)"
	looked := 0
	for end := time.Now().Add(*ages); time.Now().Before(end) || looked < 20; looked++ {
		if n := o.query(differ); n != "int64:0" {
			t.Fatalf("%s rows have other values by one name than by the other", n)
		}
	}
	oldEnds()
	o.must("settle", "--yes")
	time.Sleep(*ages / 3)
	afterEnds()
	wrote := 0
	for _, s := range append(old, after...) {
		wrote += s.wrote
		for _, id := range slices.Sorted(maps.Keys(s.boats)) {
			var got boat
			var port sql.NullString
			if err := db.QueryRow("select title, colours, tons from vessel where id = ?", id).Scan(&got.name, &port,
				&got.tons); err != nil {
				t.Fatalf("row %d of a program that knows %s: %v", id, s.name, err)
			}
			if got.flag = port.String; got != *s.boats[id] {
				t.Errorf("row %d of a program that knows %s is %v and should be %v", id, s.name, got, *s.boats[id])
			}
		}
	}
	t.Logf("%d writes, %d looks", wrote, looked)
	o.same("select count(*) from vessel where id < 0 and (title <> concat('old ', -id) or colours <> concat('F', -id))",
		"0")
	o.same("select count(*) from vessel where id < 0", "12000")
	o.must("audit")
	o.must("retreat", "--to", "1", "--yes", "--settle")
	o.exec("delete from vessel where id >= 0")
	o.isAgain(start)
}
