package test

import (
	"strings"
	"testing"
)

// TestTwoProjects is that a database in the care of one project is refused to another, which is
// named, and that a copy of the project goes on with it.
func TestTwoProjects(t *testing.T) {
	o := newOffice(t)
	o.exec("create table vessel (id integer primary key)")
	url := "sqlite:" + o.dir + "/harbour.db"
	first := &office{T: t, dir: t.TempDir(), url: o.url}
	other := &office{T: t, dir: t.TempDir(), url: o.url}
	first.must("init", "--url", url)
	first.must("adopt", "--yes")
	first.migration("0002-name", "-- A name\nalter table vessel add column name text;\n")
	first.must("advance", "--yes")
	id := strings.Split(first.read("lastboard.toml"), `"`)[1]
	other.must("init", "--url", url)
	other.migration("0001-flag", "-- A flag\nalter table vessel add column flag text;\n")
	for _, args := range [][]string{{"status"}, {"forecast"}, {"advance", "--yes"}, {"adopt", "--yes"},
		{"retreat", "--to", "0", "--yes"}, {"kept"}, {"audit", "--clear", "--yes"}} {
		r := other.code(3, args...)
		other.wants(r, "in the care of another project: its ledger is that of "+id, `id = "`+id+`"`)
	}
	o.same("select group_concat(name) from pragma_table_info('vessel')", "id,name")
	// The same project elsewhere, and one from before there were ids.
	other.write("lastboard.toml", first.read("lastboard.toml"))
	other.migration("0001-flag", "-- A flag\nalter table vessel add column flag text;\n")
	if r := other.run("status"); strings.Contains(r.String(), "another project") {
		t.Errorf("the project itself is refused: %s", r)
	}
	first.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+url+"'\n")
	first.must("retreat", "--to", "1", "--yes")
	if r := first.code(0, "status"); strings.Contains(r.String(), "another project") {
		t.Errorf("a project without an id is refused: %s", r)
	}
}

// TestLoginsThatShareARole run the migrations of one database in turn, where runs_as names it;
// without it the second is refused by name.
func TestLoginsThatShareARole(t *testing.T) {
	beside(t)
	for name, database := range engines {
		t.Run(name, func(t *testing.T) {
			beside(t)
			o := newOfficeOn(t, database, "create table vessel (id integer primary key)", "insert into vessel values (1)")
			scheme, rest, _ := strings.Cut(o.url, "://")
			_, at, _ := strings.Cut(rest, "@")
			as := func(user string) string { return scheme + "://" + user + "@" + at }
			if name == "PostgreSQL" {
				for _, role := range []string{"create role harbour_owner", "create role mate_a login in role harbour_owner",
					"create role mate_b login in role harbour_owner"} {
					o.exec("do $$ begin " + role + "; exception when duplicate_object or unique_violation then null; end $$")
				}
				o.exec("alter table vessel owner to harbour_owner", "grant all on schema public to harbour_owner",
					"do $$ begin execute 'grant create on database ' || quote_ident(current_database()) || ' to harbour_owner'; "+
						"end $$")
			} else {
				o.exec("create role if not exists harbour_owner", "grant all on *.* to harbour_owner")
				for _, user := range []string{"mate_a", "mate_b"} {
					o.exec("create user if not exists "+user+"@'127.0.0.1'", "grant harbour_owner to "+user+"@'127.0.0.1'")
				}
			}
			project := func(user, role string) {
				o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+as(user)+"'\nruns_as = '"+role+"'\n")
			}
			project("mate_a", "nosuch")
			o.wants(o.code(1, "status"), "user mate_a may not act as nosuch, which runs_as in lastboard.toml names")
			project("mate_a", "harbour_owner")
			o.must("adopt", "--yes")
			o.migration("0002-name", "-- A name\nalter table vessel add column name varchar(20) not null using ('Tern');\n")
			o.must("advance", "--yes")
			project("mate_b", "harbour_owner")
			o.migration("0003-less", "-- No name\nalter table vessel drop column name;\n")
			o.must("advance", "--yes")
			o.must("retreat", "--to", "2", "--yes")
			o.same("select name from vessel", "Tern")
			if name == "MariaDB" { // the triggers that it has made outlive a login
				o.must("advance", "--yes")
				o.exec("drop user mate_b@'127.0.0.1'", "insert into vessel values (2)", "update vessel set id = 3 where id = 2",
					"delete from vessel where id = 3")
			}
			project("mate_a", "harbour_owner")
			o.must("retreat", "--to", "1", "--yes")
			o.wants(o.code(0, "audit"), "matches:")
			if name == "PostgreSQL" {
				project("mate_b", "")
				o.wants(o.code(3, "advance", "--yes"), "belongs to harbour_owner, and this is mate_b")
			}
		})
	}
	o := newOffice(t)
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = 'sqlite:harbour.db'\nruns_as = 'mate'\n")
	o.wants(o.code(2, "status"), "runs_as, and SQLite knows no roles")
}
