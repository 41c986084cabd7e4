package test

import (
	"fmt"
	"strings"
	"testing"
)

// TestTriggerThatLetsNoRowBeWritten is that a run which would fill rows, and whose table has a
// trigger that refuses what is written, is refused before anything is changed, forward and back.
func TestTriggerThatLetsNoRowBeWritten(t *testing.T) {
	beside(t)
	for name, trigger := range map[string][]string{
		"SQLite": {"create trigger closing before update on vessel when exists (select 1 from closed) begin select " +
			"raise(abort, 'the harbour is closed'); end"},
		"MariaDB": {"create trigger closing before update on vessel for each row if exists (select 1 from closed) then " +
			"signal sqlstate '45000' set message_text = 'the harbour is closed'; end if"},
		"PostgreSQL": {"create function closing() returns trigger language plpgsql as $$ begin if exists (select 1 from " +
			"closed) then raise 'the harbour is closed'; end if; return new; end $$",
			"create trigger closing before update on vessel for each row execute function closing()"},
	} {
		t.Run(name, func(t *testing.T) {
			var rows []string
			for i := range 3000 {
				rows = append(rows, fmt.Sprintf("(%d, 'vessel %d', 'NO')", i+1, i+1))
			}
			statements := append([]string{"create table closed (n integer primary key)",
				"create table vessel (id integer primary key, name varchar(60), flag varchar(20))",
				"insert into vessel values " + strings.Join(rows, ", ")}, trigger...)
			if name == "PostgreSQL" {
				statements = append(statements, "analyze")
			}
			o := officeOn(t, name, statements)
			o.paced("lock_wait = '100us'\nbatch_time = '5ms'\n")
			o.migration("0002-change", "-- A change\nalter table vessel drop column flag;\n")
			advance, retreat := []string{"advance", "--yes", "--settle", "--let-writers-wait"},
				[]string{"retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait"}
			refused := func(args []string) {
				t.Helper()
				o.exec("insert into closed values (1)")
				o.wants(o.code(3, args...), "a row of vessel cannot be written", "the harbour is closed")
				o.wants(o.code(0, "audit"), "matches:")
				o.exec("delete from closed")
			}
			o.must(advance...)
			refused(retreat)
			o.must(retreat...)
			o.same("select count(*) from vessel where flag = 'NO'", "3000")
			o.migration("0002-change", "-- A change\nalter table vessel add column tag varchar(80) using (name || '!');\n")
			refused(advance)
			o.must(advance...)
			o.must(retreat...)
			o.same("select count(*) from vessel where flag = 'NO' and name like 'vessel %'", "3000")
		})
	}
}
