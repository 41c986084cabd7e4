package test

import (
	"fmt"
	"strings"
	"testing"
)

// TestEachRowIsDoneOnce is that a backfill which reads what it writes does each row exactly
// once, known by itself and not by its key, and leaves rows alone that came after it began;
// and that the way back gives each its own value again.
func TestEachRowIsDoneOnce(t *testing.T) {
	beside(t)
	for name, make := range wides {
		for _, discard := range []string{"", " discard"} {
			t.Run(name+discard, func(t *testing.T) {
				o := make(t)
				if name == "SQLite" {
					o.write("lastboard.toml", liveFile)
				}
				o.exec("update vessel set berth_id = id")
				o.migration("0002-double", "-- Twice as many\nbackfill vessel set berth_id = berth_id * 2"+discard+";\n")
				p := o.pausedAt("batch-committed:3", "advance", "--yes")
				if p == nil {
					t.Fatal("it has no third batch")
				}
				o.exec(
					"update vessel set id = id + 100000 where id between 1 and 10",       // done, moved ahead
					"update vessel set id = -id where id between 2991 and 3000",          // not done, moved behind
					"update vessel set id = -id - 100000 where id between 2981 and 2985", // not done, moved behind, and again
					"update vessel set id = id - 100000 where id between -103000 and -102981",
					"delete from vessel where id in (11, 2980)",
					"insert into vessel (id, name, berth_id) values (11, 'new', 7), (2980, 'new', 7), (2999, 'new', 7), (5, "+
						"'new', 7), (200000, 'new', 7)",
				)
				if r := p.goOn(); r.code != 0 {
					t.Fatal(r)
				}
				const wrong = "select count(*) from vessel where name <> 'new' and berth_id <> 2 * cast(substr(name, 8) as " +
					"%s) or name = 'new' and berth_id <> 7"
				number := map[string]string{"SQLite": "integer", "PostgreSQL": "integer", "MariaDB": "signed"}[name]
				o.same(fmt.Sprintf(wrong, number), "0")
				o.wants(o.code(0, "audit"), "matches:")
				if discard != "" {
					return
				}
				p = o.pausedAt("batch-committed:3", "retreat", "--to", "1", "--yes")
				if p == nil {
					t.Fatal("its way back has no third batch")
				}
				o.exec(
					"update vessel set id = id + 300000 where id between 20 and 30",
					"update vessel set id = -id - 300000 where id between 2900 and 2910",
					"update vessel set berth_id = 5 where id = 2800",
				)
				if r := p.goOn(); r.code != 0 {
					t.Fatal(r)
				}
				o.same("select count(*) from vessel where berth_id = 5 and name = 'vessel 2800'", "1")
				o.exec("update vessel set berth_id = 2800 where id = 2800")
				o.same(fmt.Sprintf("select count(*) from vessel where name <> 'new' and berth_id <> cast(substr(name, 8) as "+
					"%s) or name = 'new' and berth_id <> 7", number), "0")
				o.wants(o.code(0, "audit"), "matches:")
			})
		}
	}
}

// liveFile is the project of a file that applications use.
const liveFile = "database = 'dev'\n[databases.dev]\nurl = 'sqlite:harbour.db'\nlive = " +
	"true\n[databases.dev.pace]\nlock_wait = '1ns'\nbatch_time = '1ms'\n"

// TestKeptFollowsARenamedKey is that what is kept goes on following its rows once a column
// of their key has another name, and that no write of an application fails for it.
func TestKeptFollowsARenamedKey(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table berth (id integer primary key, code varchar(20))",
		"insert into berth values (1, 'a'), (2, 'b'), (3, 'c')"}, func(t *testing.T, o *office) {
		o.migration("0002-code", "-- Codes\nbackfill berth set code = code || '!';\n")
		o.migration("0003-number", "-- A number\nalter table berth rename column id to number, drop column code;\n")
		o.must("advance", "--yes", "--settle")
		o.exec("update berth set number = 20 where number = 2", "delete from berth where number = 3",
			"insert into berth (number) values (3)")
		o.must("retreat", "--to", "1", "--yes", "--settle")
		moved := "b"
		if o.url == "" { // values of a dropped column cannot be searched there: a moved row's are let go of
			moved = "null"
		}
		o.same("select id, code from berth order by id", "1|a\n3|null\n20|"+moved)
		o.wants(o.code(0, "audit"), "matches:")
	})
}

// TestKeysThatMoveUnseen is that a backfill is refused beside applications where rows could
// get another key without anybody's noticing.
func TestKeysThatMoveUnseen(t *testing.T) {
	o := newOfficeOn(t, mariadb, "create table berth (id integer primary key) engine=InnoDB",
		"create table stay (berth_id integer primary key, n integer, note varchar(20), foreign key (berth_id) "+
			"references berth (id) on update cascade) engine=InnoDB",
		"insert into berth select seq from seq_1_to_3000", "insert into stay select seq, seq, 'a' from seq_1_to_3000")
	o.must("adopt", "--yes")
	config := "database = 'dev'\n[databases.dev]\nurl = '" + o.url +
		"'\nlive = %s\n[databases.dev.pace]\nlock_wait = '100us'\n"
	o.write("lastboard.toml", strings.Replace(config, "%s", "true", 1))
	o.migration("0002-double", "-- Twice as many\nbackfill stay set n = n * 2;\n")
	o.wants(o.code(3, "advance", "--yes"), "which no trigger sees")
	o.migration("0002-double", "-- A note\nbackfill stay set note = 'b';\n")
	o.must("advance", "--yes")
	o.must("retreat", "--to", "1", "--yes")
	o.write("lastboard.toml", strings.Replace(config, "%s", "false", 1))
	o.migration("0002-double", "-- Twice as many\nbackfill stay set n = n * 2;\n")
	o.must("advance", "--yes")
	o.same("select sum(n) from stay", "9003000")
}
