package test

import (
	"fmt"
	"strings"
	"testing"
)

// hostileParts are what names of objects are made of, in turn; the last are as long as engines
// allow, and end within a letter of two bytes where they are cut at 63.
var hostileParts = []string{
	`"; drop table plain; --`, `'; drop table plain; --`, "`; drop table plain; --", "semi;--", "%s%d%n", "{range}",
	"a, b", "two\nlines", "\u202eleft", "clear\x1b[2J", `$$; drop table plain; $$`, `\'; drop table plain; --`,
	strings.Repeat("é", 30) + "e", strings.Repeat("é", 31),
}

// TestHostileObjects gives such names to everything that has one: tables, columns, constraints,
// indexes, triggers and their functions, views, sequences, values and types of enums, collations
// and roles. Taking them under care, changing the table by a copy, and taking that back touch
// nothing else, and draw nothing on the terminal.
func TestHostileObjects(t *testing.T) {
	beside(t)
	for _, engine := range everywhere {
		t.Run(engine, func(t *testing.T) {
			first := []string{"create table plain (id integer primary key)", "insert into plain values (1)"}
			var o *office
			switch engine {
			case "SQLite":
				o = newOffice(t, first...)
			case "PostgreSQL":
				o = newServerOffice(t, first...)
			default:
				o = newOfficeOn(t, mariadb, first...)
			}
			called := func(h, suffix string) string { // as the server cuts it
				if n := h + suffix; engine == "PostgreSQL" && len(n) > 63 {
					return strings.ToValidUTF8(n[:63], "")
				}
				return h + suffix
			}
			named := func(h, suffix string) string { return o.nameOf(called(h, suffix)) }
			value := func(h string) string { return "'" + strings.ReplaceAll(h, "'", "''") + "'" }
			if engine == "MariaDB" {
				value = func(h string) string { return "'" + strings.NewReplacer("'", "''", `\`, `\\`).Replace(h) + "'" }
			}
			var tables, parts []string
			for i, h := range hostileParts {
				if !itsTurn(i, 6) {
					continue
				}
				table := called(h, fmt.Sprint(i))
				tables, parts = append(tables, table), append(parts, h)
				name := func(suffix string) string { return named(h, suffix) }
				kind, number := "varchar(99)", "integer"
				var more, after []string
				switch engine {
				case "PostgreSQL":
					role := h
					if len(role) > 50 {
						role = h[:50]
					}
					o.exec("create type "+name("t")+" as enum ("+value(h)+", 'b')", "create collation "+name("c")+" from \"C\"",
						"create sequence "+name("s"), "create role "+o.nameOf(role+t.Name()[:4]+fmt.Sprint(i)))
					kind, number = name("t"), "integer default nextval("+value(name("s"))+"::regclass)"
					more = []string{", spoken text collate " + name("c")}
					after = []string{"create function " + name("f") +
						"() returns trigger language plpgsql as $x$ begin return new; end $x$",
						"create trigger " + name("g") + " before update on " + o.nameOf(table) + " for each row execute function " +
							name("f") + "()",
						"grant select on " + o.nameOf(table) + " to " + o.nameOf(role+t.Name()[:4]+fmt.Sprint(i)),
						"comment on constraint " + name("k") + " on " + o.nameOf(table) + " is " + value(h)}
				case "MariaDB":
					o.exec("create sequence " + name("s"))
					kind = "enum (" + value(h) + ", 'b')"
					after = []string{"create trigger " + name("g") + " before update on " + o.nameOf(table) +
						" for each row set new.n = new.n"}
				case "SQLite":
					after = []string{"create trigger " + name("g") + " after update on " + o.nameOf(table) + " begin select " +
						value(h) + "; end"}
				}
				o.exec(append([]string{
					"create table " + o.nameOf(table) + " (id integer primary key, " + name("e") + " " + kind + ", n " + number +
						", parent integer, dropped varchar(20)" + strings.Join(more, "") +
						", constraint " + name("k") + " check (n > 0), constraint " + name("u") + " unique (n), constraint " + name("p") +
						" foreign key (parent) references " + o.nameOf(table) + " (id))",
					"insert into " + o.nameOf(table) + " (id, " + name("e") + ", n, dropped) values (1, " + value(h) +
						", 1, 'x'), (2, 'b', 2, null)",
					"create index " + name("i") + " on " + o.nameOf(table) + " (dropped)",
					"create view " + name("v") + " as select id, " + name("e") + " from " + o.nameOf(table),
				}, after...)...)
			}
			o.calm(o.code(0, "adopt", "--yes"))
			o.calm(o.run("describe"))
			o.wants(o.code(0, "audit"), "matches:")
			start := o.snapshot()
			var b strings.Builder
			b.WriteString("-- Everything at once\n")
			for i, table := range tables {
				fmt.Fprintf(&b, "drop index %s on %s;\nalter table %s drop column dropped, add column added integer not null "+
					"default 7;\nbackfill %s set n = n + 10;\n", quoted(called(parts[i], "i")), quoted(table), quoted(table),
					quoted(table))
				if engine == "SQLite" {
					fmt.Fprintf(&b, "alter table %s rebuild;\n", quoted(table))
				}
			}
			o.migration("0002-change", b.String())
			o.calm(o.run("check"))
			o.calm(o.run("forecast", "--statements"))
			o.calm(o.code(0, "advance", "--yes", "--settle", "--let-writers-wait"))
			o.wants(o.code(0, "audit"), "matches:")
			for i, table := range tables {
				o.same("select added, n from "+o.nameOf(table)+" order by id", "7|11\n7|12")
				o.calm(o.code(0, "describe", "--rows", "2", "--", table))
				o.same("select count(*) from "+named(parts[i], "v"), "2")
			}
			o.calm(o.code(0, "retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait"))
			o.unchanged(start)
			o.same("select count(*) from plain", "1")
			o.wants(o.code(0, "audit"), "matches:")
		})
	}
}

// TestNamesThatOnlyLookLikeOurs is that tables and schemas whose names begin as those of Lastboard's own, and end
// as them, stay as they are.
func TestNamesThatOnlyLookLikeOurs(t *testing.T) {
	beside(t)
	o := officeOn(t, "PostgreSQL", []string{"create table vessel (id integer primary key, n integer)",
		"insert into vessel values (1, 1)", "create table lastboard_csv_x_1 as select 1 as a",
		"create schema lastboard_kept_x_1", "create table lastboard_kept_x_1.t as select 1 as a"})
	o.migration("0002-more", "-- More\nbackfill vessel set n = n + 1;\n")
	o.must("advance", "--yes", "--settle")
	if said := o.must("audit"); strings.Contains(said, "_x_1") {
		t.Errorf("audit: %s", said)
	}
	o.must("retreat", "--to", "1", "--yes", "--settle")
	o.must("kept", "--discard", "0002", "--yes")
	o.same("select a from lastboard_csv_x_1 union all select a from lastboard_kept_x_1.t", "1\n1")
}
