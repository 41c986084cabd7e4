package test

import (
	"strings"
	"testing"
)

// wayBack is a change to a table as old databases have them, which has to go forward and back
// twice, and what is tried afterwards.
type wayBack struct {
	name      string
	engines   []string
	tables    []string
	migration string
	then      []string // statements of an application
	query     string
	want      string
}

var triggers = map[string][]string{
	"SQLite":  {"create trigger noted after insert on theme begin insert into noted values (new.id); end"},
	"MariaDB": {"create trigger noted after insert on theme for each row insert into noted values (new.id)"},
	"PostgreSQL": {"create function noted() returns trigger language plpgsql as 'begin insert into noted values " +
		"(new.id); return new; end'", "create trigger noted after insert on theme for each row execute function noted()"},
}

var waysBack = []wayBack{
	{"a table that numbers its rows by a sequence", []string{"PostgreSQL"},
		[]string{"create table theme (id serial not null primary key, n text)", "insert into theme (n) values ('a'), ('b')"},
		"drop table theme;", []string{"insert into theme (n) values ('c')"}, "select id, n from theme order by id",
		"1|a\n2|b\n3|c"},
	{"a column that numbers by a sequence", []string{"PostgreSQL"},
		[]string{"create table theme (id integer primary key, n serial not null, x text)",
			"insert into theme (id, x) values (1, 'a'), (2, 'b')"},
		"alter table theme drop column n;", []string{"insert into theme (id, x) values (3, 'c')"},
		"select id, n from theme order by id", "1|1\n2|2\n3|3"},
	{"a table with a sequence, under another name", []string{"PostgreSQL"},
		[]string{"create table theme (id serial primary key, x text)", "insert into theme (x) values ('q')"},
		"alter table theme rename to topic;", []string{"insert into theme (x) values ('z')"}, "select max(id) from theme",
		"2"},
	{"a table that takes its numbers from a sequence beside it", []string{"PostgreSQL"},
		[]string{"create sequence numbers", "create table theme (id integer default nextval('numbers') primary key, n text)",
			"insert into theme (n) values ('a')"},
		"drop table theme;\nnative postgres $$drop sequence numbers$$ back $$create sequence numbers start 2$$;",
		[]string{"insert into theme (n) values ('b')"}, "select id, n from theme order by id", "1|a\n2|b"},
	{"a table with a trigger", everywhere,
		[]string{"create table noted (id integer not null primary key)",
			"create table theme (id integer not null primary key, n varchar(20))", "insert into theme values (1, 'a')"},
		"drop table theme;", []string{"insert into theme values (2, 'b')"}, "select id from noted order by id", "2"},
	{"a trigger in its own words", []string{"MariaDB"},
		[]string{"create table theme (id integer not null primary key, n varchar(20))", "insert into theme values (1, 'a')"},
		"native mariadb $$create trigger noted before insert on theme for each row set new.n = 'x'$$ touching theme " +
			"back $$drop trigger noted$$;",
		[]string{"insert into theme values (2, 'b')"}, "select n from theme order by id", "a\nb"},
	{"a trigger in its own words that does not say what it touches", []string{"MariaDB"},
		[]string{"create table theme (id integer not null primary key, n varchar(20))", "insert into theme values (1, 'a')"},
		"native mariadb $$create trigger noted before insert on theme for each row set new.n = 'x'$$ back $$drop " +
			"trigger noted$$;",
		[]string{"insert into theme values (2, 'b')"}, "select n from theme order by id", "a\nb"},
	{"a trigger that goes, and comes back", []string{"MariaDB"},
		[]string{"create table theme (id integer not null primary key, n varchar(20))",
			"create trigger noted before insert on theme for each row set new.n = 'x'"},
		"native mariadb $$drop trigger noted$$ touching theme back $$create trigger noted before insert on theme for " +
			"each row set new.n = 'x'$$;",
		[]string{"insert into theme values (2, 'b')"}, "select n from theme order by id", "x"},
	{"a table and its trigger together", []string{"MariaDB"},
		[]string{"create table other (id integer not null primary key)"},
		"create table theme (id integer primary key, n varchar(20));\nnative mariadb $$create trigger noted before " +
			"insert on theme for each row set new.n = 'x'$$ touching theme back $$drop trigger noted$$;",
		nil, "select count(*) from other", "0"},
	{"a key of a type that an extension brings", []string{"PostgreSQL"},
		[]string{"create extension ltree", "create table theme (k ltree primary key, n text)",
			"insert into theme values ('a.b', 'x'), ('a.c', 'y')"},
		"alter table theme drop column n;", []string{"update theme set k = 'a.d' where k = 'a.b'",
			"delete from theme where k = 'a.c'"}, "select k::text, n from theme", "a.d|x"},
	{"columns that are called as words of a trigger are", everywhere,
		[]string{"create table theme (id integer not null primary key, n varchar(20), d varchar(20), \"row\" integer, " +
			"\"old\" integer)", "insert into theme values (1, 'a', 'x', 1, 1), (2, 'b', 'y', 2, 2)"},
		"alter table theme drop column d;\nalter table theme drop column \"row\";\nalter table theme drop column \"old\";",
		nil, "select id, d from theme order by id", "1|x\n2|y"},
	{"a key that takes its default from a sequence", []string{"MariaDB"},
		[]string{"create sequence numbers", "create table theme (id bigint not null default nextval(numbers) primary " +
			"key, n varchar(20), d varchar(20))", "insert into theme (n, d) values ('a', 'x'), ('b', 'y')"},
		"alter table theme drop column d;\nbackfill theme set n = upper(n);",
		[]string{"insert into theme (n, d) values ('c', 'z')"}, "select id, n, d from theme order by id",
		"1|a|x\n2|b|y\n3|c|z"},
	{"a key for a table without one, beside a wider column of it", []string{"MariaDB", "PostgreSQL"},
		[]string{"create table theme (ip varchar(25) not null, ns varchar(255) not null)",
			"insert into theme values ('10.0.0.1', 'a')"},
		"alter table theme alter column ip set data type varchar(64), add primary key (ip, ns);",
		[]string{"insert into theme values ('10.0.0.1', 'a')"}, "select count(*) from theme", "2"},
}

// TestWaysBackOfOldTables goes forward and back over tables as old databases have them.
func TestWaysBackOfOldTables(t *testing.T) {
	beside(t)
	for i, c := range waysBack {
		for _, name := range ofToday(t, c.engines) {
			t.Run(c.name+" on "+name, func(t *testing.T) {
				tables := c.tables
				if c.name == "a table with a trigger" {
					tables = append(append([]string(nil), tables...), triggers[name]...)
				}
				o := officeOn(t, name, tables)
				before := o.snapshot()
				o.migration("0002-change", "-- A change\n"+c.migration+"\n")
				rounds := 1
				if itsTurn(i, 4) || c.name == waysBack[len(waysBack)-1].name {
					rounds = 2
				}
				for range rounds {
					o.must("check")
					o.must("advance", "--yes")
					o.must("audit")
					o.must("retreat", "--to", "1", "--yes")
					o.unchanged(before)
				}
				o.exec(c.then...)
				o.same(c.query, c.want)
				if c.name == "columns that are called as words of a trigger are" { // it still follows its row
					o.must("advance", "--yes")
					o.exec("delete from theme where id = 1", "insert into theme (id, n) values (1, 'c')")
					o.must("retreat", "--to", "1", "--yes")
					o.same("select id, coalesce(d, 'none') from theme order by id", "1|none\n2|y")
				}
				// What is kept does not keep an application from its rows.
				if c.name == "a key of a type that an extension brings" {
					o.must("advance", "--yes")
					o.exec("update theme set k = 'a.e' where k = 'a.d'", "insert into theme values ('a.d')",
						"delete from theme where k = 'a.d'")
					o.must("retreat", "--to", "1", "--yes")
					o.same("select k::text, n from theme", "a.e|x")
				}
			})
		}
	}
}

// TestNativeWayBackTakesNoRows is that a way back in an engine's own words, which would drop
// rows or values that came since, is refused.
func TestNativeWayBackTakesNoRows(t *testing.T) {
	beside(t)
	onEach(t, berthsOf(2), func(t *testing.T, o *office) {
		word := engineWord(o)
		o.migration("0002-tables", "-- A table, and a column\nnative "+word+
			" $$create table spare (id integer not null primary key)$$ touching spare back $$drop table spare$$;\n"+
			"native "+word+" $$alter table berth add column tag varchar(9)$$ touching berth back $$alter table berth drop "+
			"column tag$$;\n")
		o.must("advance", "--yes")
		o.exec("update berth set tag = 'x' where id = 2")
		before := o.snapshot()
		o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "rows-would-go", "column tag of berth")
		o.unchanged(before)
		o.exec("update berth set tag = null", "insert into spare values (1)")
		before = o.snapshot()
		o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "rows-would-go", "table spare")
		o.unchanged(before)
		o.exec("delete from spare")
		o.must("retreat", "--to", "1", "--yes")
	})
}

// TestTypesComeBackWithWhatWasWritten is that a column whose type changed and whose meaning did not takes
// what was written since along on its way back, and that what its old type cannot hold refuses it.
func TestTypesComeBackWithWhatWasWritten(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table vessel (id integer primary key, berth integer, length numeric(6,1), note " +
		"varchar(20))",
		"insert into vessel values (1, 5, 20.5, 'a'), (2, 7, 31.5, ' b '), (3, null, null, null)"},
		func(t *testing.T, o *office) {
			o.migration("0002-types", "-- Types\nalter table vessel\n  alter column berth set data type varchar(20) using "+
				"(cast(berth as varchar(20))),\n  alter column length set data type integer using (floor(length)),\n  alter "+
				"column note set data type varchar(10) using (trim(note));\n")
			if out := o.must("check"); strings.Contains(out, "retreat-gives-null") {
				t.Errorf("nothing is lost, and yet: %s", out)
			}
			o.must("advance", "--yes")
			o.exec("insert into vessel values (4, '8', 9, 'd')", "update vessel set berth = '6', length = 22 where id = 1")
			o.must("retreat", "--to", "1", "--yes")
			o.same("select count(*) from vessel where id = 1 and berth = 6 and length = 22 and note = 'a' or id = 2 and "+
				"berth = 7 and length = 31.5 and note = ' b ' or id = 3 and berth is null and length is null or id = 4 and "+
				"berth = 8 and length = 9", "4")
			o.must("advance", "--yes")
			o.exec("update vessel set berth = 'the quay' where id = 4")
			o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "berth", "the quay")
			o.exec("update vessel set berth = null where id = 4")
			o.must("retreat", "--to", "1", "--yes")
		})
}

// TestNarrowerTypesAreProvenEachTime is that a value which a narrower type cannot hold is found before anything is
// changed: on the way back, and on the way forward again, where something is kept of other rows.
func TestNarrowerTypesAreProvenEachTime(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table vessel (id integer primary key, n bigint, code varchar(20))",
		"insert into vessel values (1, 2, 'a'), (2, null, null), (3, 7, 'b')"}, func(t *testing.T, o *office) {
		o.migration("0002-narrow", "-- Narrower\nalter table vessel alter n set data type integer using (coalesce(n, 0) + "+
			"1) "+
			"restore using (n - 1), alter code set data type varchar(5);\n")
		o.must("advance", "--yes")
		o.must("retreat", "--to", "1", "--yes")
		for _, wrong := range []string{"n = 5000000000", "code = 'too long'"} {
			o.exec("update vessel set "+wrong+" where id = 1", "insert into vessel values (9, 5, 'c')")
			before := o.snapshot()
			r := o.code(3, "advance", "--yes")
			o.wants(r, strings.Fields(wrong)[0], "cannot hold")
			o.unchanged(before)
			o.exec("update vessel set n = 2, code = 'a' where id = 1", "delete from vessel where id = 9")
		}
		o.must("advance", "--yes")
		o.wants(o.code(0, "audit"), "matches:")
		o.must("retreat", "--to", "1", "--yes")
		o.same("select id, n, code from vessel order by id", "1|2|a\n2|null|null\n3|7|b")
	})
}
