package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestNoSecretIsShown plants a password in the address of a database and looks for it in
// everything that is said, written and recorded, when all goes well and when it does not.
func TestNoSecretIsShown(t *testing.T) {
	beside(t)
	const secret = "tidewater"
	for name, database := range engines {
		t.Run(name, func(t *testing.T) {
			create := "create table vessel (id integer primary key, name varchar(20))"
			grant := []string{"grant all on schema public to guarded", "grant all on vessel to guarded",
				"alter table vessel owner to guarded"}
			if name == "MariaDB" {
				create += " engine=InnoDB"
				grant = []string{"grant all on *.* to guarded@'127.0.0.1'"}
			}
			o := newOfficeOn(t, database, append([]string{create, "insert into vessel values (1, 'Tern')"}, grant...)...)
			if name == "PostgreSQL" {
				o.exec("do $$ begin execute 'grant all on database ' || current_database() || ' to guarded'; end $$")
			}
			scheme, rest, _ := strings.Cut(o.url, "://")
			_, at, _ := strings.Cut(rest, "@")
			url := func(password, at string) string { return scheme + "://guarded:" + password + "@" + at }
			fresh := *o
			fresh.dir = t.TempDir()
			fresh.env = []string{"LASTBOARD_URL=" + url(secret, at)}
			for _, r := range []result{fresh.run("init"), fresh.run("--help"), fresh.run("advance", "--help"),
				fresh.run("status")} {
				if strings.Contains(r.String(), secret) {
					t.Errorf("the password is shown: %s", r)
				}
			}
			seen := *o
			seen.dir = t.TempDir()
			for i, where := range []string{url(secret, at), url(secret+"%zz", at),
				strings.Replace(url("", at), ":@", "@", 1) + "?password=" + secret} {
				folder := fmt.Sprint("office", i)
				r := seen.code(0, "init", folder, "--url", where)
				if strings.Contains(r.String(), secret) || strings.Contains(seen.read(folder+"/lastboard.toml"), secret) ||
					!strings.Contains(r.stderr, "in the list of processes") {
					t.Errorf("init says %s and writes\n%s", r, seen.read(folder+"/lastboard.toml"))
				}
			}
			if strings.Contains(fresh.read("lastboard.toml"), secret) ||
				!strings.Contains(fresh.read("lastboard.toml"), "guarded@") {
				t.Errorf("init writes\n%s", fresh.read("lastboard.toml"))
			}
			o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '${HARBOUR_URL}'\n")
			all := func(url string) {
				o.env = []string{"HARBOUR_URL=" + url}
				for _, args := range [][]string{
					{"adopt", "--yes"}, {"describe"}, {"describe", "vessel", "--json"}, {"check"},
					{"forecast", "--statements", "--why"}, {"forecast", "--probe"}, {"advance", "--yes"}, {"status"}, {"ledger"},
					{"ledger", "2", "--json"}, {"audit"}, {"kept"},
					{"pace"}, {"pace", "--hold"}, {"follow"}, {"retreat", "--to", "1", "--yes"}, {"advance", "--to", "7"},
					{"describe", "--url", url}, {"describe", "--url", url + "?nonsense=1"}, {"describe", "--url", url + ":"},
					{"init", "--url", url},
				} {
					if r := o.run(args...); strings.Contains(r.stdout+r.stderr, secret) {
						t.Errorf("lastboard %s shows the password: %s", strings.Join(args, " "), r)
					}
				}
				o.env = nil
			}
			o.migration("0002-change", "-- A change\nalter table vessel add flag varchar(9) not null using "+
				"('NO');\nbackfill vessel set name = upper(name);\n")
			all(url(secret, at))
			o.env = []string{"HARBOUR_URL=" + url(secret, at)}
			o.must("advance", "--yes")
			o.env = nil
			host, _, _ := strings.Cut(at, "/")
			for _, wrong := range []string{url(secret+"x", at), url(secret, host+"/nowhere"), url(secret, "127.0.0.1:1/x"),
				url(secret, "127.0.0.1:port/x"), url(secret+"%zz", at), "nonsense://guarded:" + secret + "@" + at} {
				all(wrong)
			}
			for _, table := range []string{"migration", "entry", "step", "runner", "work", "pace", "meta"} {
				if s := o.query("select * from " + o.ledger(table)); strings.Contains(s, secret) {
					t.Errorf("table %s holds the password", table)
				}
			}
			err := filepath.WalkDir(o.dir, func(path string, d os.DirEntry, err error) error {
				if err != nil || d.IsDir() {
					return err
				}
				data, err := os.ReadFile(path)
				if strings.Contains(string(data), secret) {
					t.Errorf("file %s holds the password", path)
				}
				return err
			})
			if err != nil {
				t.Error(err)
			}
		})
	}
}
