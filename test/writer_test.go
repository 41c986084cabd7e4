package test

import (
	"fmt"
	"testing"
	"time"
)

// TestWritersLoseNothingWhileTablesChange runs each kind of change on a live table
// that another program writes to without a pause, forward and back, and looks for
// every row that it was told is written.
func TestWritersLoseNothingWhileTablesChange(t *testing.T) {
	beside(t)
	const rows = 8_000
	changes := []struct{ name, statement string }{
		{"a column in batches", "alter table vessel add code text using ('V' || cast(id as text))"},
		{"a column that is not null", "alter table vessel add code text not null default 'late' using ('V' || cast(id " +
			"as text))"},
		{"values in batches", "backfill vessel set n = n + 1 where id % 2 = 0"},
		{"a copy of the table", "alter table vessel alter n set default 5"},
		{"an index", "create unique index vessel_once on vessel (name, id)"},
		{"a check", "alter table vessel add constraint n_small check (n < 1000000 or n is null)"},
		{"a dropped column", "alter table vessel drop old"},
		{"a stored column", "alter table vessel add twice integer generated always as (n * 2) stored"},
		{"a renamed column that nobody writes", "alter table vessel rename old to older"},
	}
	for _, c := range changes {
		t.Run(c.name, func(t *testing.T) {
			o := bigOffice(t, rows)
			o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = 'sqlite:harbour.db'\nlive = "+
				"true\n[databases.dev.pace]\nbatch_time = '3ms'\nlock_wait = '10ms'\nlock_tries = 200\n")
			o.migration("0002-change", "-- A change\n"+c.statement+";\n")
			w := startWriter(o)
			time.Sleep(20 * time.Millisecond)
			o.must("advance", "--yes", "--let-writers-wait", "--settle")
			o.must("retreat", "--to", "1", "--yes", "--let-writers-wait", "--settle")
			o.must("advance", "--yes", "--let-writers-wait", "--settle")
			ids := w.stop()
			if len(ids) < 3 {
				t.Fatalf("the other program wrote %d rows alone", len(ids))
			}
			o.same(fmt.Sprintf("select count(*) from vessel where id > %d and name = 'late'", rows), fmt.Sprint(len(ids)))
			o.same(fmt.Sprintf("select count(*), count(distinct name) from vessel where id <= %d", rows),
				fmt.Sprintf("%d|%d", rows, rows))
			o.same("pragma integrity_check", "ok")
			o.same("select count(*) from lastboard_runner", "0")
		})
	}
}

// TestRowsThatComeWhileAColumnIsFilled get their value, too, whatever their number,
// before the column becomes not null.
func TestRowsThatComeWhileAColumnIsFilled(t *testing.T) {
	const rows = 30_000
	o := bigOffice(t, rows)
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = 'sqlite:harbour.db'\nlive = "+
		"true\n[databases.dev.pace]\nbatch_time = '2ms'\nlock_wait = '1ms'\nlock_tries = 500\n")
	o.migration("0002-change", "-- A change\nalter table vessel add code text not null using ('V' || cast(id as "+
		"text) || name);\n")
	o.exec("delete from vessel where id between 100 and 200")
	c := o.command("advance", "--yes", "--let-writers-wait", "--settle")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, o, "select count(*) from lastboard_backfill")
	db := o.open()
	defer db.Close()
	wrote := 0
	for id := 100; id <= 200; id++ {
		// Below where the backfill is by now, and above where it ends.
		if _, err := db.Exec("insert into vessel (id, name) values (?, 'late')", id); err == nil {
			wrote++
		}
		if _, err := db.Exec("insert into vessel (name) values ('late')"); err == nil {
			wrote++
		}
	}
	if err := c.Wait(); err != nil {
		t.Fatal(err)
	}
	if wrote == 0 {
		t.Fatal("the backfill was over before a row came")
	}
	o.same("select count(*) from vessel where name = 'late'", fmt.Sprint(wrote))
	o.same("select count(*) from vessel where code is null or code <> 'V' || id || name", "0")
	o.same(`select "notnull" from pragma_table_info('vessel') where name = 'code'`, "1")
}
