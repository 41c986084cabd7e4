package test

import (
	"strings"
	"testing"
)

// unseen are ways in which rows go, or seem to come, that a trigger on delete does not see,
// with what an application has of rows 1, 2 and 3 once column d is back: each was 'old' and
// its number before.
var unseen = []struct {
	name    string
	engines []string
	do      []string
	want    string
}{
	{"emptied and filled anew", everywhere, []string{"EMPTY",
		"insert into berth (id, owner) values (1, 'bob'), (2, 'bob')"}, "1|bob|null\n2|bob|null"},
	{"replaced", []string{"SQLite", "MariaDB"}, []string{"replace into berth (id, owner) values (1, 'bob')"},
		"1|bob|null\n2|al|old2\n3|al|old3"},
	{"refused as a double", []string{"SQLite"}, []string{"insert or ignore into berth (id, owner) values (1, 'bob')"},
		"1|al|old1\n2|al|old2\n3|al|old3"},
	{"refused as a double", []string{"MariaDB"}, []string{"insert ignore into berth (id, owner) values (1, 'bob')"},
		"1|al|old1\n2|al|old2\n3|al|old3"},
	{"updated as a double", []string{"SQLite", "PostgreSQL"},
		[]string{"insert into berth (id, owner) values (1, 'bob'), (4, 'bob') on conflict (id) do update set owner = 'bo'"},
		"1|bo|old1\n2|al|old2\n3|al|old3\n4|bob|null"},
	{"updated as a double", []string{"MariaDB"}, []string{"insert into berth (id, owner) values (1, 'bob'), (4, " +
		"'bob') on duplicate key update owner = 'bo'"}, "1|bo|old1\n2|al|old2\n3|al|old3\n4|bob|null"},
	{"deleted where triggers are off for a session", []string{"PostgreSQL"},
		[]string{"set session_replication_role = replica; delete from berth where id = 1; insert into berth (id, owner) " +
			"values (1, 'bob'); set session_replication_role = origin"}, "1|bob|null\n2|al|old2\n3|al|old3"},
	{"given up", everywhere, []string{"begin; delete from berth where id = 1; insert into berth (id, owner) values " +
		"(1, 'bob'); rollback"}, "1|al|old1\n2|al|old2\n3|al|old3"},
	{"deleted by a foreign key", everywhere, []string{"delete from pier where id = 1", "insert into pier values (1)",
		"insert into berth (id, owner, pier) values (1, 'bob', 1)"}, "1|bob|null\n2|al|old2\n3|al|old3"},
	{"under another key, and another one under its own", []string{"MariaDB", "PostgreSQL"},
		[]string{"update berth set id = 9 where id = 1", "insert into berth (id, owner) values (1, 'bob')"},
		"1|bob|null\n2|al|old2\n3|al|old3\n9|al|old1"},
	{"under another key, which loses it, and another one under its own", []string{"SQLite"},
		[]string{"update berth set id = 9 where id = 1", "insert into berth (id, owner) values (1, 'bob')"},
		"1|bob|null\n2|al|old2\n3|al|old3\n9|al|null"},
}

func keptRows() []string {
	return []string{
		"create table pier (id integer not null primary key)", "insert into pier values (1), (2)",
		"create table berth (id integer not null primary key, owner varchar(20), d varchar(20), pier integer references " +
			"pier (id) on delete cascade)",
		"insert into berth values (1, 'al', 'old1', 1), (2, 'al', 'old2', 2), (3, 'al', 'old3', null)",
	}
}

// TestKeptStaysWithItsRows is that what is kept of a row comes to no other one that has its
// key since, however the row went.
func TestKeptStaysWithItsRows(t *testing.T) {
	beside(t)
	for _, c := range unseen {
		for _, name := range ofToday(t, c.engines) {
			t.Run(c.name+" on "+name, func(t *testing.T) {
				tables := keptRows()
				if name == "MariaDB" {
					tables[2] = strings.Replace(tables[2], "pier integer references pier (id) on delete cascade",
						"pier integer, foreign key (pier) references pier (id) on delete cascade", 1)
				}
				o := officeOn(t, name, tables)
				o.migration("0002-less", "-- Less\nalter table berth drop column d;\n")
				o.must("advance", "--yes")
				for _, sql := range c.do {
					empty := map[string]string{"SQLite": "delete from berth", "MariaDB": "truncate table berth",
						"PostgreSQL": "truncate berth"}[name]
					o.exec(strings.Replace(sql, "EMPTY", empty, 1))
				}
				o.must("audit")
				o.must("retreat", "--to", "1", "--yes")
				o.same("select id, owner, coalesce(d, 'null') from berth order by id", c.want)
			})
		}
	}
}

// TestKeptIsDoubted is that what lets kept values follow their rows is missed when somebody
// switches it off, for a while or for good, and that nothing is then put back unasked.
func TestKeptIsDoubted(t *testing.T) {
	beside(t)
	onOneOfToday(t, []string{"create table berth (id integer not null primary key, d varchar(20))",
		"insert into berth values (1, 'old1'), (2, 'old2')"}, func(t *testing.T, o *office) {
		var ways [][]string
		for _, suffix := range map[string][]string{"sqlite": {"follow", "follow_key", "came"}}[engineWord(o)] {
			ways = append(ways, []string{"drop trigger lastboard_kept_N_" + suffix})
		}
		for _, suffix := range []string{"gone", "moved", "came"} {
			switch engineWord(o) {
			case "mariadb":
				ways = append(ways, []string{"drop trigger lastboard_kept_N_" + suffix})
			case "postgres":
				ways = append(ways, []string{"drop trigger lastboard_kept_N_" + suffix + " on berth"},
					[]string{"alter table berth disable trigger lastboard_kept_N_" + suffix})
			}
		}
		if engineWord(o) == "postgres" {
			ways = append(ways, []string{"alter table berth disable trigger all", "delete from berth where id = 1",
				"insert into berth values (1)", "alter table berth enable trigger all"})
		}
		var all []string
		for _, way := range ways {
			if strings.HasPrefix(way[0], "drop trigger ") {
				all = append(all, way...)
			}
		}
		ways = append(ways, all)
		o.migration("0002-less", "-- Less\nalter table berth drop column d;\n")
		for i, way := range ways {
			o.must("advance", "--yes")
			kept := strings.TrimPrefix(o.query("select kept_table from "+o.ledger("kept")), "string:")
			for _, sql := range way {
				o.exec(strings.Replace(sql, "lastboard_kept_N", kept, 1))
			}
			if i == 0 {
				o.wants(o.code(5, "audit"), kept+"_", "trust-kept")
			}
			before := o.snapshot()
			o.wants(o.code(3, "retreat", "--to", "1", "--yes"), "kept-doubtful", kept+"_", "lastboard kept 0002 --discard")
			o.unchanged(before)
			if i > 0 || len(way) > 1 {
				o.must("retreat", "--to", "1", "--yes", "--trust-kept")
				continue
			}
			o.must("kept", "0002", "--discard", "--yes")
			o.must("retreat", "--to", "1", "--yes")
			o.same("select count(*) from berth where d is null", "2")
			o.exec("update berth set d = 'old'")
		}
	})
}

// TestRowsOfOthersUnderInsertedKeys is that the way back of an insert takes the rows that it
// brought, under whatever key they have now, and none that an application has made since.
func TestRowsOfOthersUnderInsertedKeys(t *testing.T) {
	beside(t)
	onEach(t, []string{"create table berth (id integer not null primary key, d varchar(20))"},
		func(t *testing.T, o *office) {
			o.migration("0002-more", "-- More\ninsert into berth (id, d) values (1, 'ours'), (2, 'ours'), (3, 'ours');\n")
			o.must("advance", "--yes")
			o.exec("delete from berth where id = 1", "insert into berth values (1, 'theirs'), (4, 'theirs')",
				"update berth set id = 7 where id = 2")
			o.must("audit")
			o.must("retreat", "--to", "1", "--yes")
			o.same("select id, d from berth order by id", "1|theirs\n4|theirs")
			o.exec("delete from berth where id = 1")
			o.must("advance", "--yes")
			o.same("select id, d from berth order by id", "3|ours\n4|theirs\n7|ours")
		})
}
