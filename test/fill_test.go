package test

import (
	"maps"
	"slices"
	"strings"
	"testing"
)

// TestFilledAsOfItsEnd is that a column which is filled beside applications ends as if every
// row had been computed in one instant when the fill was done: whatever they do to rows, to
// what is read of them and to their keys, before or behind the fill.
func TestFilledAsOfItsEnd(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, slices.Sorted(maps.Keys(wides))) {
		make := wides[name]
		for what, change := range map[string]string{
			"nullable": "add column tag varchar(80) using (name || '!')",
			"not null": "add column tag varchar(80) not null using (name || '!')",
		} {
			t.Run(name+" "+what, func(t *testing.T) {
				o := make(t)
				if name == "SQLite" {
					o.write("lastboard.toml", liveFile)
				}
				o.migration("0002-tag", "-- A tag\nalter table vessel "+change+";\n")
				p := o.pausedAt("batch-committed:2", "advance", "--yes", "--let-writers-wait")
				if p == nil {
					t.Fatal("it has no second batch")
				}
				o.exec(inMode(o,
					"update vessel set name = 'renamed ' || id where id between 1 and 10",
					"update vessel set name = 'renamed ' || id where id between 2900 and 2910",
					"update vessel set id = id + 100000 where id between 11 and 20",
					"update vessel set id = -id where id between 2991 and 3000",
					"update vessel set id = -id - 5000, name = 'both' where id between 2981 and 2985",
					"delete from vessel where id in (21, 2980)",
					"insert into vessel (id, name) values (21, 'again'), (2980, 'again'), (200000, 'new'), (-1, 'first')",
					"update vessel set flag = 'XX' where id between 100 and 2000",
				)...)
				if r := p.goOn(); r.code != 0 {
					t.Fatal(r)
				}
				o.same(inMode(o, "select count(*) from vessel where tag is null or tag <> name || '!'")[0], "0")
				o.wants(o.code(0, "audit"), "matches:")
				o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
				o.wants(o.code(0, "audit"), "matches:")
			})
		}
	}
}

// inMode writes statements of the other engines for MariaDB, where two bars mean another
// thing.
func inMode(o *office, statements ...string) []string {
	if o.onMariaDB() {
		for i, s := range statements {
			statements[i] = strings.NewReplacer("'renamed ' || id", "concat('renamed ', id)", "name || '!'",
				"concat(name, '!')").Replace(s)
		}
	}
	return statements
}

// TestNullsThatComeBehindAFill is that a run goes on to its end where programs write nulls into rows that it has filled
// already, before the column takes none.
func TestNullsThatComeBehindAFill(t *testing.T) {
	beside(t)
	onEach(t, append(berthsOf(1200), "update berth set depth = null where id % 3 = 0"), func(t *testing.T, o *office) {
		stoppedAt(o, "-- Depths\nalter table berth alter depth set not null using (7);\n")
		o.exec("update berth set depth = null where id <= 6")
		o.must("advance", "--yes", "--let-writers-wait")
		o.same("select count(*) from berth where depth is null", "0")
		o.same("select count(*) from berth where depth = 7 and id <= 6", "6")
		o.must("audit")
	})
}
