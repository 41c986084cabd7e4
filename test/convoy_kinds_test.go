package test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// A kind of change, with what holds of every row once it has run. Rows whose berth an
// application wrote are left out where untouched is set.
type interleaved struct {
	name, statement, wrong string
	untouched              bool
	loses                  bool // what is kept of a row on SQLite once its key changes
}

var interleavedKinds = []interleaved{
	{"a backfill that reads what it writes", "backfill vessel set berth = berth * 2",
		"berth <> orig * 2 and name <> 'new'", true, false},
	{"a backfill of some rows", "backfill vessel set berth = berth * 2 where mod(orig, 3) = 0",
		"orig % 3 = 0 and berth <> orig * 2 and name <> 'new' or orig % 3 <> 0 and berth <> orig", true, false},
	{"a column that is filled", "alter table vessel add column tag varchar(80) using (name || '!')",
		"tag is null or tag <> concat(name, '!')", true, false},
	{"a not null column that is filled", "alter table vessel add column tag varchar(80) not null using (name || '!')",
		"tag is null or tag <> concat(name, '!')", true, false},
	{"nulls that are filled", "alter table vessel alter flag set not null using ('IS')", "flag is null", false, false},
	{"another type", "alter table vessel alter length set data type varchar(20) using (cast(length as varchar(20)))",
		"length <> cast(orig as char(20))", false, false},
	{"a column that goes", "alter table vessel drop column flag", "1 = 0", false, true},
	{"rows that go", "delete from vessel where mod(orig, 3) = 0", "1 = 0", false, false},
	{"a column that is computed", "alter table vessel add column twice integer generated always as (orig * 2) stored",
		"twice is null or twice <> orig * 2", false, false},
	{"an index and rules", "create index by_name on vessel (name); alter table vessel add constraint numbered unique " +
		"(orig), add constraint counted check (orig > 0); comment on table vessel is 'ships'", "1 = 0", false, false},
	{"columns in another order", "alter table vessel alter berth set position first rebuild", "1 = 0", false, false},
	{"another name", "alter table vessel rename column flag to ensign", "1 = 0", false, false},
	{"rows that come", "insert into vessel (id, orig, name, berth, length) values (-7, 900007, 'new', 900007, 900007)",
		"1 = 0", false, false},
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

// interleavedOffice is a live database whose few rows go the way of many.
func interleavedOffice(t *testing.T, name string, database func(*testing.T) string) *office {
	t.Helper()
	const table = "create table vessel (id integer primary key, orig integer not null, name varchar(60) not null, " +
		"flag varchar(20), berth integer, length integer)"
	more := []string{table, "create table tide (id integer primary key, n integer)"}
	if database == nil {
		database = engines[name]
	}
	var o *office
	if name == "SQLite" {
		o = newOffice(t, append([]string{"pragma journal_mode = wal"}, more...)...)
	} else {
		if name == "MariaDB" {
			more[0] += " engine=InnoDB character set utf8mb4 collate utf8mb4_nopad_bin"
		}
		o = newOfficeOn(t, database, more...)
	}
	o.must("adopt", "--yes")
	url := o.url
	if url == "" {
		url = "sqlite:harbour.db"
	}
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+url+
		"'\nlive = true\n[databases.dev.pace]\nlock_wait = '100us'\nbatch_time = '5ms'\n"+workShare(url))
	return o
}

// anyLockWait sets the database's lock_wait, and returns it: mostly one for which the few
// rows go the way of many, else the usual one, for which all is done at once.
func (o *office) anyLockWait(r *rand.Rand) string {
	wait := "100us"
	if r.IntN(3) == 0 {
		wait = "500ms"
	}
	for _, before := range []string{"100us", "500ms"} {
		o.write("lastboard.toml", strings.ReplaceAll(o.read("lastboard.toml"), "lock_wait = '"+before+"'",
			"lock_wait = '"+wait+"'"))
	}
	return wait
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
	statements := []string{"delete from vessel", "insert into vessel (id, orig, name, flag, berth, length) values " +
		strings.Join(rows, ", ")}
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
		condition = strings.NewReplacer("concat(name, '!')", "name || '!'", "cast(orig as char(20))",
			"cast(orig as text)").Replace(condition)
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
		f.Errorf("%s: %s rows are not what the change says: %s", what, n,
			f.query("select * from vessel where "+condition+" limit 3"))
	}
}
