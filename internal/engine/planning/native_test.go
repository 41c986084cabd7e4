package planning_test

import (
	"testing"

	"lastboard/internal/engine/planning"
)

// TestUntried is that no statement is tried that could reach beyond an empty copy.
func TestUntried(t *testing.T) {
	n := planning.Native{
		Creates: []string{"table", "index", "view", "function", "procedure", "trigger", "type"},
		Alters:  []string{"table", "column", "trigger"}, Drops: []string{"table", "view", "trigger"},
		Never: []string{"connection", "soname", "concurrently"},
		There: func(name string) bool { return name == "vessel" },
		Place: func(q string) bool { return q == "public" },
	}
	for _, sql := range []string{
		"create table pier (id integer primary key, name text default 'a.b' check (id > 0))",
		"create table public.pier (id integer)",
		"create unique index by_name on vessel (name)",
		"create or replace view v as select x.name from far.away x",
		"create trigger seen after insert on vessel for each row insert into other.log values (new.id)",
		"create definer = root@localhost trigger seen before update on vessel for each row set new.a = 1",
		"create function f(a int) returns int language plpgsql as $$ begin perform setval('s', 1); return 1; end $$",
		"create procedure p() begin insert into far.away values (1); end",
		"create type mood as enum ('calm', 'rough')",
		"alter table vessel add column a integer", "alter table public.vessel add check (id > 0)",
		"comment on table vessel is 'a'", "comment on column vessel.name is 'a'", "drop trigger seen on vessel",
		"drop table vessel",
	} {
		if why := n.Untried(sql); why != "" {
			t.Errorf("not tried, since %s: %s", why, sql)
		}
	}
	for _, sql := range []string{
		"select setval('berth_id_seq', 1000)", "insert into harbour.log values (1)", "call p()",
		"do $$ begin perform setval('s', 1); end $$",
		"create table other.x (id integer)", "alter table other.x add y integer", "alter table berth add y integer",
		"drop table berth",
		"create table x as select setval('s', 1)", "create table x (id integer) connection='mysql://x'",
		"create event trigger t on ddl_command_end execute function f()",
		"create database x", "create role x", "create server s", "grant all on vessel to public",
		"set global general_log = 1", "truncate vessel", "copy vessel to program 'x'",
		"create function f returns string soname 'x.so'", "create function f() returns int as 'x.so' language c",
		"create function other.f() returns int language sql as 'select 1'",
		"alter table vessel add a integer default f()", "alter table vessel alter a type integer using f(a)",
		"alter table vessel rename to other.x",
		"create /*! table other.x (id int) */ table x (id int)", "create table x (id integer) --1",
		"alter table vessel comment 'it\\'s', rename x",
		"create index concurrently i on vessel (name)", "create trigger seen after insert on berth for each row set @a = 1",
		"drop trigger seen", "create user x", "create event e on schedule every 1 second do set @a = 1",
	} {
		if n.Untried(sql) == "" {
			t.Errorf("this would be tried: %s", sql)
		}
	}
}
