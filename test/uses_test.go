package test

import (
	"testing"
)

// TestWhoStillUses is that settle --check tells which programs of before are still there, by what is
// counted, by what sessions ask and by views, with the exit code that says so; and that nothing of it
// is left behind.
func TestWhoStillUses(t *testing.T) {
	beside(t)
	for _, server := range everywhere {
		t.Run(server, func(t *testing.T) {
			o := droppingOffice(t, server, 20)
			o.migration("0003-names", "-- A vessel has a title and a class\nalter table vessel rename column name to title;\n")
			o.migration("0004-class", "-- And a class\nalter table vessel add column class varchar(60) not null using "+
				"('class ' || id);\n")
			o.wants(o.code(0, "settle", "--check"), "no overlap is open")
			o.wants(o.code(2, "settle", "--check", "9"), "version-unknown")
			if server == "SQLite" { // which keeps no column under two names, and supplies none
				o.must("advance", "--yes", "--to", "2")
			} else {
				o.must("advance", "--yes")
			}
			counts := server == "PostgreSQL"
			before := o.snapshot()
			r := o.code(0, "settle", "--check")
			o.wants(r, "column flag of vessel", "table old_berth", "cannot tell", "no program of before was seen")
			if counts {
				o.wants(r, "not seen", "inserts into vessel without class", "column title of vessel, the new name")
				o.exec("insert into vessel (id, title, flag, class) values (100, 'new', null, 'c')",
					"update vessel set title = 'newer' where id = 100", "update vessel set class = 'd' where id = 100",
					"update vessel set id = 101 where id = 100", "delete from vessel where id = 101")
				o.wants(o.code(0, "settle", "--check"), "not seen") // programs of after alone
				o.exec("insert into vessel (id, name, class) values (100, 'of before', 'c')", "delete from vessel where id = 100")
				r = o.code(5, "settle", "--check")
				o.wants(r, "1 time, last 20", "programs of before are still there")
				o.exec("update vessel set name = 'renamed' where id = 1", "update vessel set name = 'vessel 1' where id = 1",
					"update vessel set flag = 'SE' where id = 1", "update vessel set flag = 'NO' where id = 1",
					"insert into vessel (id, title) values (100, 'no class')", "delete from vessel where id = 100")
				o.wants(o.code(5, "settle", "--check"), "3 times, last", "2 times, last", "1 time, last")
			}
			o.unchanged(before)
			o.exec("create view flags as select id, flag from vessel")
			o.wants(o.code(5, "settle", "--check"), "by view flags", "used")
			o.exec("drop view flags")
			o.must("audit")
			r = o.code(0, "settle", "2", "--yes")
			o.wants(r, "column flag of vessel", "0002 is settled")
			o.must("settle", "--yes")
			o.must("audit")
			if counts {
				o.same("select count(*) from pg_class where relkind = 'S' and relname like '%seen%'", "0")
				o.same("select count(*) from pg_proc where proname like '%seen%' and pronamespace = 'lastboard'::regnamespace", "0")
				o.same("select count(*) from pg_trigger where tgname like '%seen%'", "0")
			}
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.must("audit")
			if counts {
				o.must("advance", "--yes")
				o.must("retreat", "--to", "1", "--yes", "--settle")
				o.same("select count(*) from pg_class where relkind = 'S' and relname like '%seen%'", "0")
				o.same("select count(*) from pg_proc where proname like '%seen%' and pronamespace = 'lastboard'::regnamespace", "0")
			}
		})
	}
}
