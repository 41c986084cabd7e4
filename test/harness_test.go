// Package test drives the built program from end to end, on files in temporary
// folders.
package test

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"hash/fnv"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"
	_ "modernc.org/sqlite"

	"lastboard/test/server"
)

// program is the built program, with the fault points that only tests have.
var program string

// day says which cases are run of those that take turns.
var day = flag.Int64("day", time.Now().Unix()/86400, "which of the cases that take turns from day to day are run")

// itsTurn reports whether the i-th of such cases is one of those of today: each is run once in
// so many days.
func itsTurn(i, days int) bool { return *allKinds || (int64(i)+*day)%int64(days) == 0 }

// inTurn runs the i-th of such cases if it is its turn.
func inTurn(t *testing.T, i, days int, name string, test func(*testing.T)) {
	if itsTurn(i, days) {
		t.Run(name, test)
	}
}

// ofToday gives what of a list, of engines mostly, a test takes today: one of it, which is not the same for each test.
func ofToday(t *testing.T, list []string) []string {
	if *allKinds {
		return list
	}
	sum := fnv.New32a()
	sum.Write([]byte(t.Name()))
	return []string{list[(int64(sum.Sum32())+*day)%int64(len(list))]}
}

func TestMain(m *testing.M) {
	mysql.SetLogger(&mysql.NopLogger{})
	os.Exit(buildAndRun(m))
}

func buildAndRun(m *testing.M) int {
	flag.Parse()
	fmt.Fprintf(os.Stderr, "cases that take turns: those of -day %d\n", *day)
	dir, err := os.MkdirTemp("", "lastboard-test")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	program = filepath.Join(dir, "lastboard")
	build := exec.Command("go", "build", "-tags", "faults", "-o", program, "lastboard/cmd/lastboard")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		return 1
	}
	defer stopServers()
	return m.Run()
}

// office is a project in a temporary folder with a database of its own.
type office struct {
	*testing.T
	dir string
	env []string
	url string // of a database on a server; "" for the file harbour.db
}

// newOffice makes a project whose database is filled by SQL that Lastboard does
// not see, as another program would.
func newOffice(t *testing.T, statements ...string) *office {
	t.Helper()
	beside(t)
	o := &office{T: t, dir: t.TempDir()}
	o.exec(statements...)
	o.must("init", "--url", "sqlite:harbour.db")
	return o
}

// running are the tests that run beside others already.
var running sync.Map

// beside lets a test run beside others: each has a folder of its own.
func beside(t *testing.T) {
	if _, already := running.LoadOrStore(t, true); !already {
		t.Parallel()
	}
}

// adopted is an office whose database is under care.
func adopted(t *testing.T, statements ...string) *office {
	t.Helper()
	o := newOffice(t, statements...)
	o.must("adopt", "--yes")
	return o
}

// patience is how long a test waits for what has to come, on a machine as slow as there are.
const patience = 3 * time.Minute

type result struct {
	stdout, stderr string
	code           int
	killed         bool
}

func (r result) String() string {
	return fmt.Sprintf("exit %d\n--- stdout\n%s\n--- stderr\n%s", r.code, r.stdout, r.stderr)
}

// command prepares the program with its arguments.
func (o *office) command(args ...string) *exec.Cmd {
	c := exec.Command(program, args...)
	c.Dir = o.dir
	c.Env = append(slices.DeleteFunc(os.Environ(), func(v string) bool {
		return strings.HasPrefix(v, "LASTBOARD_")
	}), o.env...)
	return c
}

// run runs the program to its end.
func (o *office) run(args ...string) result {
	o.Helper()
	c := o.command(args...)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		o.Fatalf("lastboard %s: %v", strings.Join(args, " "), err)
	}
	return result{out.String(), errs.String(), c.ProcessState.ExitCode(), c.ProcessState.ExitCode() == -1}
}

// must runs the program and wants it to succeed.
func (o *office) must(args ...string) string {
	o.Helper()
	return o.code(0, args...).stdout
}

// code runs the program and wants an exit code.
func (o *office) code(want int, args ...string) result {
	o.Helper()
	r := o.run(args...)
	if r.code != want {
		o.Fatalf("lastboard %s: wanted exit %d, got %s", strings.Join(args, " "), want, r)
	}
	return r
}

// wants asserts that a text is part of what was said.
func (o *office) wants(r result, texts ...string) {
	o.Helper()
	all := r.stdout + r.stderr
	for _, text := range texts {
		if !strings.Contains(all, text) {
			o.Errorf("wanted %q in %s", text, r)
		}
	}
}

// migration writes a file of the project's migrations.
func (o *office) migration(name, text string) {
	o.Helper()
	o.write("migrations/"+name+".sql", text)
}

func (o *office) write(name, text string) {
	o.Helper()
	path := filepath.Join(o.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
		o.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o666); err != nil {
		o.Fatal(err)
	}
}

// open connects to the office's database as another program would.
func (o *office) open() *sql.DB {
	o.Helper()
	driver, source := "sqlite", "file:"+filepath.Join(o.dir, "harbour.db")+
		"?_pragma=busy_timeout(20000)&_pragma=foreign_keys(1)"
	switch {
	case o.onMariaDB():
		driver, source = "mysql", server.DSN(o.url)
	case o.url != "":
		driver, source = "pgx", o.url+"?timezone=UTC&default_query_exec_mode=exec"
	}
	db, err := sql.Open(driver, source)
	if err != nil {
		o.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	return db
}

func (o *office) exec(statements ...string) {
	o.Helper()
	db := o.open()
	defer db.Close()
	for _, s := range statements {
		if _, err := db.Exec(s); err != nil {
			o.Fatalf("%s: %v", s, err)
		}
	}
}

// query gives a query's rows, values apart by | and rows by line ends.
func (o *office) query(text string) string {
	o.Helper()
	db := o.open()
	defer db.Close()
	rows, err := queryText(db, text)
	if err != nil {
		o.Fatalf("%s: %v", text, err)
	}
	return rows
}

func queryText(db *sql.DB, text string) (string, error) {
	rows, err := db.Query(text)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	columns, err := rows.ColumnTypes()
	if err != nil {
		return "", err
	}
	var lines []string
	for rows.Next() {
		values := make([]any, len(columns))
		for i := range values {
			values[i] = new(any)
		}
		if err := rows.Scan(values...); err != nil {
			return "", err
		}
		cells := make([]string, len(values))
		for i, v := range values {
			switch v := (*v.(*any)).(type) {
			case nil:
				cells[i] = "null"
			case []byte:
				cells[i] = fmt.Sprintf("x'%x'", v)
				if kind := columns[i].DatabaseTypeName(); kind == "DECIMAL" || strings.HasSuffix(kind, "CHAR") ||
					strings.HasSuffix(kind, "TEXT") {
					cells[i] = "string:" + string(v) // so one driver gives them
				}
			case time.Time:
				cells[i] = v.Format(time.RFC3339Nano)
			default:
				cells[i] = fmt.Sprintf("%T:%v", v, v)
			}
		}
		lines = append(lines, strings.Join(cells, "|"))
	}
	return strings.Join(lines, "\n"), rows.Err()
}

// same asserts that a query gives what is wanted; types of values do not count.
func (o *office) same(query, want string) {
	o.Helper()
	got := o.query(query)
	for _, t := range []string{"int64:", "string:", "float64:", "bool:"} {
		got = strings.ReplaceAll(got, t, "")
	}
	if got != want {
		missing, more := unlike(want, got)
		o.Errorf("%s: missing\n%s\nin its place\n%s", query, missing, more)
	}
}

// unlike is the lines of want that are not in got, and the other way round; where both have the same lines
// in another order, all of both.
func unlike(want, got string) (missing, more string) {
	without := func(a, b string) string {
		var out []string
		in := strings.Split(b, "\n")
		for line := range strings.SplitSeq(a, "\n") {
			if !slices.Contains(in, line) {
				out = append(out, line)
			}
		}
		return strings.Join(out, "\n")
	}
	missing, more = without(want, got), without(got, want)
	if missing == "" && more == "" {
		return want, got
	}
	return missing, more
}

// snapshot is all that is in the database: what SQLite itself says of the
// tables, what the program says of them, and every row.
func (o *office) snapshot() string {
	o.Helper()
	if o.url != "" {
		return o.serverSnapshot() + o.canonical(true)
	}
	db := o.open()
	defer db.Close()
	var b strings.Builder
	tables := o.names(db, "select name from sqlite_schema where type = 'table' and name not like 'lastboard%' and "+
		"name not like 'sqlite%' order by name")
	for _, t := range tables {
		q := `"` + strings.ReplaceAll(t, `"`, `""`) + `"`
		l := "'" + strings.ReplaceAll(t, "'", "''") + "'"
		for _, text := range []string{
			"select cid, name, lower(type), \"notnull\", dflt_value is not null, pk, hidden from pragma_table_xinfo(" + l +
				") order by cid",
			"select \"table\", \"from\", \"to\", on_update, on_delete from pragma_foreign_key_list(" + l + ") order by 1, 2, 3",
			"select i.\"unique\", i.partial, x.name, x.\"desc\", x.coll from pragma_index_list(" + l +
				") i join pragma_index_xinfo(i.name) x where x.key order by i.\"unique\", i.partial, x.name, x.seqno",
			"select * from " + q + " order by 1, 2",
		} {
			rows, err := queryText(db, text)
			if err != nil {
				rows = "error: " + err.Error()
			}
			fmt.Fprintf(&b, "%s: %s\n%s\n", t, text, rows)
		}
	}
	rows, err := queryText(db, "select type, name from sqlite_schema where type in ('view', 'trigger') and name not "+
		"like 'lastboard%' order by 1, 2")
	if err != nil {
		o.Fatal(err)
	}
	b.WriteString(rows + "\n")
	var doc struct{ Tables []map[string]any }
	if err := json.Unmarshal([]byte(o.must("describe", "--json")), &doc); err != nil {
		o.Fatal(err)
	}
	slices.SortFunc(doc.Tables, func(a, b map[string]any) int {
		return strings.Compare(a["name"].(string), b["name"].(string))
	})
	for _, t := range doc.Tables {
		for _, part := range []string{"unique", "checks", "foreign_keys", "indexes", "triggers"} {
			sortByName(t[part])
		}
		text, err := json.MarshalIndent(t, "", " ")
		if err != nil {
			o.Fatal(err)
		}
		b.Write(text)
		b.WriteByte('\n')
	}
	return b.String()
}

func sortByName(list any) {
	items, ok := list.([]any)
	if !ok {
		return
	}
	slices.SortFunc(items, func(a, b any) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
}

func (o *office) names(db *sql.DB, text string) []string {
	o.Helper()
	rows, err := db.Query(text)
	if err != nil {
		o.Fatal(err)
	}
	defer rows.Close()
	var list []string
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			o.Fatal(err)
		}
		list = append(list, n)
	}
	return list
}

// unchanged asserts that the database is as a snapshot says.
func (o *office) unchanged(before string) {
	o.Helper()
	if after := o.snapshot(); after != before {
		o.Errorf("the database has changed: %s", firstDifference(before, after))
	}
}

// firstDifference shows where two texts part.
func firstDifference(want, got string) string {
	a, b := strings.Split(want, "\n"), strings.Split(got, "\n")
	for i := range max(len(a), len(b)) {
		x, y := "nothing", "nothing"
		if i < len(a) {
			x = a[i]
		}
		if i < len(b) {
			y = b[i]
		}
		if x != y {
			from := max(0, i-3)
			return fmt.Sprintf("line %d: wanted\n%s\ngot\n%s\nafter\n%s", i+1, x, y, strings.Join(a[from:min(i, len(a))], "\n"))
		}
	}
	return "nowhere"
}

// bindReadOnly shows a folder in another place, where it cannot be written.
func bindReadOnly(t *testing.T, from, at string) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Fatal("this test mounts a folder: run it as root")
	}
	for _, args := range [][]string{{"--bind", from, at}, {"-o", "remount,bind,ro", at}} {
		if out, err := exec.Command("mount", args...).CombinedOutput(); err != nil {
			t.Fatalf("mount %v: %v %s", args, err, out)
		}
	}
	t.Cleanup(func() { exec.Command("umount", "-l", at).Run() })
}

func (o *office) read(name string) string {
	o.Helper()
	data, err := os.ReadFile(filepath.Join(o.dir, name))
	if err != nil {
		o.Fatal(err)
	}
	return string(data)
}

// kinds gives the kinds of the steps that wait, with a star for those in batches.
func kinds(o *office) string {
	o.Helper()
	var doc struct {
		Migrations []struct {
			Steps []struct {
				Kind  string
				Batch bool `json:"in_batches"`
			}
		}
	}
	if err := json.Unmarshal([]byte(o.must("forecast", "--json")), &doc); err != nil {
		o.Fatal(err)
	}
	var list []string
	for _, m := range doc.Migrations {
		for _, s := range m.Steps {
			if s.Batch {
				s.Kind += "*"
			}
			list = append(list, s.Kind)
		}
	}
	return strings.Join(list, " ")
}
