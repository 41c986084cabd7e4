package test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// shadow is a SQLite database beside its plain copy: what programs do by old and new names on the one is
// played by the old names on the other.
type shadow struct {
	*testing.T
	both, plain *sql.Conn
	r           *rand.Rand
	names       [][2]string // old and new
}

// word gives a value that often meets another one.
func (s *shadow) word() string {
	return []string{"'none'", "'Kiel'", "'kiel'", "'KIEL '", "'a'", "'b'", "'c'", "'d'", "''", "7", "'7'",
		"'07'"}[s.r.IntN(12)]
}

// statement gives one with NAME, FLAG, MARK and SIZE for the columns that have two names.
func (s *shadow) statement() string {
	id, w := 1+s.r.IntN(25), s.word
	flag := []string{w(), w(), "null"}[s.r.IntN(3)]
	clause := []string{"", "", " or ignore", " or replace", " or fail", " or abort", " or rollback"}[s.r.IntN(7)]
	size := fmt.Sprint([]int{1, 2, 3, 999_999}[s.r.IntN(4)])
	switch s.r.IntN(18) {
	case 0, 1:
		return fmt.Sprintf("insert%s into vessel (id, NAME, FLAG, MARK, SIZE) values (%d, %s, %s, %s, %s)", clause, id,
			w(), flag,
			w(), size)
	case 2:
		return fmt.Sprintf("insert%s into vessel (NAME, MARK, FLAG) values (%s, %s, %s), (%s, %s, %s)", clause, w(), w(),
			flag,
			w(), w(), w())
	case 3:
		return fmt.Sprintf("insert%s into vessel (id, MARK) values (%d, %s)", clause, id, w())
	case 4:
		return fmt.Sprintf("insert into vessel (id, NAME, MARK, FLAG) values (%d, %s, %s, %s) on conflict (id) do "+
			"update set "+
			"NAME = excluded.NAME, MARK = excluded.MARK", id, w(), w(), flag)
	case 5:
		return fmt.Sprintf("insert into vessel (id, MARK, FLAG) values (%d, %s, %s) on conflict (FLAG) do update set tons = "+
			"tons + 1, NAME = excluded.NAME", id, w(), w())
	case 6:
		return fmt.Sprintf("insert into vessel (MARK, FLAG) values (%s, %s) on conflict do nothing", w(), w())
	case 7:
		return fmt.Sprintf("replace into vessel (id, NAME, FLAG, MARK, tons) values (%d, %s, %s, %s, 3)", id, w(), flag, w())
	case 8, 9:
		return fmt.Sprintf("update%s vessel set NAME = %s where id = %d", clause, w(), id)
	case 10:
		return fmt.Sprintf("update%s vessel set FLAG = %s where id in (%d, %d)", clause, flag, id, id+1)
	case 11:
		return fmt.Sprintf("update%s vessel set FLAG = %s, MARK = MARK || 'x', tons = 4 where id < %d", clause, w(), id)
	case 12:
		return fmt.Sprintf("update vessel set tons = tons + 1 where id > %d", id)
	case 13:
		return fmt.Sprintf("update vessel set NAME = NAME, FLAG = FLAG, MARK = MARK, tons = 77 where id = %d", id)
	case 14:
		return fmt.Sprintf("delete from vessel where id = %d", id)
	case 15:
		return fmt.Sprintf("update%s vessel set id = id + %d, NAME = %s where id = %d", clause, 1+s.r.IntN(3), w(), id)
	case 16:
		return fmt.Sprintf("update%s vessel set SIZE = SIZE * %d where id < %d", clause, 1+s.r.IntN(2), id)
	}
	return fmt.Sprintf("update vessel set NAME = (select NAME from vessel where id = %d), SIZE = %s where id = %d",
		id+1, size, id)
}

// play does one statement on both, and wants the same of both.
func (s *shadow) play() {
	s.Helper()
	text := s.statement()
	old, both := text, text
	for i, marker := range []string{"NAME", "FLAG", "MARK", "SIZE"} {
		old = strings.ReplaceAll(old, marker, s.names[i][0])
		both = strings.ReplaceAll(both, marker, s.names[i][s.r.IntN(2)])
	}
	if s.r.IntN(20) == 0 {
		for _, c := range []*sql.Conn{s.both, s.plain} {
			s.do(c, "pragma recursive_triggers = "+fmt.Sprint(s.r.IntN(2)))
		}
	}
	wrong, right := s.do(s.both, both), s.do(s.plain, old)
	if (wrong == nil) != (right == nil) {
		s.Fatalf("%s: %v; without other names it is %v", both, wrong, right)
	}
	if n := s.text(s.both, "select count(*) from vessel where hex(name) is not hex(title) or flag is not colours or "+
		"typeof(flag) <> typeof(colours) or mark is not sign or size is not extent"); n != "0" {
		s.Fatalf("%s: %s rows differ by their two names", both, n)
	}
	const rows = "select group_concat(row, '|') from (select id || ',' || hex(name) || ',' || coalesce(hex(flag), " +
		"'-') || ',' || " +
		"hex(mark) || ',' || size || ',' || tons as row from vessel order by id)"
	if now, want := s.text(s.both, rows), s.text(s.plain, rows); now != want {
		s.Fatalf("%s: the rows are\n%s\nand should be\n%s", both, now, want)
	}
}

// do does a statement.
func (s *shadow) do(c *sql.Conn, text string) error {
	_, err := c.ExecContext(context.Background(), text)
	return err
}

func (s *shadow) text(c *sql.Conn, query string) string {
	var v sql.NullString
	if err := c.QueryRowContext(context.Background(), query).Scan(&v); err != nil {
		s.Fatal(err)
	}
	return v.String
}

// TestTwoNamesOnSQLite plays thousands of random statements by two names of four columns, with every
// clause for conflicts: each does what it would have done by the one name on a database without others, and
// in no row do the names differ.
func TestTwoNamesOnSQLite(t *testing.T) {
	beside(t)
	seeds, many := uint64(2), 1500
	if *allKinds {
		seeds, many = 8, 4000
	}
	for seed := range seeds {
		seed += uint64(*day) * seeds
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 5))
			table := "create table vessel (id integer primary key, name varchar(20) not null default 'none' collate nocase, " +
				"flag varchar(40) unique, mark text not null, size integer not null default 1 constraint vessel_size_limit check " +
				"(typeof(size) in ('integer', 'null') and size between -2147483648 and 2147483647), tons integer not null " +
				"default 0)"
			statements := []string{table, "create index by_name on vessel (name)", "create table seen (id)"}
			if seed%2 == 0 { // triggers of the application, which write the row once more
				statements = append(statements, "create trigger counts after update of id on vessel begin update vessel set "+
					"tons = "+
					"tons + 1 where id = new.id; end", "create table yard (id integer primary key, n integer)",
					"insert into yard values (1, 0)", "create trigger goes after update of tons on vessel begin update yard set n = "+
						"new.tons; end", "create trigger comes after update on yard begin update vessel set name = 'n' || new.n, flag = "+
						"flag || 'f' where id = 1 + new.n % 9; end")
			}
			o := newOffice(t, append([]string{"pragma journal_mode = wal"}, statements...)...)
			o.must("adopt", "--yes")
			o.paced("")
			copied := newOffice(t, statements...)
			o.migration("0002-names", "-- Other names\nalter table vessel rename column name to title, rename column flag to "+
				"colours, rename column mark to sign, rename column size to extent;\n")
			o.wants(o.code(0, "advance", "--yes"), "0002 is open")
			db, plain := o.open(), copied.open()
			defer db.Close()
			defer plain.Close()
			s := &shadow{T: t, r: r, names: [][2]string{{"name", "title"}, {"flag", "colours"}, {"mark", "sign"},
				{"size", "extent"}}}
			var err error
			if s.both, err = db.Conn(t.Context()); err == nil {
				s.plain, err = plain.Conn(t.Context())
			}
			if err != nil {
				t.Fatal(err)
			}
			for range many {
				s.play()
			}
			o.must("audit")
			o.must("settle", "--yes")
			o.must("audit")
			o.must("retreat", "--to", "1", "--yes", "--settle")
			o.must("audit")
		})
	}
}
