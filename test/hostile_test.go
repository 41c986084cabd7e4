package test

import (
	"fmt"
	"strings"
	"testing"
)

// hostile are names that engines allow and programs stumble over: quotes and comments of
// SQL, marks and places of Lastboard's own, what draws on a terminal, what looks like
// another thing.
var hostile = []string{
	`say "aye"`, `it's`, "back`tick", `x"; drop table "plain"; --`, `'; drop table plain; --`, "/* comment", "-- comment",
	`back\slash`, `\`, "two\nlines", "semi;\ncolon", "tab\tbed",
	"{range}", "{algorithm}", "?", "$1", ":from", "%s%d", "${HOME}", "x -- noted in y", "lock tables", "key1", "p",
	"select", "null", "true", "new", "old", "k1", "o1", "v",
	"\x1b[31mred", "line\rback; drop table plain;", "\x07bell",
	"\u202eright to left", "ünï çødé 名前 ⚓", "a\u0301", "CamelCase", " leading", "a.b", "a,b",
	"a(b)", "a=b", "=cmd", "1st", "-", "$$",
	strings.Repeat("long ", 12),
}

// nameOf writes a name for an engine in SQL.
func (o *office) nameOf(name string) string {
	if o.onMariaDB() {
		return "`" + strings.ReplaceAll(name, "`", "``") + "`"
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// TestHostileNames takes tables and columns with such names under care, changes them and
// takes that back: nothing else is touched, and nothing is drawn on the terminal.
func TestHostileNames(t *testing.T) {
	beside(t)
	for turn, engine := range everywhere {
		if !itsTurn(turn, 3) {
			continue
		}
		t.Run(engine, func(t *testing.T) {
			var o *office
			switch engine {
			case "SQLite":
				o = newOffice(t)
			case "PostgreSQL":
				o = newServerOffice(t)
			default:
				o = newOfficeOn(t, mariadb)
			}
			o.exec("create table plain (id integer primary key)", "insert into plain values (1)")
			// Each name is that of a table on one engine, and those of columns on the others.
			n := len(hostile) / 3
			var tables [][3]string
			for i := range n {
				h := [3]string{}
				for j := range h {
					h[j] = strings.TrimSpace(hostile[i+(j+turn)%3*n])
				}
				h[0] = strings.ReplaceAll(h[0], ".", "·") // in a table's name, one stands behind its schema
				o.exec(fmt.Sprintf("create table %s (id integer primary key, %s varchar(40) not null default '0', %s integer, "+
					"check (%s <> 'never'))", o.nameOf(h[0]), o.nameOf(h[1]), o.nameOf(h[2]), o.nameOf(h[1])),
					fmt.Sprintf("insert into %s (id, %s) values (1, 'a'), (2, '{range}')", o.nameOf(h[0]), o.nameOf(h[1])),
					fmt.Sprintf("create index %s on %s (%s)", o.nameOf(fmt.Sprintf("by '%d\"", i)), o.nameOf(h[0]), o.nameOf(h[2])))
				tables = append(tables, h)
			}
			o.must("adopt", "--yes")
			o.wants(o.code(0, "audit"), "matches:")
			start := o.snapshot()
			var b strings.Builder
			b.WriteString("-- Everything at once\n")
			fills := ""
			for i, h := range tables {
				from := b.Len()
				fmt.Fprintf(&b, "alter table %s add column added_%d varchar(60) not null using (%s || '!');\n", quoted(h[0]), i,
					quoted(h[1]))
				fmt.Fprintf(&b, "backfill %s set %s = case when %s = 'a' then 'filled' else %s || ', not {algorithm}' end;\n",
					quoted(h[0]), quoted(h[1]), quoted(h[1]), quoted(h[1]))
				fills += b.String()[from:]
				fmt.Fprintf(&b, "alter table %s alter %s set data type bigint, rename column %s to renamed_%d;\n", quoted(h[0]),
					quoted(h[2]), quoted(h[1]), i)
				fmt.Fprintf(&b, "drop index %s on %s;\nalter table %s drop column %s;\n", quoted(fmt.Sprintf("by '%d\"", i)),
					quoted(h[0]), quoted(h[0]), quoted(h[2]))
			}
			o.migration("0002-change", b.String())
			o.calm(o.run("check"))
			o.calm(o.run("forecast", "--statements", "--rows", "1"))
			if engine == "SQLite" { // its client is mostly too old to drop a constraint
				o.migration("0002-change", "-- Some of it\n"+strings.ReplaceAll(fills, " not null using", " using"))
			}
			if itsTurn(int(*day/3), 2) { // each engine every third day, as a script every sixth
				if r := o.byHand(o.must("forecast", "--script")); r.code != 0 {
					t.Fatalf("the script failed: %s", r)
				}
				o.wants(o.code(0, "audit"), "matches:")
				o.must("retreat", "--to", "1", "--yes")
				o.unchanged(start)
			}
			o.migration("0002-change", b.String())
			o.calm(o.code(0, "advance", "--yes"))
			for i, h := range tables {
				o.same(fmt.Sprintf("select added_%d, renamed_%d from %s order by id", i, i, o.nameOf(h[0])),
					"a!|filled\n{range}!|{range}, not {algorithm}")
			}
			o.calm(o.code(0, "describe"))
			o.calm(o.code(0, "ledger"))
			o.wants(o.code(0, "audit"), "matches:")
			o.calm(o.code(0, "retreat", "--to", "1", "--yes"))
			o.unchanged(start)
			o.same("select count(*) from plain", "1")
			for _, h := range tables {
				o.calm(o.code(0, "describe", "--rows", "2", "--", h[0]))
			}
		})
	}
}

// calm fails where what a command prints could steer a terminal.
func (o *office) calm(r result) {
	o.Helper()
	for _, c := range []string{"\x1b", "\x07", "\u202e"} {
		if strings.Contains(r.stdout+r.stderr, c) {
			o.Errorf("%q is printed as it is: %q", c, r.stdout+r.stderr)
		}
	}
}

// TestColumnsCalledLikeRowNumbers go with a copy of the table: SQLite drops none itself.
func TestColumnsCalledLikeRowNumbers(t *testing.T) {
	o := adopted(t, "create table vessel (id integer primary key, rowid text, oid text, _rowid_ text)",
		"insert into vessel values (7, 'a', 'b', 'c'), (9, 'd', null, 'f')")
	start := o.snapshot()
	o.migration("0002-change", "-- A change\nalter table vessel drop column rowid, add note text using (oid);\n")
	o.must("advance", "--yes")
	o.same("select id, oid, note from vessel", "7|b|b\n9|null|null")
	o.must("retreat", "--to", "1", "--yes")
	o.unchanged(start)
}
