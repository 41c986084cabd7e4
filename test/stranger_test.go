package test

import (
	"strings"
	"testing"
)

// TestStrangersFunctionsDoNotRun lets somebody who may make functions in the schema of the tables
// make one that is preferred to the server's own: before any command, and in the middle of a run, for
// a filling, for a look at the catalog and as an operator. None of it is ever run by Lastboard, which
// names it, goes on once it is gone, and leaves alone what bears no name of the server's.
func TestStrangersFunctionsDoNotRun(t *testing.T) {
	o := officeOn(t, "PostgreSQL", []string{
		"create table vessel (id integer primary key, name varchar(60) not null, flag varchar(20))",
		"insert into vessel select g, 'vessel ' || g, 'no' from generate_series(1, 15000) g",
		"create table taken (who text)", "grant insert on taken to public",
		aRole("stranger_of_all login"), "grant create, usage on schema public to public"})
	stranger := &office{T: t, dir: o.dir, url: strings.Replace(o.url, "://postgres@", "://stranger_of_all@", 1)}
	body := " language plpgsql as $$ begin insert into public.taken values (current_user); return null; end $$"
	plants := []struct {
		what, drop string
		make       []string
	}{
		{"function upper(character varying)", "drop function upper(varchar)",
			[]string{"create function upper(varchar) returns text" + body}},
		{"function quote_ident(name)", "drop function quote_ident(name)",
			[]string{"create function quote_ident(name) returns text" + body}},
		{"operator ||(character varying,character varying)", "drop function joined(varchar, varchar) cascade",
			[]string{"create function joined(varchar, varchar) returns text" + body,
				"create operator || (leftarg = varchar, rightarg = varchar, function = joined)"}},
	}
	stranger.exec("create function lettered(varchar) returns text"+body,
		"create function lettered(name) returns text"+body)
	o.paced("batch_time = '2ms'\n")
	o.wants(o.code(0, "ready"), "everybody may make functions and operators in schema public",
		`revoke create on schema "public" from public`)
	o.migration("0002-letters", "-- Letters\nbackfill vessel set flag = upper(flag || name);\n")
	for i, p := range plants {
		stranger.exec(p.make...)
		for _, args := range [][]string{{"ready"}, {"describe"}, {"check"}, {"audit"}, {"advance", "--yes"}} {
			if r := o.run(args...); r.code == 0 || !strings.Contains(r.stdout+r.stderr, p.what+" belongs to stranger_of_all") {
				t.Errorf("%v beside %s: %s", args, p.what, r)
			}
		}
		stranger.exec(p.drop)
		run := o.pausedAt("batch-committed:2", "advance", "--yes")
		if run == nil {
			t.Fatalf("%d: there was no second batch to stop at", i)
		}
		stranger.exec(p.make...)
		if r := run.goOn(); r.code == 0 || !strings.Contains(r.stderr, p.what+" belongs to stranger_of_all") {
			t.Errorf("in the middle, beside %s: %s", p.what, r)
		}
		stranger.exec(p.drop)
	}
	o.must("advance", "--yes")
	o.same("select count(*) from vessel where flag = 'NO' || upper(name)", "15000")
	o.same("select count(*) from taken", "0")
	o.exec("revoke create on schema public from public")
	if r := o.code(0, "ready"); strings.Contains(r.stdout, "may make functions") {
		t.Errorf("nobody else may make anything any longer: %s", r)
	}
	o.wants(o.code(0, "audit"), "matches:")
}
