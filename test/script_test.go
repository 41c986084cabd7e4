package test

import (
	"net/url"
	"testing"
	"time"
)

// TestWhatRunsUnderALockComesToItsEnd cuts the line to the server in the moment in which a column
// takes another's place: the server does the whole of it, with the triggers that go with the
// column, and no application gets an error while nobody runs Lastboard.
func TestWhatRunsUnderALockComesToItsEnd(t *testing.T) {
	for i, c := range []struct{ name, statement, cut, same string }{
		{"another type", "alter table vessel alter length_ft set data type varchar(20) using (cast(length_ft as text) " +
			"|| ' ft'), rename length_ft to length", "drop column", "select count(*) from vessel where length not like '% ft'"},
		{"a column that is filled", "alter table vessel add tag varchar(70) not null using (name || '!')", "change column",
			"select count(*) from vessel where tag <> concat(name, '!') and id <> 9000"},
	} {
		if !itsTurn(i, 2) {
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			o := wideMariaDB(t)
			u, err := url.Parse(o.url)
			if err != nil {
				t.Fatal(err)
			}
			r := relayTo(t, u.Host, mariadbStatements)
			r.cuts = []string{c.cut, "drop trigger"}
			direct := o.url
			u.Host, u.RawQuery = r.address, "tls=off"
			o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+u.String()+
				"'\nlive = true\n[databases.dev.pace]\nlock_wait = '100us'\nbatch_time = '1ms'\nwork_share = '83 %'\n")
			o.migration("0002-change", "-- A change\n"+c.statement+";\n")
			first := o.run("advance", "--yes", "--settle", "--let-writers-wait")
			if !r.cut.Load() || first.code == 0 {
				t.Fatalf("the line was not cut: %s", first)
			}
			o.url = direct
			time.Sleep(100 * time.Millisecond) // a write waits for the lock; it does not fail
			o.exec("update vessel set name = 'written' where id = 7", "insert into vessel (id, name) values (9000, 'new')",
				"delete from vessel where id = 8")
			o.must("advance", "--yes", "--settle", "--let-writers-wait")
			o.same(c.same, "0")
			o.wants(o.code(0, "audit"), "matches:")
			o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
			o.wants(o.code(0, "audit"), "matches:")
		})
	}
}
