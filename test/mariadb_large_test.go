package test

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// largeOnMariaDB is a database that applications use, with a table that counts as large
// for the pace that it is given.
func largeOnMariaDB(t *testing.T, rows int, create string, more ...string) *office {
	t.Helper()
	o := newOfficeOn(t, mariadb, append([]string{
		create + " engine=InnoDB character set utf8mb4 collate utf8mb4_nopad_bin",
		fmt.Sprintf("insert into call_ (dues, note) select seq, concat('n', seq) from seq_1_to_%d", rows),
		"analyze table call_"}, more...)...)
	o.must("adopt", "--yes")
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
		"'\nlive = true\n[databases.dev.pace]\nlock_wait = '50ms'\nlock_tries = 200\nbatch_time = '4ms'\nwork_share = "+
		"'83 %'\n")
	return o
}

const largeCall = "create table call_ (id bigint auto_increment primary key, dues integer not null, least " +
	"integer, paid boolean, note varchar(50), constraint heavy check (dues > 0))"

// TestMariaDBChecksOfALargeTable adds checks to a table that is in use, without a copy of
// it: they have their names, follow their columns, and come and go.
func TestMariaDBChecksOfALargeTable(t *testing.T) {
	beside(t)
	o := largeOnMariaDB(t, 15_000, largeCall)
	start := o.must("describe", "--json")
	o.migration("0002-checks", `-- Rules
alter table call_ add constraint "it's order" check (least < dues or least is null and dues between 1 and 20000),
	add constraint dues_even check (dues >= 0), add constraint noted check (note <> 'x' and note <> 'y'), add check (least > -5);
`)
	f := o.must("forecast", "--statements")
	if strings.Contains(f, "algorithm=copy") || strings.Contains(f, "lock=shared") {
		t.Errorf("the table would be copied:\n%s", f)
	}
	o.must("advance", "--yes")
	for _, name := range []string{`"it's order"`, `"dues_even"`, `"noted"`, `"call__least_check"`, `"heavy"`} {
		if s := o.must("describe", "--json"); !strings.Contains(s, `"name":`+name) && !strings.Contains(s, `"name": `+name) {
			t.Errorf("there is no check %s:\n%s", name, s)
		}
	}
	db := o.open()
	defer db.Close()
	for _, statement := range []string{
		"update call_ set least = dues + 1 where id = 1", "update call_ set note = 'y' where id = 2",
		"update call_ set dues = -1 where id = 3", "update call_ set least = -7 where id = 4",
	} {
		if _, err := db.Exec(statement); err == nil {
			t.Errorf("%s breaks no check", statement)
		}
	}
	if _, err := db.Exec("update call_ set least = 3, paid = true where id = 10"); err != nil {
		t.Error(err)
	}
	with := o.must("describe", "--json")
	o.migration("0003-names", `-- Other names and types
alter table call_ rename dues to harbour_dues, rename constraint noted to said, drop constraint dues_even;
alter table call_ alter least set data type bigint;
`)
	o.must("advance", "--yes", "--let-writers-wait", "--settle")
	for _, statement := range []string{"update call_ set least = 30000 where id = 1",
		"update call_ set note = 'y' where id = 2", "update call_ set harbour_dues = -1 where id = 3",
		"update call_ set least = -7 where id = 4"} {
		if _, err := db.Exec(statement); err == nil {
			t.Errorf("%s breaks no check", statement)
		}
	}
	o.must("audit")
	o.must("retreat", "--to", "2", "--yes", "--let-writers-wait", "--settle")
	if back := o.must("describe", "--json"); back != with {
		t.Errorf("the way back differs: %s", firstDifference(with, back))
	}
	if _, err := db.Exec("update call_ set dues = 0 where id = 3"); err == nil {
		t.Error("the check that came back is none")
	}
	o.must("retreat", "--to", "1", "--yes")
	if _, err := db.Exec("update call_ set least = null, paid = null where id = 10"); err != nil {
		t.Error(err)
	}
	if back := o.must("describe", "--json"); back != start {
		t.Errorf("the way back differs: %s", firstDifference(start, back))
	}
}

// TestMariaDBCheckThatRowsBreakMeanwhile adds a check while an application writes rows that
// break it now and then: in the end there is the check and no such row, or no check.
func TestMariaDBCheckThatRowsBreakMeanwhile(t *testing.T) {
	beside(t)
	o := largeOnMariaDB(t, 15_000, largeCall)
	o.migration("0002-check", "-- A rule\nalter table call_ add constraint moderate check (dues < 1000000);\n")
	var stood, refused, late int
	for range 12 {
		stop := o.meanwhile(1, func(db *sql.DB, r *rand.Rand) error {
			id := 1 + r.Int64N(15_000)
			_, err := db.Exec("update call_ set dues = 2000000 where id = ?", id)
			if err != nil && strings.Contains(err.Error(), "4025") {
				return nil
			}
			if err == nil {
				time.Sleep(time.Duration(r.IntN(4)) * time.Millisecond)
				_, err = db.Exec("update call_ set dues = 1 where id = ?", id)
				time.Sleep(time.Duration(r.IntN(40)) * time.Millisecond)
			}
			if err != nil && strings.Contains(err.Error(), "4025") {
				err = nil
			}
			return err
		})
		r := o.run("advance", "--yes")
		stop()
		switch r.code {
		case 0:
			stood++
			o.same("select count(*) from call_ where dues >= 1000000", "0")
			o.must("retreat", "--to", "1", "--yes")
		case 3:
			refused++
		default:
			late++
			o.wants(r, "a row breaks constraint moderate")
		}
		o.same("select count(*) from information_schema.check_constraints where constraint_schema = database() and "+
			"check_clause like '%1000000%'", "0")
		o.same("select count(*) from "+o.ledger("migration")+" where version = '0002'", "0")
		db := o.open()
		if _, err := db.Exec("update call_ set dues = 1 where dues = 2000000"); err != nil {
			t.Fatal(err)
		}
		db.Close()
	}
	t.Logf("the check stood %d times, was refused before anything was touched %d times, and was taken off %d times", stood,
		refused, late)
}

// TestMariaDBOutOfInstantChanges changes a table that the server alters at once no more,
// though it still does so with an empty copy.
func TestMariaDBOutOfInstantChanges(t *testing.T) {
	beside(t)
	var add, drop []string
	for i := range 100 {
		add, drop = append(add, fmt.Sprintf("add gone%d integer", i)), append(drop, fmt.Sprintf("drop gone%d", i))
	}
	var worn []string
	for range 10 {
		worn = append(worn, "alter table call_ "+strings.Join(add, ", ")+", algorithm=instant",
			"alter table call_ "+strings.Join(drop, ", ")+", algorithm=instant")
	}
	for i, c := range [][2]string{
		{"a column comes", "alter table call_ add fee integer default 7"},
		{"a column goes, in a window", "alter table call_ drop note"},
		{"a column goes, and its values with it", "alter table call_ drop note discard"},
		{"a column becomes another", "alter table call_ alter note set data type varchar(60) using (trim(note))"},
	} {
		if !itsTurn(i, 2) {
			continue
		}
		what, statement := c[0], c[1]
		t.Run(what, func(t *testing.T) {
			o := largeOnMariaDB(t, 15_000, largeCall, worn...)
			db := o.open()
			defer db.Close()
			for i := 0; ; i++ {
				if _, err := db.Exec("alter table call_ add gone integer, algorithm=instant"); err != nil {
					break
				}
				if _, err := db.Exec("alter table call_ drop gone, algorithm=instant"); err != nil || i > 100 {
					t.Fatal("the table is not worn out: ", err)
				}
			}
			start := o.must("describe", "--json", "--rows", "5")
			o.migration("0002-change", "-- A change\n"+statement+";\n")
			var longest atomic.Int64
			stop := o.meanwhile(2, func(db *sql.DB, r *rand.Rand) error {
				began := time.Now()
				_, err := db.Exec("update call_ set least = 0 where id = ?", 1+r.Int64N(15_000))
				longest.Store(max(longest.Load(), int64(time.Since(began))))
				return err
			})
			o.must("advance", "--yes", "--let-writers-wait", "--settle")
			o.must("audit")
			stop()
			t.Logf("a writer waited for %s at most", time.Duration(longest.Load()))
			if _, err := db.Exec("update call_ set least = null"); err != nil {
				t.Fatal(err)
			}
			if !strings.Contains(statement, "discard") {
				o.must("retreat", "--to", "1", "--yes", "--let-writers-wait", "--settle")
				if back := o.must("describe", "--json", "--rows", "5"); back != start {
					t.Errorf("the way back differs: %s", firstDifference(start, back))
				}
			}
		})
	}
}

// TestMariaDBNotNullOfALargeTable makes columns not null, and nullable again, without
// writing the table anew: at the end of that the server would keep writers waiting.
func TestMariaDBNotNullOfALargeTable(t *testing.T) {
	beside(t)
	for i, kind := range []string{"plain", "stored", "virtual"} {
		if !itsTurn(i, 3) {
			continue
		}
		more := ""
		if kind != "plain" {
			more = ", twice integer generated always as (dues * 2) " + kind
		}
		t.Run(kind, func(t *testing.T) {
			notNullOfALargeTable(t, kind, strings.Replace(largeCall, ", constraint", more+", constraint", 1))
		})
	}
}

func notNullOfALargeTable(t *testing.T, kind, create string) {
	o := largeOnMariaDB(t, 15_000, create)
	o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+
		"'\nlive = true\n[databases.dev.pace]\nlock_wait = '2ms'\nlock_tries = 1000\nbatch_time = '4ms'\nwork_share = "+
		"'83 %'\n")
	start := o.must("describe", "--json")
	var inserted atomic.Int64
	stop := o.meanwhile(2, func(db *sql.DB, r *rand.Rand) error {
		_, err := db.Exec("insert into call_ (dues, note) values (?, ?)", 1+r.IntN(9), fmt.Sprintf("late %d", r.IntN(1000)))
		if err == nil {
			inserted.Add(1)
			_, err = db.Exec("update call_ set note = concat('now ', ?) where id = ?", r.IntN(1000), 1+r.Int64N(15_000))
		}
		time.Sleep(2 * time.Millisecond)
		return err
	})
	for i, c := range []struct{ statement, wrong string }{
		{"alter table call_ alter note set not null", "note = ''"},
		{"alter table call_ add column tag varchar(60) not null default 'late 0!' using (note || '!'), add column token " +
			"uuid not null default uuid()", "tag not regexp '^(n[0-9]+|late [0-9]+|now [0-9]+)!$' or token like '00000000%'"},
		{"alter table call_ alter note drop not null, alter least set default 0, alter least set not null using (dues - 1)",
			"least is null or id <= 15000 and least <> dues - 1"},
	} {
		o.migration(fmt.Sprintf("%04d-change", i+2), "-- A change\n"+c.statement+";\n")
		if f := o.must("forecast", "--statements"); strings.Contains(f, "algorithm=copy") ||
			strings.Contains(f, "algorithm=inplace") && (kind != "virtual" || strings.Contains(c.statement, "add column")) {
			t.Errorf("%s: the table would be written anew:\n%s", c.statement, f)
		}
		if kind == "virtual" && !strings.Contains(c.statement, "add column") {
			o.wants(o.code(3, "advance", "--yes"), "keeps every writer waiting for about")
		}
		o.must("advance", "--yes", "--let-writers-wait")
		o.same("select count(*) from call_ where "+c.wrong, "0")
		o.must("audit")
	}
	o.same("select group_concat(column_name, ' ', is_nullable order by ordinal_position separator ', ') from "+
		"information_schema.columns where table_schema = database() and table_name = 'call_' and column_name <> 'twice'",
		"id NO, dues NO, least NO, paid YES, note YES, tag NO, token NO")
	o.same("select count(distinct token) = count(*), group_concat(distinct trigger_name) from call_ left join "+
		"information_schema.triggers on trigger_schema = database() and trigger_name like '%fill'", "1|null")
	stop()
	o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
	if back := o.must("describe", "--json"); strings.Join(strings.Split(back, `"rows"`)[:1],
		"") != strings.Join(strings.Split(start, `"rows"`)[:1], "") {
		t.Errorf("the way back differs: %s", firstDifference(start, back))
	}
	o.same("select count(*) - 15000 from call_", fmt.Sprint(inserted.Load()))
	o.same("select count(*) from call_ where id <= 15000 and least is not null", "0")
}

// TestMariaDBInUseOrNot is that a change of a large table which is in use leads to just what
// it leads to where nobody uses it, and so does its way back.
func TestMariaDBInUseOrNot(t *testing.T) {
	beside(t)
	for _, statement := range ofToday(t, []string{
		"alter table call_ add column a integer not null check (a > 0) using (dues), add column b varchar(30) not null " +
			"after dues using (upper(note)), add column c text not null default 'x' using (note), add column d integer " +
			"generated always as (a + 1)",
		"alter table call_ add column a varchar(40) collate utf8mb4_unicode_nopad_ci not null unique using (note || " +
			"cast(dues as varchar(9))), add column b boolean not null default true using (dues > 7); comment on column " +
			"call_.a is 'a name'; create index by_b on call_ (b, a)",
		"alter table call_ add column a date not null first using (date '2031-01-01'), add column b numeric(9,2) not " +
			"null using (dues * 1.5), add column e varbinary(8) not null default x'00' using (x'0102')",
		"alter table call_ alter note set not null, alter note set default 'n', alter least set not null using (dues), " +
			"rename column note to remark",
		"alter table call_ alter note set data type varchar(90) using (trim(note)), alter note set not null; alter " +
			"table call_ alter note drop not null",
		"alter table call_ alter dues set data type bigint using (dues * 2), rename column dues to cents, add column a " +
			"integer not null using (id + 1)",
	}) {
		t.Run(statement, func(t *testing.T) {
			var seen [2][3]string
			for i, settings := range []string{"live = true\n[databases.dev.pace]\nlock_wait = '2ms'\nlock_tries = " +
				"1000\nbatch_time = '4ms'\nwork_share = '83 %'\n", ""} {
				o := largeOnMariaDB(t, 9_000, strings.Replace(largeCall, ", constraint heavy check (dues > 0)", "", 1))
				o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = '"+o.url+"'\n"+settings)
				look := func() string {
					doc := o.must("describe", "--json", "--rows", "9000")
					_, tables, _ := strings.Cut(doc, `"tables"`)
					return tables
				}
				seen[i][0] = look()
				o.migration("0002-change", "-- A change\n"+statement+";\n")
				o.must("advance", "--yes", "--settle", "--let-writers-wait")
				seen[i][1] = look()
				o.wants(o.code(0, "audit"), "matches:")
				o.must("retreat", "--to", "1", "--yes", "--settle", "--let-writers-wait")
				if seen[i][2] = look(); seen[i][2] != seen[i][0] {
					t.Errorf("the way back differs: %s", firstDifference(seen[i][0], seen[i][2]))
				}
			}
			if seen[0][1] != seen[1][1] {
				t.Errorf("in use it leads to another: %s", firstDifference(seen[1][1], seen[0][1]))
			}
		})
	}
}
