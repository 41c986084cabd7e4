package test

import (
	"context"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestPreparedTransactionInTheWay is that a transaction which stands prepared, and belongs to no
// session, is named with the statement that ends it, that a run which waits for it heeds the
// keyboard, and that it goes on once that is gone.
func TestPreparedTransactionInTheWay(t *testing.T) {
	beside(t)
	changes := map[string]string{
		"a column":   "alter table berth add tons integer",
		"an index":   "create index by_owner on berth (owner)",
		"a backfill": "backfill berth set n = n + 1",
		"a check":    "alter table berth add constraint counted check (n > 0)",
	}
	for i, engine := range []string{"PostgreSQL", "MariaDB"} {
		if !itsTurn(i, 2) {
			continue
		}
		for what, change := range changes {
			t.Run(engine+", "+what, func(t *testing.T) {
				o := officeOn(t, engine, []string{"create table berth (id integer not null primary key, owner varchar(20), n " +
					"integer)", "insert into berth values (1, 'ann', 1), (2, 'bob', 2)"})
				url := o.url
				o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+url+
					"'\nlive = true\n[databases.dev.pace]\nlock_wait = '50ms'\nlock_tries = 4\n")
				o.migration("0002-change", "-- A change\n"+change+";\n")
				id := "'of " + o.name() + "'"
				statements, end := []string{"begin", "update berth set owner = 'cy' where id = 1", "prepare transaction " + id},
					"rollback prepared "+id
				if engine == "MariaDB" {
					statements, end = []string{"xa start " + id, "update berth set owner = 'cy' where id = 1", "xa end " + id,
						"xa prepare " + id}, "xa rollback "+id
				}
				pool := o.open()
				db, err := pool.Conn(context.Background())
				if err != nil {
					t.Fatal(err)
				}
				for _, text := range statements {
					if _, err := db.ExecContext(context.Background(), text); err != nil {
						t.Fatal(err)
					}
				}
				db.Close()
				pool.Close()
				ended := false
				defer func() {
					if !ended {
						o.exec(end)
					}
				}()
				time.Sleep(1200 * time.Millisecond) // it counts as old
				r := o.run("advance", "--yes", "--let-writers-wait")
				if r.code != 1 && r.code != 4 {
					t.Errorf("wanted it to give up, got %s", r)
				}
				o.wants(r, "a prepared transaction", strings.ToLower(strings.Fields(end)[0]))
				if engine == "PostgreSQL" {
					o.wants(r, end+" takes back")
				}
				c := o.command("advance", "--yes", "--let-writers-wait")
				if err := c.Start(); err != nil {
					t.Fatal(err)
				}
				time.Sleep(150 * time.Millisecond)
				c.Process.Signal(syscall.SIGINT)
				done := make(chan error, 1)
				go func() { done <- c.Wait() }()
				select {
				case <-done:
				case <-time.After(30 * time.Second):
					c.Process.Kill()
					t.Error("it does not heed the keyboard")
				}
				o.exec(end)
				ended = true
				o.must("advance", "--yes", "--let-writers-wait")
				o.wants(o.code(0, "audit"), "matches:")
				o.same("select owner from berth where id = 1", "ann")
			})
		}
	}
}
