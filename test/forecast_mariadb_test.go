package test

import (
	"database/sql"
	"errors"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"
)

var allKinds = flag.Bool("all-kinds", false, "try every operation on every kind of MariaDB table, and every kill "+
	"on every change, not some of them in turn")

// kindsOfTables are what makes the server do one operation in different ways.
var kindsOfTables = map[string][]string{
	"plain":   nil,
	"virtual": {"alter table call_ add virt integer generated always as (berth_id + 1) virtual"},
	"indexed virtual": {"alter table call_ add virt integer generated always as (berth_id + 1) virtual, add key " +
		"by_virt (virt)"},
	"stored":    {"alter table call_ add kept integer generated always as (berth_id + 1) stored"},
	"full-text": {"alter table call_ add fulltext key words (remark)"},
	"instant history": {"alter table call_ add gone1 integer, algorithm=instant",
		"alter table call_ add gone2 integer first, algorithm=instant", "alter table call_ drop gone1, algorithm=instant",
		"alter table call_ drop gone2, algorithm=instant"},
	"compressed": {"alter table call_ row_format=compressed"},
	"parent": {"create table child (id integer primary key, call_id integer, constraint child_call foreign " +
		"key (call_id) references call_ (id)) engine=InnoDB"},
	"child":       {"alter table call_ add constraint call_berth foreign key (berth_id) references berth (id)"},
	"partitioned": {"alter table call_ partition by hash (id) partitions 3"},
}

var kindBase = []string{
	"create table berth (id integer primary key, code varchar(8) not null) engine=InnoDB character set utf8mb4 " +
		"collate utf8mb4_nopad_bin",
	"create table call_ (id integer auto_increment primary key, berth_id integer, vessel varchar(40) not null, tons " +
		"decimal(7,2), remark varchar(200), state enum('in', 'out'), seen datetime(6), key call_vessel (vessel), " +
		"constraint heavy check (tons > 0))" +
		" engine=InnoDB character set utf8mb4 collate utf8mb4_nopad_bin",
	"insert into berth select seq, concat('B', seq) from seq_1_to_20",
	"insert into call_ (berth_id, vessel, tons, remark, state, seen) select 1 + seq % 20, concat('V', seq), 1 + seq " +
		"% 700, 'r', 'in', timestamp'2031-01-01 00:00:00' + interval seq hour from seq_1_to_2000",
}

// operationsOnKinds are operations of the language on any of these tables.
var operationsOnKinds = []string{
	"alter table call_ add note text", "alter table call_ add note text after id",
	"alter table call_ add flagged boolean not null default false",
	"alter table call_ add at timestamp default current_timestamp", "alter table call_ add mark uuid default uuid()",
	"alter table call_ add tag varchar(50) not null using (vessel || '!')",
	"alter table call_ add tag varchar(50) unique using (vessel || cast(id as text))",
	"alter table call_ add tax numeric(9,2) generated always as (tons * 1.2) stored",
	"alter table call_ add tax numeric(9,2) generated always as (tons * 1.2) virtual",
	"alter table call_ add parent integer references berth", "alter table call_ add c integer check (c > 0)",
	"alter table call_ drop state", "alter table call_ drop state discard",
	"alter table call_ rename state to states", "alter table call_ rename to visit",
	"alter table call_ alter vessel set data type varchar(60)",
	"alter table call_ alter vessel set data type varchar(80)", "alter table call_ alter vessel set data type text",
	"alter table call_ alter vessel set data type varchar(30)", "alter table call_ alter tons set data type numeric(9,2)",
	"alter table call_ alter tons set data type text using (cast(tons as text) || '')",
	"alter table call_ alter state set data type enum('in', 'out', 'lost')",
	"alter table call_ alter state set data type enum('lost', 'in', 'out')",
	"alter table call_ alter seen set data type date using (cast(seen as date))",
	"alter table call_ alter remark set default 'none'", "alter table call_ alter seen set not null",
	"alter table call_ alter state set not null using ('in')", "alter table call_ alter vessel drop not null",
	"alter table call_ alter seen set on update current_timestamp", "alter table call_ alter id restart with 100000",
	"alter table call_ add constraint some check (id > 0)", "alter table call_ drop constraint heavy",
	"alter table call_ rename constraint heavy to light",
	"alter table call_ add constraint at_berth foreign key (berth_id) references berth",
	"alter table call_ add constraint named unique (vessel, id)", "alter table call_ alter state set position first",
	"create index fresh on call_ (tons)", "create unique index fresh on call_ (vessel, id)",
	"drop index call_vessel on call_",
	"alter index call_vessel on call_ rename to by_vessel", "comment on table call_ is 'all of them'",
	"comment on column call_.vessel is 'its name'", "alter table call_ rebuild",
	"create table other (id integer primary key, call_id integer references call_)",
	"backfill call_ set remark = upper(vessel)", "delete from call_ where id > 1900",
}

// TestForecastIsTrueOnMariaDB compares for every operation, on every kind of table, the
// algorithm and the lock of each statement of the forecast with those that the real table
// accepts, and whether the table is then written anew.
func TestForecastIsTrueOnMariaDB(t *testing.T) {
	beside(t)
	kinds := slices.Sorted(maps.Keys(kindsOfTables))
	for i, operation := range operationsOnKinds {
		for j, kind := range kinds {
			if kind == "plain" && !itsTurn(i, 4) || kind != "plain" && !itsTurn(i+j, 4*len(kinds)) {
				continue
			}
			t.Run(operation+", "+kind, func(t *testing.T) {
				o := newOfficeOn(t, mariadb, slices.Concat(kindBase, kindsOfTables[kind])...)
				o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
					"'\n[databases.dev.pace]\nlock_wait = '1us'\n")
				o.migration("0001-change", "-- A change\n"+operation+";\n")
				if r := o.run("forecast"); r.code == 3 && (strings.Contains(r.String(), "MariaDB would not") ||
					strings.Contains(r.String(), "MariaDB wants")) {
					refusedByServer(t, o, r)
					return
				}
				observeMariaDB(t, o)
			})
		}
	}
}

// refusedByServer asserts that what the forecast refuses in the server's name is one of
// the limits of such tables that the manual names.
func refusedByServer(t *testing.T, o *office, r result) {
	t.Helper()
	for _, limit := range []string{"do not support partitioning", "must include all columns",
		"is not supported for generated columns", "AUTO_INCREMENT", "FOREIGN KEY", "foreign key", "Foreign key"} {
		if strings.Contains(r.String(), limit) {
			return
		}
	}
	t.Errorf("the server is said to refuse %s", r)
}

var waysOfAlter = []string{
	"algorithm=instant, lock=none", "algorithm=nocopy, lock=none", "algorithm=inplace, lock=none",
	"algorithm=instant, lock=exclusive",
	"algorithm=nocopy, lock=shared", "algorithm=inplace, lock=shared", "algorithm=copy, lock=shared",
	"algorithm=copy, lock=exclusive",
}

// observeMariaDB does the steps of the forecast on the real tables.
func observeMariaDB(t *testing.T, o *office) {
	t.Helper()
	steps := o.forecast()
	db := o.open()
	defer db.Close()
	for _, s := range steps {
		if s.Proof {
			continue
		}
		before := tableID(t, db, s.Table)
		for _, text := range s.SQL {
			for _, sql := range strings.Split(text, ";\n") {
				alterOrDo(t, db, s, sql)
			}
		}
		if strings.Contains(s.SQL[0], ";\n") {
			alterOrDo(t, db, s, "unlock tables")
		}
		after := tableID(t, db, s.Table)
		if before != "" && after != "" && (before != after) != s.Rewrites {
			t.Errorf("%v\nand the table was written anew: %v\n%s", s, before != after, strings.Join(s.SQL, "\n"))
		}
	}
}

// alterOrDo runs a statement. Of an alter no cheaper way than the one it names may be
// accepted.
func alterOrDo(t *testing.T, db *sql.DB, s forecastStep, text string) {
	t.Helper()
	text = strings.NewReplacer("{range}", "1 = 1", " -- noted in ", " -- ").Replace(text)
	way := slices.IndexFunc(waysOfAlter, func(w string) bool { return strings.HasSuffix(text, w) })
	if strings.HasPrefix(text, "alter table ") && way < 0 {
		t.Errorf("%v\nnames no algorithm: %s", s, text)
	}
	for i := range max(way, 0) {
		cheaper := strings.TrimSuffix(text, waysOfAlter[way]) + waysOfAlter[i]
		_, err := db.Exec(cheaper)
		var e *mysql.MySQLError
		if err == nil || errors.As(err, &e) && e.Number != 1845 && e.Number != 1846 {
			t.Errorf("%v\nand the table accepts %s: %v", s, cheaper, err)
			return
		}
	}
	if _, err := db.Exec(text); err != nil {
		t.Fatalf("%v\nand on the table itself: %v\n%s", s, err, text)
	}
}

// tableID changes when a table is written anew. A partitioned table has several.
func tableID(t *testing.T, db *sql.DB, table string) string {
	t.Helper()
	var id sql.NullString
	query := "select group_concat(table_id order by name) from information_schema.innodb_sys_tables where name = " +
		"concat(database(), '/', ?) or name like concat(database(), '/', ?, '#P#%')"
	if err := db.QueryRow(query, table, table).Scan(&id); err != nil {
		t.Fatal(err)
	}
	return fmt.Sprint(id.String)
}
