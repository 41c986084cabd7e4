package mariadb

import (
	"fmt"
	"testing"
)

// TestNotesAreFoundByKey is that the server finds rows which are noted in another table by their keys, and reads no
// whole table for them while others wait.
func TestNotesAreFoundByKey(t *testing.T) {
	s := opened(t).session
	for _, sql := range []string{
		`create table "a ""set where" (id bigint primary key, "1" integer) engine=innodb`,
		`insert into "a ""set where" select seq, 1 from seq_1_to_5000`,
		`create table "lastboard_kept_1" (k1 bigint primary key, f bigint) engine=innodb`,
		`insert into "lastboard_kept_1" select seq, 1 from seq_1_to_5000`,
		`create table "lastboard_kept_1_moved" (k1 bigint primary key) engine=innodb`,
		`insert into "lastboard_kept_1_moved" values (7), (9000)`,
	} {
		if _, err := s.exec(t.Context(), sql); err != nil {
			t.Fatal(err)
		}
	}
	for _, sql := range []string{
		`update "a ""set where" set "1" = 2 where ("a ""set where"."id") in (select k1 from "lastboard_kept_1_moved") and "1" = 1 ` +
			`and (select 1 from "lastboard_kept_1" where "lastboard_kept_1".k1 = "a ""set where"."id") = 1`,
		`update "lastboard_kept_1" set f = 2 where (k1) in (select k1 from "lastboard_kept_1_moved") and f = 1`,
		`delete from "a ""set where" where ("a ""set where"."id") in (select k1 from "lastboard_kept_1_moved") and exists (` +
			`select 1 from "lastboard_kept_1" where "lastboard_kept_1".k1 = "a ""set where"."id")`,
		`delete from "lastboard_kept_1" where (k1) in (select k1 from "lastboard_kept_1_moved")`,
	} {
		before, after := reads(t, s, sql), reads(t, s, byNotes(sql))
		if before < 5000 {
			t.Logf("the server itself reads %d rows for %s", before, sql)
		}
		if after > 100 {
			t.Errorf("%d rows are read for %s", after, byNotes(sql))
		}
		if n, err := s.exec(t.Context(), byNotes(sql)); err != nil || n != 1 {
			t.Errorf("%s: %d rows, %v", byNotes(sql), n, err)
		}
	}
}

// reads gives how many rows the server means to read for a statement.
func reads(t *testing.T, s *session, sql string) (rows int64) {
	t.Helper()
	r, err := s.query(t.Context(), "explain "+sql)
	if err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
	for _, v := range r.Values {
		n := int64(0)
		fmt.Sscan(text(v[len(v)-2]), &n)
		rows += n
	}
	return rows
}
