package sqlite

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"lastboard/internal/engine"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

// ship is the table that expressions are computed on, with one row.
var ship = &schema.Table{Name: "ship", Columns: []*schema.Column{
	{Name: "id", Type: sqltext.Type{Name: "integer"}, NotNull: true},
	{Name: "name", Type: sqltext.Type{Name: "varchar", Args: []int{20}}, NotNull: true},
	{Name: "length_ft", Type: sqltext.Type{Name: "numeric", Args: []int{6, 1}}},
	{Name: "papers", Type: sqltext.Type{Name: "text"}},
	{Name: "sailed", Type: sqltext.Type{Name: "date"}},
	{Name: "seen", Type: sqltext.Type{Name: "timestamp"}},
	{Name: "Two Words", Type: sqltext.Type{Name: "real"}},
}}

// memoryWith opens a database in memory and runs statements in it.
func memoryWith(t *testing.T, statements ...string) *trial {
	t.Helper()
	d := open(t, t.TempDir()+"/none.db", engine.Read)
	tr, err := d.Trial(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tr.Close() })
	for _, s := range statements {
		if _, err := tr.(*trial).conn.ExecContext(context.Background(), s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
	return tr.(*trial)
}

func open(t *testing.T, path string, mode engine.Mode) *database {
	t.Helper()
	d, err := Engine{}.Open(context.Background(), "sqlite:"+path, mode)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d.(*database)
}

func parse(t *testing.T, text string) sqltext.Expr {
	t.Helper()
	e, err := sqltext.ParseExpr(text)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// TestExpressionsMeanWhatTheLanguageSays computes each expression where SQLite's
// own reading of the text would often give something else.
func TestExpressionsMeanWhatTheLanguageSays(t *testing.T) {
	m := memoryWith(t, createTable(ship, "ship"),
		`insert into ship values (7, 'Tern', 20, null, '2031-01-31', '2031-01-31 10:20:30', 2.5)`)
	cases := []struct{ expr, want string }{
		{"7 / 2", "3"}, {"id / 2", "3"}, {"length_ft / 8", "2.5"}, {"id / 2.0", "3.5"}, {"length_ft / id * 7", "20"},
		{"-7 / 2", "-3"}, {"7 % 3", "1"}, {"-7 % 3", "-1"}, {"mod(id, 4)", "3"}, {"length_ft % 7.5", "5"},
		{"mod(7.5, 2)", "1.5"},
		{"1 + 2 * 3", "7"}, {"(1 + 2) * 3", "9"}, {"2 - 3 - 4", "-5"}, {"2 - (3 - 4)", "3"}, {"- -3", "3"}, {"-(-3)", "3"},
		{"'a' || 1 + 2", "a3"}, {"('a' || 1) || 2", "a12"}, {"name || papers", "null"},
		{"concat(name, papers, '!')", "Tern!"}, {"concat(papers)", ""}, {"concat()", ""},
		{"substring('abcdef' from 2 for 3)", "bcd"}, {"substring('abcdef' from 3)", "cdef"},
		{"substring('abcdef' from 0 for 3)", "ab"},
		{"substring('abcdef' from -2 for 5)", "ab"}, {"substring(name from 2 for 0)", ""},
		{"substring(name from 2 for -1)", ""}, {"substring(name from id - 6 for 2)", "Te"},
		{"substring('größe' from 3 for 2)", "öß"}, {"left(name, 2)", "Te"}, {"left(name, -1)", ""},
		{"position('r' in name)", "3"}, {"position('R' in name)", "0"}, {"char_length('größe')", "5"},
		{"replace(name, 'e', 'a')", "Tarn"},
		{"upper(name)", "TERN"}, {"trim('  a ')", "a"}, {"trim(leading 'x' from 'xxa')", "a"},
		{"trim(both 'x' from 'xax')", "a"}, {"ltrim('  a')", "a"},
		{"name like 'T%'", "1"}, {"name like 't%'", "0"}, {"name like '_ern'", "1"}, {"name not like '%z%'", "1"},
		{`'50%' like '50\%' escape '\'`, "1"}, {`'50x' like '50\%' escape '\'`, "0"}, {"'a*b' like 'a*b'", "1"},
		{"'axb' like 'a*b'", "0"}, {"'a[b' like 'a[b'", "1"},
		{"papers is null", "1"}, {"papers is not distinct from null", "1"}, {"name is distinct from papers", "1"},
		{"papers = null", "null"},
		{"id in (1, 7)", "1"}, {"id not in (1, 2)", "1"}, {"id between 7 and 8", "1"}, {"id not between 7 and 8", "0"},
		{"not id = 7", "0"}, {"not (id = 7 and name = 'x')", "1"},
		{"1 = 1 and 2 = 3 or 4 = 4", "1"}, {"1 = 1 and (2 = 3 or 4 = 5)", "0"},
		{"case when id > 5 then 'big' else 'small' end", "big"}, {"case id when 7 then 'seven' end", "seven"},
		{"case when id < 5 then 1 end", "null"},
		{"coalesce(papers, name)", "Tern"}, {"nullif(name, 'Tern')", "null"}, {"greatest(1, id)", "7"}, {"least(1, id)", "1"},
		{"greatest(id)", "7"},
		{"cast(2.7 as integer)", "3"}, {"cast(-2.5 as integer)", "-3"}, {"cast('12' as integer)", "12"},
		{"cast(' -7 ' as integer)", "-7"}, {"cast('1.50' as numeric(6,1))", "1.5"},
		{"cast(id as varchar(3)) || '!'", "7!"}, {"cast('true' as boolean)", "1"}, {"cast('false' as boolean)", "0"},
		{"cast(0 as boolean)", "0"}, {"cast(seen as date)", "2031-01-31"},
		{"cast(sailed as timestamp)", "2031-01-31 00:00:00"},
		{"abs(-3)", "3"}, {"round(2.345, 2)", "2.35"}, {"floor(2.7)", "2"}, {"ceiling(2.1)", "3"}, {"power(2, 3)", "8"},
		{"extract(year from sailed)", "2031"}, {"extract(month from seen)", "1"}, {"extract(minute from seen)", "20"},
		{"sailed + interval '1' day", "2031-02-01"}, {"seen - interval '2' hour", "2031-01-31 08:20:30"},
		{"date '2031-03-01' + interval '30' day", "2031-03-31"},
		{`"Two Words" * 2`, "5"}, {"exists (select 1 from ship where id = 7)", "1"}, {"(select name from ship)", "Tern"},
		{"id in (select id from ship)", "1"},
		{"true and not false", "1"}, {"x'00ff' = x'00FF'", "1"}, {"1e2", "100"},
		{"current_timestamp = '2031-05-01 06:00:00'", "1"}, {"current_date = '2031-05-01'", "1"},
		{"'a' = 'a' collate nocase", "1"}, {"('A' collate nocase) = 'a'", "1"},
	}
	for _, c := range cases {
		r := renderer{table: ship, strict: true, now: "'2031-05-01 06:00:00'"}
		sql := r.expr(parse(t, c.expr), bindOr)
		if r.err != nil {
			t.Errorf("%s: %v", c.expr, r.err)
			continue
		}
		rows, err := m.query(context.Background(), "select "+sql+" from ship")
		if err != nil {
			t.Errorf("%s, as %s: %v", c.expr, sql, err)
			continue
		}
		got := "null"
		if v := rows.Values[0][0]; v != nil {
			got = strings.TrimSuffix(fmt.Sprint(v), ".0")
		}
		if got != c.want {
			t.Errorf("%s, as %s: wanted %s, got %s", c.expr, sql, c.want, got)
		}
	}
}

func TestExpressionsThatHaveNoEqual(t *testing.T) {
	for _, text := range []string{"sailed + interval '1' month", "sailed - interval '2' year", "interval '1' day",
		"sailed + interval 'x' day"} {
		if err := (Engine{}).Portable(ship, parse(t, text)); err == nil {
			t.Errorf("%s was accepted", text)
		}
	}
}

// TestCastsFailInsteadOfGuessing is that a text that is no number is never made
// one, where Lastboard itself computes.
func TestCastsFailInsteadOfGuessing(t *testing.T) {
	m := memoryWith(t)
	for _, text := range []string{"cast('12x' as integer)", "cast('' as integer)", "cast('1.5' as integer)",
		"cast('x' as numeric(5,2))", "cast('1.2.3' as real)", "cast('-' as integer)"} {
		r := renderer{strict: true}
		_, err := m.query(context.Background(), "select "+r.expr(parse(t, text), bindOr))
		if err == nil || !strings.Contains(err.Error(), "cannot become") {
			t.Errorf("%s: wanted an error that says what cannot become what, got %v", text, err)
		}
	}
}

// TestStoredTextIsReadBackAsItsTree is that what Lastboard makes SQLite keep is
// recognised, and what means something else in the language is not.
func TestStoredTextIsReadBackAsItsTree(t *testing.T) {
	for _, text := range []string{"id > 0 and name <> ''", "upper(name) || '-'", "coalesce(length_ft, 0) * 2",
		"id between 1 and 5", "case when id = 1 then 'a' else 'b' end", "not (id = 1 or id = 2)"} {
		rendered := render(ship, parse(t, text))
		tree, err := portable(ship, rendered)
		if err != nil {
			t.Errorf("%s, kept as %s, is not recognised: %v", text, rendered, err)
		} else if got := sqltext.PrintExpr(tree); got != text {
			t.Errorf("%s, kept as %s, is read as %s", text, rendered, got)
		}
	}
	for _, text := range []string{"name || id + 1", "length_ft / 2", "name like 'a%'", "id << 2", "name regexp 'x'",
		"json_extract(name, '$.a') -> 1", "id == 1 is 1"} {
		if tree, err := portable(ship, text); err == nil {
			t.Errorf("%s was taken for %s, which means something else", text, sqltext.PrintExpr(tree))
		}
	}
}

func TestRowsThatCannotBeNullNeedNoProof(t *testing.T) {
	p := newPlanner(engine.Facts{}, ship)
	for text, want := range map[string]bool{
		"name": false, "papers": true, "upper(name) || '-' || cast(id as text)": false, "name || papers": true,
		"id + 1": false, "id / 2": true,
		"concat(papers)": false, "cast(name as integer)": true, "substring(name from 1 for 3)": false,
		"nullif(name, 'x')": true, "null": true,
		"trim(name)": false, "case when id = 1 then 1 end": true, "(select 1)": true, "current_timestamp": false,
		"something(name)": true,
	} {
		if got := p.MayBeNull(parse(t, text)); got != want {
			t.Errorf("%s: may be null %v, wanted %v", text, got, want)
		}
	}
}
