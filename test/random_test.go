package test

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
)

var (
	seeds     = flag.Int("seeds", 400, "how many random databases to take through four migrations, forward and back")
	firstSeed = flag.Uint64("seed", 1, "the first seed")
)

// TestRandomForwardAndBack makes random tables with rows, runs random migrations,
// takes them back, and runs them again. Back gives the start, again gives what
// forward gave, and what is refused changes nothing.
func TestRandomForwardAndBack(t *testing.T) {
	var ran, refused atomic.Int64
	t.Run("seeds", func(t *testing.T) {
		for i := range *seeds {
			seed := *firstSeed + uint64(i)
			t.Run(fmt.Sprint("seed=", seed), func(t *testing.T) {
				a, b := forwardAndBack(t, seed)
				ran.Add(int64(a))
				refused.Add(int64(b))
			})
		}
	})
	t.Logf("%d migrations ran, %d were refused", ran.Load(), refused.Load())
	if ran.Load() < refused.Load() {
		t.Errorf("only %d of %d migrations ran: the test has lost its aim", ran.Load(), ran.Load()+refused.Load())
	}
}

func forwardAndBack(t *testing.T, seed uint64) (ran, refused int) {
	g := &generator{rand.New(rand.NewPCG(seed, 7))}
	o := adopted(t, g.database()...)
	if g.chance(50) {
		// Writers may not wait at all: what can run in batches does.
		o.write("lastboard.toml", "database = 'dev'\n[databases.dev]\nurl = 'sqlite:harbour.db'\n[databases.dev.pace]\nlock_wait = '1ns'\nbatch_time = '1ms'\n")
	}
	start := o.snapshot()
	for n := range 4 {
		var doc described
		if err := json.Unmarshal([]byte(o.must("describe", "--json")), &doc); err != nil {
			t.Fatal(err)
		}
		text := g.migration(doc)
		name := fmt.Sprintf("%04d-change", n+2)
		o.migration(name, text)
		before := o.snapshot()
		r := o.run("advance", "--yes")
		switch r.code {
		case 0:
			ran++
		case 3, 4:
			refused++
			if strings.Contains(r.stdout+r.stderr, "would not lead to") {
				t.Fatalf("%s\n%s", o.history(), r) // the plan is wrong, not the migration
			}
			if r.code == 4 { // a statement refused what one before it had made of the rows
				o.must("retreat", "--to", fmt.Sprint(n+1), "--yes")
			}
			o.unchanged(before)
			o.migration(name, "-- refused\n")
			o.must("advance", "--yes")
		default:
			t.Fatalf("%s\n%s", text, r)
		}
		if t.Failed() {
			t.Fatalf("after %s", text)
		}
	}
	end := o.snapshot()
	if r := o.run("retreat", "--to", "1", "--yes"); r.code != 0 {
		t.Fatalf("%s\n%s", r, o.history())
	}
	if back := o.snapshot(); back != start {
		t.Fatalf("the way back does not lead to the start: %s\n%s", firstDifference(start, back), o.history())
	}
	o.must("advance", "--yes")
	if again := o.snapshot(); again != end {
		t.Fatalf("the second time forward differs from the first: %s\n%s", firstDifference(end, again), o.history())
	}
	return ran, refused
}

// history is the migrations that were written, for a message.
func (o *office) history() string {
	files, err := filepath.Glob(filepath.Join(o.dir, "migrations", "*"))
	if err != nil {
		o.Fatal(err)
	}
	var b strings.Builder
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			o.Fatal(err)
		}
		b.WriteString(filepath.Base(f) + "\n" + string(text))
	}
	return b.String()
}

type described struct {
	Tables []struct {
		Name    string
		Columns []struct {
			Name, Type string
			Nullable   bool
			Generated  *struct{}
		}
		PrimaryKey  []string `json:"primary_key"`
		Unique      []struct{ Name string }
		Checks      []struct{ Name string }
		ForeignKeys []struct{ Name string } `json:"foreign_keys"`
		Indexes     []struct{ Name string }
	}
}

// generator makes tables, rows and migrations.
type generator struct{ *rand.Rand }

func (g *generator) one(list ...string) string { return list[g.IntN(len(list))] }

func (g *generator) chance(percent int) bool { return g.IntN(100) < percent }

func quoted(n string) string { return `"` + strings.ReplaceAll(n, `"`, `""`) + `"` }

var columnNames = []string{"name", "flag", "length", "order", "Remarks", "two words", "größe", `a"b`, "группа", "select", "depth", "dues"}

// database makes the statements of another program.
func (g *generator) database() []string {
	var list []string
	parent := ""
	for t := range 2 {
		table := []string{"vessel", "port call"}[t]
		lines := []string{"id integer primary key" + g.one("", "", " autoincrement")}
		tail := ""
		switch g.IntN(6) {
		case 0:
			lines, tail = []string{"id text not null primary key"}, " without rowid"
		case 1:
			lines = []string{"a int not null", "b text not null", "primary key (a, b)"}
		case 2:
			lines = []string{"id uuid not null primary key"}
		}
		if t == 0 {
			parent = lines[len(lines)-1]
		}
		var columns, constraints []string
		for i, c := range g.Perm(len(columnNames))[:2+g.IntN(4)] {
			name := columnNames[c]
			columns = append(columns, name)
			lines = append(lines, quoted(name)+" "+g.columnType()+g.one("", "", " default 'x'", " default 7", " not null default 0", " collate nocase", " unique", " constraint nn not null default 1"))
			if g.chance(15) {
				constraints = append(constraints, g.one("", fmt.Sprintf("constraint c%d ", i))+"check ("+quoted(name)+" <> 'never')")
			}
		}
		if g.chance(25) {
			lines = append(lines, "computed text generated always as ("+quoted(columns[0])+" || '!')"+g.one("", " stored"))
		}
		if t == 1 && g.chance(60) && !strings.HasPrefix(parent, "primary") {
			lines = append(lines, "parent integer"+g.one(" references vessel on delete cascade", ""))
		}
		// Constraints of the table stand behind its columns.
		var head, rest []string
		for _, l := range lines {
			if strings.HasPrefix(l, "primary key (") {
				rest = append(rest, l)
			} else {
				head = append(head, l)
			}
		}
		list = append(list, "create table "+quoted(table)+" ("+strings.Join(append(append(head, rest...), constraints...), ", ")+")"+tail)
		if g.chance(50) {
			list = append(list, "create "+g.one("", "")+"index "+quoted("by "+table)+" on "+quoted(table)+" ("+quoted(columns[0])+g.one("", " desc", " collate rtrim")+")"+
				g.one("", " where "+quoted(columns[0])+" is not null"))
		}
		if g.chance(30) {
			list = append(list, "create view "+quoted("all "+table)+" as select "+quoted(columns[0])+" from "+quoted(table))
		}
		if g.chance(30) {
			list = append(list, "create trigger "+quoted("on "+table)+" after delete on "+quoted(table)+" begin select old."+quoted(columns[len(columns)-1])+"; end")
		}
		list = append(list, g.rows(table, lines[0], columns)...)
	}
	return list
}

func (g *generator) columnType() string {
	return g.one("text", "integer", "varchar(20)", "VARCHAR(10)", "numeric(8,2)", "real", "blob", "timestamp", "INT", "boolean", "", "date")
}

func (g *generator) value() string {
	return g.one("null", "1", "-5", "'a'", "''", "'it''s'", "'größer'", "9223372036854775807", "2.5", "x'00ff'", "'2031-05-01'", "'007'", "'  '")
}

// rows inserts what the table takes, and leaves out what it refuses.
func (g *generator) rows(table, first string, columns []string) []string {
	var list []string
	for i := range g.IntN(12) {
		names, values := []string{"id"}, []string{fmt.Sprint(i*3 + 1)}
		switch {
		case strings.HasPrefix(first, "a int"):
			names, values = []string{"a", "b"}, []string{fmt.Sprint(i % 2), fmt.Sprintf("'k%d'", i)}
		case strings.HasPrefix(first, "id text"), strings.HasPrefix(first, "id uuid"):
			values = []string{fmt.Sprintf("'k%d'", i)}
		}
		for _, c := range columns {
			names, values = append(names, quoted(c)), append(values, g.value())
		}
		list = append(list, "insert or ignore into "+quoted(table)+" ("+strings.Join(names, ", ")+") values ("+strings.Join(values, ", ")+")")
	}
	return list
}

// migration makes a migration of one to three statements for tables as they are.
func (g *generator) migration(doc described) string {
	var b strings.Builder
	b.WriteString("-- A random change\n")
	for range 1 + g.IntN(2) {
		b.WriteString(g.statement(doc) + ";\n")
	}
	return b.String()
}

func (g *generator) statement(doc described) string {
	if len(doc.Tables) == 0 || g.chance(10) {
		return fmt.Sprintf("create table made_%d (id integer primary key%s, name varchar(10) not null default 'new', n numeric(6,2) check (n > 0), unique (name))",
			g.IntN(1000), g.one("", " generated by default as identity"))
	}
	t := doc.Tables[g.IntN(len(doc.Tables))]
	table := quoted(t.Name)
	column := t.Columns[g.IntN(len(t.Columns))]
	fresh := fmt.Sprintf("new_%d", g.IntN(1000))
	switch g.IntN(12) {
	case 9:
		return g.insert(t.Name, t.PrimaryKey, quoted(column.Name))
	case 10:
		return "delete from " + table + " where " + g.one("true", quoted(column.Name)+" is null", quoted(column.Name)+" is not null and char_length("+quoted(column.Name)+") > 2")
	case 11:
		other := doc.Tables[g.IntN(len(doc.Tables))]
		from, own := quoted(other.Columns[g.IntN(len(other.Columns))].Name), quoted(t.Columns[g.IntN(len(t.Columns))].Name)
		return "backfill " + table + " set " + quoted(column.Name) + " = " + g.one("s."+from, "concat(s."+from+", '!')", "coalesce("+quoted(column.Name)+", s."+from+")") + " from " +
			quoted(other.Name) + " as s on (" + own + " = s." + quoted(other.Columns[0].Name) + ")" + g.one("", " where s."+from+" is not null")
	case 0:
		if g.chance(40) {
			return "drop table " + table
		}
		return "create view " + fresh + " as select * from " + table
	case 1:
		return "create " + g.one("", "unique ") + "index " + fresh + " on " + table + " (" + quoted(column.Name) + g.one("", " desc") + ")"
	case 2:
		if len(t.Indexes) > 0 {
			return g.one("drop index "+quoted(t.Indexes[0].Name)+" on "+table, "alter index "+quoted(t.Indexes[0].Name)+" on "+table+" rename to "+fresh)
		}
		return "comment on column " + table + "." + quoted(column.Name) + " is 'why it''s there'"
	case 3:
		if column.Generated == nil {
			return "backfill " + table + " set " + quoted(column.Name) + " = " + g.expression(quoted(column.Name)) + g.one("", " where "+quoted(column.Name)+" is null")
		}
	}
	var actions []string
	for range 1 + g.IntN(3) {
		c := t.Columns[g.IntN(len(t.Columns))]
		name := quoted(c.Name)
		added := fmt.Sprintf("col_%d", g.IntN(10000))
		switch g.IntN(24) {
		case 12, 13:
			actions = append(actions, "alter "+name+" set data type "+g.one("text", "integer", "bigint", "varchar(30)", "numeric(9,2)", "boolean", "timestamp", "real", "enum('a','b','some','none')")+
				g.one("", " using ("+g.expression(name)+")", " using (case when "+name+" is null then null else 7 end)")+g.one("", "", " restore using ('back')"))
		case 14:
			if column.Generated != nil {
				actions = append(actions, "alter "+quoted(column.Name)+g.one(" set expression as (upper(coalesce("+name+", 'q')))", " drop expression"))
			}
		case 15:
			actions = append(actions, "alter "+name+" set position "+g.one("first", "after "+quoted(column.Name))+g.one("", " rebuild"))
		case 16:
			actions = append(actions, "add "+added+" text "+g.one("first", "after "+name)+g.one("", " rebuild"))
		case 17:
			actions = append(actions, "add "+added+" timestamp on update current_timestamp")
		case 18:
			actions = append(actions, "alter "+name+g.one(" set on update current_timestamp", " drop on update"))
		case 19:
			actions = append(actions, g.one("drop primary key", "add primary key ("+name+")", "drop primary key, add primary key ("+name+")", "alter "+name+" add generated by default as identity",
				"alter "+name+" drop identity", "alter "+name+" restart with 5000"))
		case 20:
			if all := append(append(slices.Clone(t.Checks), t.Unique...), t.ForeignKeys...); len(all) > 0 {
				actions = append(actions, "rename constraint "+quoted(all[0].Name)+" to "+added)
			}
		case 21:
			actions = append(actions, "rename to "+fresh)
		case 22:
			actions = append(actions, "rebuild")
		case 23:
			actions = append(actions, "add "+added+" bigint generated by default as identity"+g.one("", " primary key"))
		case 0, 1:
			actions = append(actions, "add "+added+" "+g.one("integer", "text", "boolean", "numeric(9,2)")+g.one("", " default 1", " not null default 0", " default true"))
		case 2, 3:
			actions = append(actions, "add "+added+" varchar(200)"+g.one("", " not null")+" using ("+g.expression(name)+")")
		case 4:
			actions = append(actions, "add "+added+" text generated always as (coalesce("+name+", 'none'))"+g.one("", " stored"))
		case 5, 6:
			actions = append(actions, "drop "+name+g.one("", "", " restore using ('back')"))
		case 7:
			actions = append(actions, "rename "+name+" to "+added)
		case 8:
			actions = append(actions, "alter "+name+" set default "+g.one("1", "'z'", "null", "current_timestamp"))
		case 9:
			actions = append(actions, "alter "+name+g.one(" set not null using ('filled')", " drop not null", " set not null", " drop default"))
		case 10:
			actions = append(actions, "add constraint "+g.one("a_check", "b_check")+" check ("+name+g.one(" is null or "+name+" <> 'zz')", " <> 'zz')"))
		case 11:
			for _, list := range [][]struct{ Name string }{t.Checks, t.ForeignKeys, t.Unique} {
				if len(list) > 0 && g.chance(60) {
					actions = append(actions, "drop constraint "+quoted(list[0].Name))
					break
				}
			}
			if len(actions) == 0 {
				actions = append(actions, "add constraint "+added+" unique ("+name+")")
			}
		}
	}
	if len(actions) == 0 {
		actions = []string{"rebuild"}
	}
	return "alter table " + table + " " + strings.Join(actions, ", ")
}

// insert makes reference rows; keys are high enough to be free.
func (g *generator) insert(table string, keys []string, column string) string {
	names, first, second := []string{}, []string{}, []string{}
	for i, k := range keys {
		names = append(names, quoted(k))
		first, second = append(first, fmt.Sprint(9000+i)), append(second, fmt.Sprint(g.one("9100", "9000", "1")))
	}
	if !slices.Contains(names, column) {
		names, first, second = append(names, column), append(first, g.value()), append(second, "1")
	}
	list := "insert into " + quoted(table) + " (" + strings.Join(names, ", ") + ") "
	if g.chance(20) {
		return list + "select " + strings.Join(first, ", ")
	}
	return list + "values (" + strings.Join(first, ", ") + "), (" + strings.Join(second, ", ") + ")"
}

func (g *generator) expression(column string) string {
	return g.one("'same'", "upper(coalesce("+column+", 'x'))", "concat("+column+", '-', 1)", "case when "+column+" is null then 'none' else 'some' end",
		"substring(cast("+column+" as text) from 1 for 3)", "char_length("+column+") + 1", column)
}
