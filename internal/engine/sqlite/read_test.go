package sqlite

import (
	"context"
	"strings"
	"testing"

	"lastboard/internal/schema"
)

// definitions are create statements as programs have written them: what the
// pragmas do not tell is in each.
var definitions = []string{
	"CREATE TABLE t(a)",
	"create table if not exists main.t (id INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL, name VARCHAR ( 40 ) NOT NULL " +
		"COLLATE NOCASE)",
	"CREATE TEMP TABLE t (a INT PRIMARY KEY ON CONFLICT REPLACE, b NOT NULL ON CONFLICT IGNORE DEFAULT (1 + 1), c " +
		"UNIQUE ON CONFLICT FAIL)",
	"create table t (a text default 'it''s', b default -1, c default +2.5, d default x'00ff', e default null, f " +
		"default true, g default current_timestamp, h default ((1)))",
	"create table t (a, b, c, constraint pk primary key (b desc, a), constraint u unique (c collate nocase asc), " +
		"check (a > ')'), constraint c2 check (b in (1, 2)))",
	"create table t (id integer primary key, p integer constraint up references t (id) on delete set null on update " +
		"cascade match simple not deferrable initially immediate, q references t)",
	"create table t (a, b, foreign key (a, b) references p (x, y) on delete no action deferrable initially deferred, " +
		"foreign key (b) references p)",
	"create table t (a integer, b as (a * 2), c text generated always as (a || ',') stored not null, d int always)",
	"create table t (\"a b\" text, [c d] int, `e f` real, 'g h' blob, größe text, \"select\" text, \"q\"\"q\" text)",
	"create table t (a text, -- a comment, with (parentheses\n b /* and , here */ integer, c text) -- the end",
	"create table t (a text primary key, b any) without rowid, strict",
	"create table t (id integer primary key, b text) strict",
	"create table t (a UNSIGNED BIG INT, b NATIVE CHARACTER(70), c DECIMAL(10,5), d \"odd type\"(3), e DOUBLE " +
		"PRECISION, f long varchar)",
	"create table t (a boolean constraint t_a_limit check (\"a\" in (0, 1)), b varchar(5) constraint t_b_limit check " +
		"(length(\"b\") <= 5), c text constraint t_c_limit check (\"c\" in ('x', 'it''s')))",
	"create table t (a integer constraint one constraint two not null, b null, c text null unique)",
	"create table t (a int, b int, unique (a) constraint named check (b > 0) primary key (b))",
}

// TestDefinitionsSurviveBeingWrittenAgain reads a table, makes it anew from what
// was read, and reads that: nothing may be lost on the way.
func TestDefinitionsSurviveBeingWrittenAgain(t *testing.T) {
	ctx := context.Background()
	for _, sql := range definitions {
		want, err := readTable(sql)
		if err != nil {
			t.Errorf("%s: %v", sql, err)
			continue
		}
		again := createTable(want, want.Name)
		m := memoryWith(t, "create table p (id integer primary key, x, y, unique (x, y))",
			strings.Replace(sql, "TEMP ", "", 1))
		first, err := m.Schema(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if opaque := first.Table("t").Opaque; opaque != "" {
			t.Errorf("%s: %s", sql, opaque)
			continue
		}
		other := memoryWith(t, "create table p (id integer primary key, x, y, unique (x, y))", again)
		second, err := other.Schema(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if d := schema.CompareTables(first.Table("t"), second.Table("t"), Engine{}.Text); len(d) > 0 {
			t.Errorf("%s\nwritten again as\n%s\ndiffers: %v", sql, again, d)
		}
		for _, pragma := range []string{"select name, type, \"notnull\", dflt_value, pk, hidden from pragma_table_xinfo('t')",
			"select * from pragma_foreign_key_list('t') order by 1, 2",
			"select i.\"unique\", i.origin, x.name, x.\"desc\", x.coll from pragma_index_list('t') i join " +
				"pragma_index_xinfo(i.name) x where x.key order by 2, 3"} {
			a, err := m.query(ctx, pragma)
			if err != nil {
				t.Fatal(err)
			}
			b, err := other.query(ctx, pragma)
			if err != nil {
				t.Fatal(err)
			}
			if x, y := strings.ToLower(plain(a.Values)), strings.ToLower(plain(b.Values)); x != y {
				t.Errorf("%s\nwritten again as\n%s\n%s: wanted %s, got %s", sql, again, pragma, x, y)
			}
		}
	}
}

// plain writes rows with one blank between words, since SQLite keeps the spelling
// of a type.
func plain(rows [][]any) string {
	var b strings.Builder
	for _, r := range rows {
		for _, v := range r {
			b.WriteString(strings.Join(strings.Fields(strings.NewReplacer("(", " ( ", ")", " ) ").Replace(text(v))), " ") + "|")
		}
		b.WriteString("\n")
	}
	return b.String()
}

// TestWhatIsNotUnderstoodIsSaid is that a definition beyond the reader makes the
// table one that is shown and never changed.
func TestWhatIsNotUnderstoodIsSaid(t *testing.T) {
	for sql, why := range map[string]string{
		"create virtual table t using fts5(a)":                    "virtual table",
		"create table t (id integer primary key desc, a text)":    "descending order",
		"create table t (a text mystery(1) clause)":               "not understood",
		"create table t as select 1":                              "no list of columns",
		"create table t (a text, a text)":                         "twice",
		"create table t (a text":                                  "is expected",
		"create table t (a int primary key, primary key (a))":     "two primary keys",
		"create table t (a text) with (something)":                "not understood",
		"create table t (a text references p on delete explode)":  "no action",
		"create table t (a text, primary key (a autoincrement x)": "expected",
	} {
		if _, err := readTable(sql); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: wanted %q, got %v", sql, why, err)
		}
	}
}
