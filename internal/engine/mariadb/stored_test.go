package mariadb

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"lastboard/internal/engine/enginetest"
	"lastboard/internal/schema"
	"lastboard/internal/sqltext"
)

var words = &schema.Table{Name: "call", Columns: []*schema.Column{{Name: "flag", Type: sqltext.Type{Name: "boolean"}},
	{Name: "n", Type: sqltext.Type{Name: "integer"}}, {Name: "s", Type: sqltext.Type{Name: "text"}}}}

// TestWordsOfTheServer is that an expression as the server shows it is read as what the
// language calls it, and left alone where the language has no words for it or binds in
// another way.
func TestWordsOfTheServer(t *testing.T) {
	for text, want := range map[string]string{
		"concat(`s`,'!\\'\\\\x')":                  `s || '!''\x'`,
		"`n` DIV nullif(`n`,0)":                    "n / n",
		"`n` MOD 4":                                "n % 4",
		"!(`n` <=> 3)":                             "n is distinct from 3",
		"`n` <=> NULL":                             "n is not distinct from null",
		"`n` not between -10 and 3":                "n not between -10 and 3",
		"`s` like '1%' escape '|'":                 "s like '1%'",
		"`s`  not like '%!_x' escape '!'":          "s not like '%!_x' escape '!'",
		"cast(`n` as char charset utf8mb4 binary)": "cast(n as text)",
		"cast(`s` as decimal(12,2))":               "cast(s as numeric(12,2))",
		"`s` + interval 1 day":                     "s + interval '1' day",
		"`s` - interval -90 second":                "s - interval '-90' second",
		"substr(`s`,2,3)":                          "substring(s from 2 for 3)",
		"locate('s',`s`)":                          "position('s' in s)",
		"trim(both ' ' from `s`)":                  "trim(s)",
		"ucase(`s`)":                               "upper(s)",
		"pow(2,10)":                                "power(2, 10)",
		"`flag` = 0":                               "not flag",
		"`flag` <> 0 or `n` is null":               "flag or n is null",
		"timestampdiff(SECOND,TIMESTAMP'1970-01-01 00:00:00',`s`)": "extract(epoch from s)",
		"round(cast(`n` * 1.2 as decimal(65,15)),2)":               "round(n * 1.2, 2)",
		"current_timestamp(6)":                                     "current_timestamp",
		"case `n` when 3 then 'three' else `s` end":                "case n when 3 then 'three' else s end",
		"`n` = 1 is null":                                          "", // which binds in another way
		"cast(`n` as unsigned)":                                    "",
		"cast(`s` as char(3) charset utf8mb4)":                     "",
		"`s` -> '$.a'":                                             "",
		"`n` in (select 1)":                                        "",
		"trim(trailing '.' from cast(`s` as char charset latin1))": "trim(trailing '.' from cast(s as text))",
		"`s` > DATE'2000-01-01' and `n` <= 5 and `s` is not null": "s > date '2000-01-01' and n <= 5 and s " +
			"is not null",
		"`n` - (`n` - 3)": "n - (n - 3)",
		"(cast(`n` as char charset utf8mb4 binary) collate utf8mb4_nopad_bin)": "cast(n as text)",
	} {
		got := ""
		if e := tree(ansi(text), words); e != nil {
			got = sqltext.PrintExpr(e)
		}
		if got != want {
			t.Errorf("%s is read as %q, and is %q", text, got, want)
		}
	}
}

// TestTypesOfTheServer is that a type is read as the one that it was written for, and
// kept as it is where the language has another width for it.
func TestTypesOfTheServer(t *testing.T) {
	for shown, want := range map[string][2]string{
		"int(11)": {"integer", ""}, "int(10) unsigned": {"integer unsigned", ""}, "int(5)": {"integer", "int(5)"},
		"tinyint(1)": {"boolean", ""}, "tinyint(4)": {"tinyint", ""},
		"bigint(20)": {"bigint", ""}, "decimal(9,2)": {"numeric(9,2)", ""}, "decimal(65,30)": {"numeric", ""},
		"double": {"double precision", ""}, "float": {"real", ""}, "varchar(40)": {"varchar(40)", ""},
		"longtext": {"text", ""}, "text": {"text", "text"}, "datetime": {"timestamp", "datetime"},
		"datetime(6)": {"timestamp", ""}, "timestamp(3)": {"timestamp with time zone", "timestamp(3)"},
		"enum('a','b''c')": {"enum('a', 'b''c')", ""}, "binary(16)": {"varbinary(16)", "binary(16)"}, "uuid": {"uuid", ""},
		"mediumint(9)": {`"mediumint(9)"`, ""}, "geometry": {"geometry", ""},
	} {
		got, declared := readType(shown)
		if got.String() != want[0] || declared != want[1] {
			t.Errorf("%s is read as %s, declared %q; it is %s, declared %q", shown, got, declared, want[0], want[1])
		}
		c := &schema.Column{Name: "c", Type: got, Declared: declared}
		if written := declaration(c); written != shown {
			t.Errorf("%s would be written as %s", shown, written)
		}
	}
}

// TestURLs is what of a URL, the environment and an option file makes a connection.
func TestURLs(t *testing.T) {
	file := filepath.Join(t.TempDir(), "options")
	if err := os.WriteFile(file, []byte("[mysql]\nuser=other\n[client-mariadb]\nuser = "+
		"'mate'\npassword=tidewater\nport = 3310\nhost=db.example\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("MYSQL_PWD", "")
	t.Setenv("HOME", t.TempDir())
	for url, want := range map[string]string{
		"mariadb://a:b@db:3307/harbour":                           "a b tcp db:3307 harbour",
		"mysql://a@db/harbour":                                    "a  tcp db:3306 harbour",
		"mariadb://a@/harbour?socket=/run/s":                      "a  unix /run/s harbour",
		"mariadb:///harbour?option-file=" + file:                  "mate tidewater tcp db.example:3310 harbour",
		"mariadb://me@db/harbour?option-file=" + file:             "me tidewater tcp db:3310 harbour",
		"mariadb://a@db":                                          "it names no database",
		"mariadb://a@db/x?tls=maybe":                              "is none of",
		"mariadb://a@db/x?tls=verify&tls-ca=" + file:              "holds no certificate",
		"mariadb://a@db/x?option-file=" + file + ".there-is-none": "no such file",
	} {
		c, err := configure(url)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			got = strings.Join([]string{c.User, c.Passwd, c.Net, c.Addr, c.DBName}, " ")
		}
		if err == nil && got != want || err != nil && !strings.Contains(got, want) {
			t.Errorf("%s: %s, wanted %s", url, got, want)
		}
	}
}

func TestChecksOfColumns(t *testing.T) {
	for clause, want := range map[string][]carried{
		"`a` > 0 and `b` < 1":                            {{"", `"a" > 0 and "b" < 1`}},
		"'constraint x' <> '' and `a` > 0":               {{"x", `"a" > 0`}},
		"'constraint x' <> '' and (`a` > 0 or `b` < 1)":  {{"x", `"a" > 0 or "b" < 1`}},
		"'constraint x' <> '' and (`a` > 0) + (`b` < 1)": {{"x", `("a" > 0) + ("b" < 1)`}},
		"`a` in (0,1) and 'constraint it\\'s' <> '' and `a` between 1 and 2 and `b` = 3 and 'constraint y' <> '' and " +
			"case when `a` and `b` then 1 else 0 end": {
			{"", `"a" in (0,1)`}, {"it's", `"a" between 1 and 2 and "b" = 3`}, {"y", `case when "a" and "b" then 1 else 0 end`}},
		"`a` <> 'constraint x'": {{"", `"a" <> 'constraint x'`}},
	} {
		if got := splitChecks(ansi(clause)); !slices.Equal(got, want) {
			t.Errorf("%s is %q, wanted %q", clause, got, want)
		}
	}
}

// FuzzWire is a server that answers at random.
func FuzzWire(f *testing.F) {
	hello := "Y\x00\x00\x00\n5.5.5-10.11.9-MariaDB\x00\x01\x00\x00\x0012345678\x00\x0d\xa2\x21\x02\x00" +
		"\x08\x00\x15\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00" +
		"123456789012\x00mysql_native_password\x00"
	fine := "\x07\x00\x00\x02\x00\x00\x00\x02\x00\x00\x00"
	enginetest.FuzzWire(f, Engine{}, func(address string) string {
		return "mariadb://pilot@" + address + "/harbour?tls=off"
	},
		"", hello, hello+fine, hello+fine+"\x07\x00\x00\x01\x00\x00\x00\x02\x00\x00\x00",
		hello+"\x16\x00\x00\x02\xff\x15\x04#28000Access denied", hello+fine+"\xff\xff\xff\x01", "\x01\x00\x00\x00\xff",
		hello+fine+"\x01\x00\x00\x01\x01")
}
