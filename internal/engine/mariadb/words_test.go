package mariadb

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// What the core writes is sent so that Lastboard's own tables are the same whatever the
// database's defaults.
func TestStatementsOfTheCore(t *testing.T) {
	for text, want := range map[string]string{
		"select 1 from vessel for share":   "select 1 from vessel lock in share mode",
		"create table vessel (id integer)": "create table vessel (id integer)",
		"create table lastboard_x (a text not null)": "create table if not exists lastboard_x (a " +
			"longtext not null)" + ownOptions,
		"create table if not exists lastboard_work (work text not null)": "create table if not exists lastboard_work " +
			"(work longtext not null)" + ownOptions,
		`create table "lastboard_kept_1" (k1 int)`: `create table if not exists "lastboard_kept_1" (k1 int)` + ownOptions,
		`create table "lastboard_kept_1" as select * from t`: `create table if not exists "lastboard_kept_1"` +
			ownOptions + ` as select * from t`,
		`create table if not exists "lastboard_kept_1" like x."y"`: `create table if not exists "lastboard_kept_1" like x."y"`,
		"update lastboard_meta set a = 1":                          "update lastboard_meta set a = 1",
	} {
		if got := translate(text); got != want {
			t.Errorf("%s becomes\n%s\nwanted\n%s", text, got, want)
		}
	}
}

// A statement that defines something commits by itself; one that is instant can be bounded
// with its wait.
func TestWhatStatementsDo(t *testing.T) {
	for sql, want := range map[string][2]bool{
		"select 1": {false, false}, "update t set a = 1": {false, false}, "insert into t values (1)": {false, false},
		"delete from t": {false, false},
		"alter table t add a int, algorithm=instant, lock=none":                     {true, true},
		"alter table t force, algorithm=inplace, lock=none":                         {true, false},
		"create table t (a int)":                                                    {true, false},
		"create temporary table t (a int)":                                          {false, false},
		"drop temporary table t":                                                    {false, false},
		"create or replace trigger x before insert on t for each row set new.a = 1": {true, true},
		"drop trigger if exists x":                                                  {true, true},
		"rename table a to b":                                                       {true, true},
		"drop table if exists t":                                                    {true, true},
		"truncate t":                                                                {true, false},
		"lock tables t write":                                                       {true, false},
		"set statement foreign_key_checks = 0 for alter table t add x":              {true, false},
		"LOCK TABLES t WRITE":                                                       {true, false},
	} {
		if got := [2]bool{defines(sql), instant(sql)}; got != want {
			t.Errorf("%s: defines and is instant: %v, wanted %v", sql, got, want)
		}
	}
}

// A semicolon inside a trigger or a routine ends no statement.
func TestNativeStatements(t *testing.T) {
	for sql, want := range map[string][]string{
		"":                            nil,
		" ; ;":                        nil,
		"select 1":                    {"select 1"},
		"select ';'; select \"a;b\";": {"select ';'", "select \"a;b\""},
		"create trigger x before insert on t for each row begin set new.a = 1; set new.b = 2; end; select 2": {
			"create trigger x before insert on t for each row begin set new.a = 1; set new.b = 2; end", "select 2"},
		"create procedure p() begin if 1 then select 1; end if; case 2 when 2 then select 3; end case; loop leave l; " +
			"end loop; end; drop procedure p": {
			"create procedure p() begin if 1 then select 1; end if; case 2 when 2 then select 3; end case; loop leave l; " +
				"end loop; end", "drop procedure p"},
		"-- a comment; with one\nselect 1; /* and; another */ select 2": {"-- a comment; with one\nselect 1",
			"/* and; another */ select 2"},
	} {
		if got := splitStatements(sql); !slices.Equal(got, want) {
			t.Errorf("%q is\n%q\nwanted\n%q", sql, got, want)
		}
	}
}

// A costlier way is taken only where it keeps nobody waiting, or they may wait.
func TestWaysThatAreLeft(t *testing.T) {
	refused := &mysql.MySQLError{Number: errNotSupported, Message: "ALGORITHM=INSTANT is not supported"}
	for _, c := range []struct {
		accepts string // a way that the server accepts
		mayWait bool
		tried   int
		runs    bool
	}{
		{"algorithm=nocopy, lock=none", false, 1, true}, {"algorithm=inplace, lock=none", false, 2, true},
		{"algorithm=copy, lock=shared", false, 2, false}, {"algorithm=copy, lock=shared", true, 6, true},
		{"nothing", true, 7, false},
	} {
		tried := 0
		err := costlier("alter table t add a int, algorithm=instant, lock=none", bounds{mayWait: c.mayWait}, refused,
			func(sql string) error {
				if tried++; !strings.Contains(sql, "algorithm=") || strings.Count(sql, "algorithm=") > 1 {
					t.Errorf("it names no way, or two: %s", sql)
				}
				if strings.HasSuffix(sql, c.accepts) {
					return nil
				}
				return refused
			})
		var out *exhausted
		if (err == nil) != c.runs || tried != c.tried || err != nil && !errors.As(err, &out) {
			t.Errorf("%s, may wait %v: %v after %d tries", c.accepts, c.mayWait, err, tried)
		}
	}
	if err := costlier("rename table a to b", bounds{}, refused,
		func(string) error { t.Error("it was tried"); return nil }); !errors.Is(err, refused) {
		t.Errorf("a statement without a way gives %v", err)
	}
}

// Every type that a column can have not null has a value to stand in it, or says that it has none.
func TestPlaceholders(t *testing.T) {
	for typ, want := range map[string]string{
		"varchar(4)": "''", "text": "''", "char(3)": "''", "integer": "0", "bigint unsigned": "0", "numeric(5,2)": "0.00",
		"boolean": "0", "double precision": "0", "date": "'1970-01-02'", "timestamp": "'1970-01-02 00:00:00'",
		"timestamp with time zone": "'1970-01-02 00:00:00'", "time": "'00:00:00'",
		"uuid": "'00000000-0000-0000-0000-000000000000'", "blob": "''", "varbinary(4)": "''", "json": "",
		"enum('a', 'b')": "",
	} {
		f, err := sqltext.Parse("", "create table t (c "+typ+");")
		if err != nil {
			t.Fatalf("%s: %v", typ, err)
		}
		s, _, err := schema.Apply(&schema.Schema{}, f.Statements[0], Engine{}.About().Env(nil))
		if err != nil {
			t.Fatalf("%s: %v", typ, err)
		}
		if got := placeholder(s.Table("t").Column("c")); got != want {
			t.Errorf("%s has %s, wanted %s", typ, got, want)
		}
	}
	if got := placeholder(&schema.Column{Type: sqltext.Type{Name: "point", Native: true}}); got != "" {
		t.Errorf("a native type has %s", got)
	}
}

// Marks are no part of any statement that is shown.
func TestMarksAreShown(t *testing.T) {
	for sql, want := range map[string]string{
		"update t set a = 1 where " + engine.Range:                "update t set a = 1 where {range}",
		"lock tables t write" + engine.Between + "drop trigger x": "lock tables t write;\ndrop trigger x",
		noting("insert into t values (1) returning id",
			"lastboard_kept_1"): "insert into t values (1) returning id -- noted in lastboard_kept_1",
		"alter table t force, " + algorithm: "alter table t force, {algorithm}",
		"select '{range}', ';\n'":           "select '{range}', ';\n'",
	} {
		if got := engine.Shown(sql); got != want {
			t.Errorf("got %q, wanted %q", got, want)
		}
	}
}
