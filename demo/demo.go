// Package demo is the office of Skerrow harbour: the project that the demo makes,
// its rows, the second process that writes to it meanwhile, and the story that is
// told on it. It runs the program itself, as a person would type it.
package demo

import (
	"bufio"
	"cmp"
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
)

//go:embed migrations/*.sql
var files embed.FS

const config = `migrations = "migrations"
database   = "harbour"

[databases.harbour]
url  = %q
live = true                       # applications use it meanwhile
`

// Folder is the one that is made where none is named.
const Folder = "harbour-demo"

// Options is what the demo can be asked for.
type Options struct {
	Folder  string // where the office is made; it must not be there yet
	Rows    int    // port calls
	URL     string // an empty database on a server; "" for a file in the folder
	NoColor bool
	Out     *os.File // where the story goes
}

// Run tells the whole story, and leaves the folder.
func Run(ctx context.Context, o Options) error {
	if o.Folder == "" {
		o.Folder = Folder
	}
	if o.Rows < 1000 {
		return errors.New("the story needs at least 1,000 port calls")
	}
	folder, err := filepath.Abs(o.Folder)
	if err != nil {
		return err
	}
	if _, err := os.Stat(folder); !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%s is there already: name another folder, or take it away", folder)
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	s := &story{ctx: ctx, folder: folder, shown: o.Folder, url: o.URL, program: program,
		noColor: o.NoColor, out: o.Out}
	return s.tell(o.Rows)
}

type story struct {
	ctx     context.Context
	folder  string
	shown   string
	url     string
	program string
	noColor bool
	out     *os.File
	err     error
}

// tell is the story. Each step stops it when something does not go as it should.
func (s *story) tell(rows int) error {
	s.say("The office of Skerrow harbour opens: three tables, in a new folder.")
	s.prepare()
	s.give("0001-open-the-office")
	s.run(0, "advance", "--yes")
	s.fillOffice(rows)
	before := s.sums()
	stopWriter := s.beside("write", s.folder, s.url)
	defer stopWriter()

	s.say("A second process now notes an arrival every 5 ms, and goes on doing so to the end.")
	s.run(0, "describe")
	s.run(0, "describe", "vessel", "--rows", "4")

	s.say("A column that starts empty, and a flag that every row needs at once.")
	s.give("0002-remarks")
	s.give("0003-quarantine")
	s.run(0, "check")
	s.run(0, "forecast")
	s.run(0, "advance", "--yes")

	s.say("A required, unique column, computed for existing rows: first the values, then the change.")
	s.give("0004-call-sign")
	s.run(0, "forecast", "--rows", "4")
	s.run(0, "advance", "--yes")

	s.say("One column into two. Real registries are written by hand: the check finds those that have no number.")
	s.give("0005-registry-in-two")
	s.run(3, "check")
	s.say("The cure goes into the migration, before the change.")
	s.edit("0005-registry-in-two", "alter table vessel", `backfill vessel set
  registry = trim(registry) || ' 0'
  where position(' ' in trim(registry)) = 0;

alter table vessel`)
	s.run(0, "advance", "--yes")

	s.say("Every call gets a berth, and the berth must be there. Some rows break that.")
	s.give("0006-berth-required")
	s.run(3, "check")
	s.edit("0006-berth-required", "alter table port_call", `backfill port_call set
  berth_id = 24
  where berth_id is null or berth_id not in (select id from berth);

alter table port_call`)
	s.run(0, "forecast")
	if rows >= manyCalls && s.url == "" {
		s.say("The database is live, and one step keeps writers waiting: that has to be allowed.")
		s.run(3, "advance", "--yes")
	}
	s.run(0, "advance", "--yes", "--let-writers-wait")

	s.say("Computed columns: one when it is read, one stored. The arithmetic can be read before anything is changed.")
	s.give("0007-stay-and-tax")
	s.run(0, "forecast", "--rows", "3")
	s.run(0, "advance", "--yes", "--let-writers-wait", "--quiet")
	s.say("The tax changes: only the formula is named, and every row follows.")
	s.give("0008-another-tax-rate")
	s.run(0, "advance", "--yes", "--let-writers-wait")

	s.say("A status with allowed values, computed for existing calls; and later one value more.")
	s.give("0009-status")
	s.run(0, "advance", "--yes", "--let-writers-wait", "--quiet")
	s.give("0010-cancelled")
	s.run(0, "forecast")
	s.run(0, "advance", "--yes", "--let-writers-wait")

	s.say("Wider dues, with the computed column on them.")
	s.give("0011-wider-dues")
	s.run(0, "advance", "--yes", "--let-writers-wait")

	s.say("Times that keep themselves, and numbers that go on from a million.")
	s.give("0012-times")
	s.give("0013-numbers")
	s.run(0, "advance", "--yes", "--let-writers-wait")

	s.say("A column that nothing needs is to go. Programs that still use it go on until it is settled ...")
	s.give("0014-no-winter-berth")
	s.run(0, "advance", "--yes")
	s.run(0, "status")
	s.say("... and once none of them runs any more, it is dropped. Its values are kept ...")
	s.run(0, "settle", "--yes")
	s.run(0, "kept")
	s.say("... and somebody wants it back.")
	s.run(0, "retreat", "--to", "0013", "--yes", "--let-writers-wait")
	s.twoShapes()
	s.say("Do the tables still match what the migrations say?")
	s.run(0, "audit")
	s.run(0, "status")
	s.run(0, "ledger")
	stopWriter()
	if s.err != nil {
		return s.err
	}
	if err := s.prove(before); err != nil {
		return err
	}
	s.say("The office stays in " + s.shown + ". Try there:")
	for _, c := range []string{"lastboard describe port_call --rows 5", "lastboard describe --compare 0001",
		"lastboard describe vessel --at 0003", "lastboard retreat --to 0003 --settle --let-writers-wait",
		"lastboard tidy --check", `lastboard draft "Lengths in metres"`} {
		fmt.Fprintln(s.out, "  "+c)
	}
	return nil
}

// manyCalls is how many port calls make a copy of their table take longer than
// writers may wait unasked.
const manyCalls = 60_000

var (
	told   = lipgloss.NewStyle().Foreground(lipgloss.Color("6"))
	prompt = lipgloss.NewStyle().Bold(true)
)

func (s *story) paint(style lipgloss.Style, text string) string {
	if s.noColor {
		return text
	}
	return style.Render(text)
}

func (s *story) say(text string) {
	if s.err == nil {
		lipgloss.Fprintln(s.out, "\n"+s.paint(told, "# "+text))
	}
}

func (s *story) prepare() {
	s.err = errors.Join(os.MkdirAll(filepath.Join(s.folder, "migrations"), 0o777),
		os.WriteFile(filepath.Join(s.folder, "lastboard.toml"), fmt.Appendf(nil, config, cmp.Or(s.url, "sqlite:harbour.db")),
			0o666), s.empty())
}

// empty asserts that a database on a server has nothing that could be taken for the
// office's.
func (s *story) empty() error {
	if s.url == "" {
		return nil
	}
	db, err := connect(s.folder, s.url)
	if err != nil {
		return err
	}
	defer db.Close()
	var tables int
	where := "table_schema not in ('information_schema', 'pg_catalog')"
	if onMariaDB(s.url) {
		where = "table_schema = database()"
	}
	if err := db.QueryRow("select count(*) from information_schema.tables where " + where).Scan(&tables); err != nil {
		return err
	}
	if tables > 0 {
		return fmt.Errorf("the database has %d tables: the demo wants an empty one", tables)
	}
	return nil
}

// give puts a migration into the folder and shows it.
func (s *story) give(name string) {
	if s.err != nil {
		return
	}
	text, err := files.ReadFile("migrations/" + name + ".sql")
	if err != nil {
		s.err = err
		return
	}
	s.put(name, string(text))
}

func (s *story) put(name, text string) {
	s.err = os.WriteFile(filepath.Join(s.folder, "migrations", name+".sql"), []byte(text), 0o666)
	lipgloss.Fprintln(s.out, "\n"+s.paint(prompt, "$ cat migrations/"+name+".sql"))
	fmt.Fprint(s.out, text)
}

func (s *story) edit(name, old, text string) {
	if s.err != nil {
		return
	}
	path := filepath.Join(s.folder, "migrations", name+".sql")
	was, err := os.ReadFile(path)
	if err != nil {
		s.err = err
		return
	}
	s.put(name, strings.Replace(string(was), old, text, 1))
}

// run types a command, shows what it answers, and wants its exit code.
func (s *story) run(want int, args ...string) {
	if s.err != nil {
		return
	}
	lipgloss.Fprintln(s.out, "\n"+s.paint(prompt, "$ lastboard "+strings.Join(args, " ")))
	if s.noColor {
		args = append(args, "--no-color")
	}
	c := exec.CommandContext(s.ctx, s.program, args...)
	c.Dir, c.Stdout, c.Stderr = s.folder, s.out, os.Stderr
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		s.err = err
		return
	}
	if code := c.ProcessState.ExitCode(); want == anyCode {
		fmt.Fprintf(s.out, "(exit code %d)\n", code)
	} else if code != want {
		s.err = fmt.Errorf("the demo expected exit code %d from lastboard %s and got %d", want, strings.Join(args, " "), code)
	} else if want != 0 {
		fmt.Fprintf(s.out, "(exit code %d)\n", code)
	}
}

func (s *story) fillOffice(rows int) {
	if s.err != nil {
		return
	}
	db, err := connect(s.folder, s.url)
	if err != nil {
		s.err = err
		return
	}
	defer db.Close()
	if s.url == "" {
		if _, err := db.Exec("pragma journal_mode = wal"); err != nil {
			s.err = err
			return
		}
	}
	s.err = fill(s.ctx, db, s.url, rows)
}

// sums is what must be the same at the end: of the rows that the office began
// with, however their table has changed.
func (s *story) sums() map[string]string {
	if s.err != nil {
		return nil
	}
	db, err := connect(s.folder, s.url)
	if err != nil {
		s.err = err
		return nil
	}
	defer db.Close()
	var calls int64
	if s.err = db.QueryRow("select count(*) from port_call").Scan(&calls); s.err != nil {
		return nil
	}
	out := map[string]string{"": fmt.Sprint(calls)}
	s.err = readSums(db, s.url, calls, out)
	return out
}

var sumQueries = map[string]string{
	"port calls": "select count(*) from port_call where id <= $1",
	"dues":       "select sum(round(dues * 100)) from port_call where id <= $1",
	"arrivals": "select cast(max(arrived_at) as text) || ' ' || cast(sum(vessel_id) as text) from port_call " +
		"where id <= $1",
	"vessels": "select cast(count(*) as text) || ' ' || cast(sum(length(name)) as text) || ' ' || " +
		"coalesce(cast(sum(case when id > 20 then length_ft end) as text), '') from vessel where $1 > 0",
	// others are measured meanwhile
	"winter berths": "select cast(count(winter_berth) as text) || ' ' || string_agg(winter_berth, '' order by id) " +
		"from vessel where $1 > 0",
}

func readSums(db *sql.DB, url string, calls int64, into map[string]string) error {
	for name, query := range sumQueries {
		var v string
		if err := db.QueryRow(spell(url, query), calls).Scan(&v); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		into[name] = v
	}
	return nil
}

// prove counts with queries of its own that nothing was lost: neither what was
// there at the start, nor anything that the second process was told was written.
func (s *story) prove(before map[string]string) error {
	db, err := connect(s.folder, s.url)
	if err != nil {
		return err
	}
	defer db.Close()
	var calls int64
	if _, err := fmt.Sscan(before[""], &calls); err != nil {
		return err
	}
	after := map[string]string{"": before[""]}
	if err := readSums(db, s.url, calls, after); err != nil {
		return err
	}
	for name := range sumQueries {
		if before[name] != after[name] {
			return fmt.Errorf("LOST: %s were %s and are %s", name, before[name], after[name])
		}
	}
	var r Report
	data, err := os.ReadFile(filepath.Join(s.folder, "writer.json"))
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, &r); err != nil {
		return err
	}
	missing, err := lost(db, s.url, filepath.Join(s.folder, "writer.log"))
	if err != nil {
		return err
	}
	s.say("Was anything lost? Counted with the demo's own queries:")
	fmt.Fprintf(s.out, "  of %s port calls, %s vessels and their winter berths that were there at the start: nothing\n",
		before["port calls"], strings.Fields(before["vessels"])[0])
	fmt.Fprintf(s.out, "  of %d arrivals that the second process noted meanwhile: %d lost, %d refused; the longest "+
		"wait for "+
		"one was %d ms\n",
		r.Writes, missing, r.Refused, r.Longest.Milliseconds())
	if missing > 0 || r.Refused > 0 {
		return fmt.Errorf("LOST: %d rows of the second process; %d refused: %s", missing, r.Refused, r.Error)
	}
	return nil
}

// lost counts the rows that the second process was told were written, and that
// are not there as it wrote them.
func lost(db *sql.DB, url, log string) (int, error) {
	f, err := os.Open(log)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	missing := 0
	for lines := bufio.NewScanner(f); lines.Scan(); {
		var id, dues int64
		if _, err := fmt.Sscan(lines.Text(), &id, &dues); err != nil {
			return 0, err
		}
		var found int64
		err := db.QueryRow(spell(url, "select cast(dues as integer) from port_call where id = $1"), id).Scan(&found)
		if errors.Is(err, sql.ErrNoRows) || err == nil && found != dues {
			missing++
		} else if err != nil {
			return 0, err
		}
	}
	return missing, nil
}

// WritePause is how long the second process waits between two arrivals.
const WritePause = 5 * time.Millisecond
