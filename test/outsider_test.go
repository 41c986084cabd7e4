package test

import (
	"fmt"
	"strings"
	"testing"
)

// TestOutsidersReachNothing stops a run at places of its way, and lets somebody who may do
// everything with the tables but change them, and make tables and schemas of their own, try to read,
// write, change, drop and call each thing that Lastboard has made: all of it is refused, and what the
// applications write goes on.
func TestOutsidersReachNothing(t *testing.T) {
	beside(t)
	for name, list := range map[string]string{
		"PostgreSQL": `select 'table' as kind, quote_ident(n.nspname) || '.' || quote_ident(c.relname) as name from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.relkind in ('r', 'v', 'S') and (n.nspname like 'lastboard%' or c.relname like 'lastboard%')
			union all select 'routine', p.oid::regprocedure::text from pg_proc p join pg_namespace n on n.oid = p.pronamespace where n.nspname like 'lastboard%' or p.proname like 'lastboard%'
			union all select 'schema', quote_ident(nspname) from pg_namespace where nspname like 'lastboard%'
			union all select 'trigger', quote_ident(tgname) || ' on vessel' from pg_trigger where tgrelid = 'vessel'::regclass and tgname like 'lastboard%'`,
		"MariaDB": "select 'table', concat(table_schema, '.', table_name) from information_schema.tables where " +
			"table_schema like 'lastboard%' and table_schema like concat('%', database()) or table_schema = database() and " +
			"table_name like 'lastboard%'" +
			" union all select 'schema', schema_name from information_schema.schemata where schema_name = " +
			"concat('lastboard_', database()) union all select 'trigger', trigger_name from information_schema.triggers " +
			"where trigger_schema = database() and trigger_name like 'lastboard%'",
	} {
		t.Run(name, func(t *testing.T) {
			var rows []string
			for i := range 600 {
				rows = append(rows, fmt.Sprintf("(%d, 'vessel %d', 'NO', %d)", i+1, i+1, i))
			}
			statements := []string{"create table vessel (id integer primary key, name varchar(60) not null, flag " +
				"varchar(20), n integer)", "insert into vessel values " + strings.Join(rows, ", ")}
			if name == "PostgreSQL" {
				statements = append(statements, "analyze")
			}
			o := officeOn(t, name, statements)
			o.paced("lock_wait = '1us'\nbatch_time = '2ms'\n")
			o.migration("0002-change", "-- A change\nbackfill vessel set n = n * 2;\nalter table vessel add column tag "+
				"varchar(80) not null using (name || '!');\nalter table vessel drop column flag;\ndelete from vessel where n "+
				"> 1000;\n")
			var out *office
			tries := map[string][]string{"table": {"select * from %s", "insert into %s select * from %[1]s", "delete from %s",
				"drop table %s", "alter table %s add column mine integer",
				"create trigger mine after insert on %s for each row BODY"},
				"schema": {"create table %s.mine (id integer)", "drop schema %s"}}
			if name == "PostgreSQL" {
				o.exec(aRole("outsider_of_all login"),
					"grant all on schema public to outsider_of_all",
					"grant select, insert, update, delete, truncate, references on vessel to outsider_of_all",
					"do $$ begin execute 'grant all on database ' || current_database() || ' to outsider_of_all'; end $$")
				out = &office{T: t, dir: o.dir, url: strings.Replace(o.url, "://postgres@", "://outsider_of_all@", 1)}
				tries["routine"] = []string{"drop routine %s", "alter routine %s owner to outsider_of_all",
					"alter routine %s rename to mine"}
				tries["trigger"] = []string{"drop trigger %s"}
				tries["schema"] = append(tries["schema"], "create function %s.mine() returns integer language sql as 'select 1'",
					"alter schema %s rename to mine", "alter schema %s owner to outsider_of_all")
			} else {
				out = o.as("outsider", "select, insert, update, delete, references on "+o.name()+".vessel",
					"create on "+o.name()+".mine")
				tries["trigger"] = []string{"drop trigger `%s`"}
			}
			tried := 0
			looks := func() {
				t.Helper()
				db, all := out.open(), o.open()
				defer db.Close()
				defer all.Close()
				found, err := all.Query(list)
				if err != nil {
					t.Fatal(err)
				}
				defer found.Close()
				for found.Next() {
					var kind, object string
					if err := found.Scan(&kind, &object); err != nil {
						t.Fatal(err)
					}
					for _, try := range tries[kind] {
						sql := strings.Replace(fmt.Sprintf(try, object), "BODY",
							map[string]string{"PostgreSQL": "execute function pg_catalog.suppress_redundant_updates_trigger()",
								"MariaDB": "set @a = 1"}[name], 1)
						_, err := db.Exec(sql)
						tried++
						if err == nil || !strings.Contains(err.Error(), "denied") && !strings.Contains(err.Error(), "must be owner") {
							t.Errorf("%s: wanted to be denied, got %v", sql, err)
						}
					}
				}
				if _, err := db.Exec("update vessel set name = 'written' where id = 7"); err != nil {
					t.Errorf("what an application may write is refused: %v", err)
				}
			}
			stops := 0
			for _, args := range [][]string{{"advance", "--yes", "--settle", "--let-writers-wait"},
				{"retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait"}} {
				for n := 1; n < 60; n += 19 {
					p := o.pausedAt(fmt.Sprint("after-commit:", n), args...)
					if p == nil {
						break
					}
					looks()
					p.cmd.Process.Kill()
					<-p.ended
					stops++
				}
				o.must(args...)
				looks()
			}
			if tried < 100 || stops < 2 {
				t.Errorf("only %d things were tried, at %d stops", tried, stops)
			}
			o.same("select count(*), sum(n) from vessel", "600|179700")
			o.wants(o.code(0, "audit"), "matches:")
		})
	}
}
