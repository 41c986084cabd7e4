package test

import (
	"fmt"
	"strings"
	"testing"
)

// edges are rows with values at the edges of what the types hold: null, empty, negative,
// huge, beyond ASCII, and the ends of months and years.
var edges = []string{
	"insert into edge (id, s, n, b, d, f, t, day, flag) values (1, null, null, null, null, null, null, null, null)",
	"insert into edge (id, s, n, b, d, f, t, day, flag) values (2, '', 0, 0, 0, 0, '1970-01-01 00:00:00', " +
		"'1970-01-01', false)",
	"insert into edge (id, s, n, b, d, f, t, day, flag) values (3, ' Größe ', -7, -9007199254740991, -1234.56, -2.5, " +
		"'2031-12-31 23:59:59', '2031-12-31', true)",
	"insert into edge (id, s, n, b, d, f, t, day, flag) values (4, '12', 2147483647, 9007199254740991, 9999999.99, " +
		"1234567.125, '2032-02-29 12:30:15', '2032-02-29', true)",
	"insert into edge (id, s, n, b, d, f, t, day, flag) values (5, 'it''s 5% of_x', -2147483648, 1, 0.01, 0.5, " +
		"'1999-02-28 00:00:01', '1999-02-28', false)",
	"insert into edge (id, s, n, b, d, f, t, day, flag) values (6, 'группа', 3, 3, 2.50, 3.5, '2038-01-19 03:14:08', " +
		"'2038-01-20', true)",
}

const edgeTable = "-- Edges\ncreate table edge (id integer primary key, s text, n integer, b bigint, d " +
	"numeric(9,2), f double precision, t timestamp, day date, flag boolean);\n"

// everyExpression is each form of the language with the type of its column.
var everyExpression = []struct{ kind, text string }{
	{"bigint", "cast(n as bigint) + 1"}, {"bigint", "cast(n as bigint) - b"}, {"bigint", "n * 1"}, {"integer", "n / 2"},
	{"integer", "n / 0"}, {"integer", "n % 4"}, {"integer", "mod(n, 3)"}, {"integer", "-7 / 2"},
	{"numeric(12,2)", "d + 1"}, {"numeric(12,4)", "round(d / 3, 4)"}, {"numeric(12,2)", "d * 2"}, {"numeric(12,2)", "-d"},
	{"double precision", "f / 2"}, {"double precision", "f * f"}, {"double precision", "d / 0"},
	{"text", "s || '!'"}, {"text", "concat(s, '-', n)"}, {"text", "concat(s, null)"},
	{"text", "upper(case when id not in (3, 6) then s else 'abc' end)"}, {"text", "lower(coalesce(s, 'ABC'))"},
	{"text", "trim(s)"}, {"text", "ltrim(s)"}, {"text", "rtrim(s)"},
	{"text", "trim(both 'i' from s)"}, {"text", "trim(leading ' ' from s)"}, {"text", "substring(s from 2 for 3)"},
	{"text", "substring(s from 2)"}, {"text", "substring(s from 0 for 2)"}, {"text", "substring(s from -1 for 4)"},
	{"text", "substring(s from 1 for char_length(s) - 1)"}, {"integer", "position('s' in s)"},
	{"integer", "char_length(s)"}, {"text", "replace(s, 's', 'ss')"}, {"text", "left(s, 2)"},
	{"boolean", "n > 0"}, {"boolean", "s = '12'"}, {"boolean", "s <> ''"}, {"boolean", "n is null"},
	{"boolean", "s is not null"}, {"boolean", "n is distinct from 3"}, {"boolean", "n is not distinct from null"},
	{"boolean", "n in (0, 3)"}, {"boolean", "n not in (0, 3)"}, {"boolean", "n between -10 and 3"},
	{"boolean", "n not between -10 and 3"}, {"boolean", "s like '1%'"}, {"boolean", "s like '%\\_x' escape '\\'"},
	{"boolean", "s like '%!_x' escape '!'"}, {"boolean", "s like '%GR%'"}, {"boolean", "s not like '%s%'"},
	{"boolean", "not flag"}, {"boolean", "flag and n > 0"}, {"boolean", "flag or n is null"},
	{"text", "case when n < 0 then 'low' when n = 0 then 'none' else 'high' end"},
	{"text", "case n when 3 then 'three' end"}, {"text", "coalesce(s, 'none')"}, {"integer", "nullif(n, 0)"},
	{"integer", "greatest(n, 5)"}, {"integer", "least(n, 5)"}, {"integer", "greatest(n, id)"}, {"bigint", "abs(b)"},
	{"numeric(12,1)", "round(d, 1)"}, {"integer", "round(f)"}, {"bigint", "floor(d)"}, {"bigint", "ceiling(d)"},
	{"double precision", "power(2, 10)"}, {"text", "cast(n as text)"}, {"text", "cast(d as text)"},
	{"text", "cast(b as varchar(30))"}, {"integer", "cast(f as integer)"}, {"integer", "cast(d as integer)"},
	{"integer", "cast(case when s = '12' then s end as integer)"},
	{"numeric(9,2)", "cast(case when s = '12' then s end as numeric(9,2))"},
	{"double precision", "cast(n as double precision)"}, {"text", "cast(day as text)"},
	{"text", "cast(t as text)"}, {"date", "cast(t as date)"}, {"timestamp", "cast(day as timestamp)"},
	{"date", "day + interval '1' day"}, {"date", "day - interval '30' day"}, {"timestamp", "t + interval '36' hour"},
	{"timestamp", "t - interval '90' second"}, {"integer", "extract(year from t)"}, {"integer", "extract(month from day)"},
	{"integer", "extract(day from t)"}, {"integer", "extract(hour from t)"}, {"integer", "extract(minute from t)"},
	{"integer", "extract(second from t)"}, {"bigint", "extract(epoch from t)"}, {"boolean", "day < date '2000-01-01'"},
	{"boolean", "t >= timestamp '2031-12-31 23:59:59'"}, {"integer", "cast(flag as integer)"},
	{"boolean", "cast(n % 2 as boolean)"}, {"boolean", "cast(cast(flag as text) as boolean)"},
	{"boolean", "cast(case when n > 0 then 'true' when n < 0 then '0' end as boolean)"},
	{"text", "cast(flag as text)"},
}

// TestExpressionsAgree computes each form of expression on every engine, over rows at
// the edges, and stores what it can as a computed column: the values are the same.
func TestExpressionsAgree(t *testing.T) {
	beside(t)
	for start := 0; start < len(everyExpression); start += 12 {
		part := everyExpression[start:min(start+12, len(everyExpression))]
		if !itsTurn(start/12, 3) {
			continue
		}
		t.Run(fmt.Sprint(start), func(t *testing.T) {
			var using, stored []string
			for i, e := range part {
				using = append(using, fmt.Sprintf("  add column e%d %s using (%s)", start+i, e.kind, e.text))
				if !strings.Contains(e.text, " as text)") {
					stored = append(stored, fmt.Sprintf("  add column g%d %s generated always as (%s) stored", start+i, e.kind,
						e.text))
				}
			}
			list := wharves(t, nil, edgeTable, edges...)
			for _, o := range list {
				o.migration("0002-using", "-- Computed once\nalter table edge\n"+strings.Join(using, ",\n")+";\n")
				o.migration("0003-stored", "-- Computed always\nalter table edge\n"+strings.Join(stored, ",\n")+";\n")
				o.must("advance", "--yes")
			}
			rowsAgree(t, list, "edge", part, start)
			for _, o := range list {
				o.must("retreat", "--to", "1", "--yes")
			}
			agree(t, list, "after the way back")
		})
	}
}

// rowsAgree compares the values of one table, and says for a column that differs which
// expression it holds.
func rowsAgree(t *testing.T, list []*office, table string, part []struct{ kind, text string }, start int) {
	t.Helper()
	for i, e := range part {
		for _, letter := range []string{"e", "g"} {
			column := fmt.Sprintf("%s%d", letter, start+i)
			if letter == "g" && strings.Contains(e.text, " as text)") {
				continue
			}
			types := map[string]string{column: e.kind, "id": "integer"}
			first := list[0].rows(table, []string{`"id"`, quoted(column)}, types)
			for _, o := range list[1:] {
				if got := o.rows(table, []string{`"id"`, quoted(column)}, types); got != first {
					t.Errorf("%s (%s as %s): one engine has\n%sanother\n%s", e.text, column, e.kind, first, got)
				}
			}
		}
	}
}
