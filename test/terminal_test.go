package test

import (
	"maps"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
	"unicode/utf8"
	"unsafe"
)

// terminal is a real one of the system, with what a program draws on it.
type terminal struct {
	*testing.T
	file *os.File
	cmd  *exec.Cmd
	done chan error

	lock          sync.Mutex
	cells         [][]rune
	row, column   int
	width, height int
	resized       time.Time
	modes         map[string]bool // private ones that are set
	raw           strings.Builder
}

// onTerminal runs the program on a terminal.
func (o *office) onTerminal(width, height int, args ...string) *terminal {
	o.Helper()
	master, err := os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		o.Fatal(err)
	}
	t := &terminal{T: o.T, file: master, done: make(chan error, 1), modes: map[string]bool{}}
	var number, unlock int32
	t.control(syscall.TIOCSPTLCK, unsafe.Pointer(&unlock))
	t.control(syscall.TIOCGPTN, unsafe.Pointer(&number))
	slave, err := os.OpenFile("/dev/pts/"+strconv.Itoa(int(number)), os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		o.Fatal(err)
	}
	defer slave.Close()
	t.resize(width, height)
	t.cmd = o.command(args...)
	t.cmd.Env = append(t.cmd.Env, "TERM=xterm-256color")
	t.cmd.Stdin, t.cmd.Stdout, t.cmd.Stderr = slave, slave, slave
	t.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := t.cmd.Start(); err != nil {
		o.Fatal(err)
	}
	o.Cleanup(func() { t.cmd.Process.Kill(); master.Close() })
	go func() { t.done <- t.cmd.Wait() }()
	go t.watch()
	return t
}

func (t *terminal) control(request uintptr, value unsafe.Pointer) {
	t.Helper()
	if _, _, e := syscall.Syscall(syscall.SYS_IOCTL, t.file.Fd(), request, uintptr(value)); e != 0 {
		t.Fatal(e)
	}
}

// resize gives the terminal another size, of which the program is told.
func (t *terminal) resize(width, height int) {
	t.Helper()
	t.lock.Lock()
	t.width, t.height, t.resized = width, height, time.Now()
	t.clear()
	t.move(t.row, t.column)
	t.lock.Unlock()
	size := [4]uint16{uint16(height), uint16(width)}
	t.control(syscall.TIOCSWINSZ, unsafe.Pointer(&size))
}

// move puts the cursor somewhere, on the screen whatever is asked for.
func (t *terminal) move(row, column int) {
	t.row, t.column = min(max(row, 0), t.height-1), min(max(column, 0), t.width-1)
}

func (t *terminal) clear() {
	t.cells = make([][]rune, t.height)
	for i := range t.cells {
		t.cells[i] = []rune(strings.Repeat(" ", t.width))
	}
}

// watch draws what the program writes.
func (t *terminal) watch() {
	var rest []byte
	buffer := make([]byte, 1<<16)
	for {
		n, err := t.file.Read(buffer)
		if err != nil {
			return
		}
		t.lock.Lock()
		t.raw.Write(buffer[:n])
		rest = t.draw(append(rest, buffer[:n]...))
		t.lock.Unlock()
	}
}

// draw takes what is complete and gives what is not.
func (t *terminal) draw(b []byte) []byte {
	text := []rune(string(b))
	for i := 0; i < len(text); i++ {
		switch r := text[i]; {
		case r == '\x1b':
			end := i + 1
			if end < len(text) && text[end] == '[' {
				end++
				for end < len(text) && (text[end] < '@' || text[end] > '~') {
					end++
				}
				if end >= len(text) {
					return []byte(string(text[i:]))
				}
				t.obey(string(text[i+2:end]), text[end])
			} else if end < len(text) && (text[end] == ']' || text[end] == 'P') {
				for end < len(text) && text[end] != '\a' && !(text[end] == '\\' && text[end-1] == '\x1b') {
					end++
				}
				if end >= len(text) {
					return []byte(string(text[i:]))
				}
			} else if end >= len(text) {
				return []byte(string(text[i:]))
			}
			i = end
		case r == '\r':
			t.column = 0
		case r == '\n':
			t.down()
		case r == '\b':
			t.column = max(t.column-1, 0)
		case r == '\t':
			t.column = min((t.column/8+1)*8, t.width-1)
		case r >= ' ':
			if t.column >= t.width {
				// What was under way for the size before is no fault of the program.
				if t.modes["1049"] && time.Since(t.resized) > time.Second {
					t.Errorf("%q is drawn at %d, %d of a screen of %d by %d", r, t.row, t.column, t.width, t.height)
				}
				t.column = 0
				t.down()
			}
			t.cells[t.row][t.column] = r
			t.column++
		}
	}
	return nil
}

// down goes a line down, and moves the others up where that was the last.
func (t *terminal) down() {
	if t.row++; t.row >= t.height {
		t.cells = append(t.cells[1:], []rune(strings.Repeat(" ", t.width)))
		t.row = t.height - 1
	}
}

// obey does what a control sequence says (ECMA-48).
func (t *terminal) obey(parameters string, command rune) {
	if p, ok := strings.CutPrefix(parameters, "?"); ok {
		for mode := range strings.SplitSeq(p, ";") {
			t.modes[mode] = command == 'h'
			if mode == "1049" {
				t.clear()
				t.row, t.column = 0, 0
			}
		}
		return
	}
	numbers := []int{}
	for p := range strings.SplitSeq(parameters, ";") {
		n, _ := strconv.Atoi(p)
		numbers = append(numbers, n)
	}
	first := max(numbers[0], 1)
	blank := func(row, from, to int) {
		for c := from; row < t.height && c < min(to, t.width); c++ {
			t.cells[row][c] = ' '
		}
	}
	switch command {
	case 'A':
		t.move(t.row-first, t.column)
	case 'B':
		t.move(t.row+first, t.column)
	case 'C':
		t.move(t.row, t.column+first)
	case 'D':
		t.move(t.row, t.column-first)
	case 'G':
		t.move(t.row, first-1)
	case 'd':
		t.move(first-1, t.column)
	case 'H':
		column := 1
		if len(numbers) > 1 {
			column = numbers[1]
		}
		t.move(first-1, column-1)
	case 'P': // the rest of the line comes nearer
		line := t.cells[t.row]
		copy(line[min(t.column, t.width):], line[min(t.column+first, t.width):])
		blank(t.row, t.width-first, t.width)
	case 'X':
		blank(t.row, t.column, t.column+first)
	case 'b': // the last sign again
		for range first {
			if t.column > 0 && t.column < t.width {
				t.cells[t.row][t.column] = t.cells[t.row][t.column-1]
				t.column++
			}
		}
	case 'K':
		switch numbers[0] {
		case 0:
			blank(t.row, t.column, t.width)
		case 1:
			blank(t.row, 0, t.column+1)
		default:
			blank(t.row, 0, t.width)
		}
	case 'J':
		from := t.row + 1
		if numbers[0] == 0 {
			blank(t.row, t.column, t.width)
		} else {
			from = 0
		}
		for r := from; r < t.height; r++ {
			blank(r, 0, t.width)
		}
	}
}

// screen gives what stands on the terminal.
func (t *terminal) screen() string {
	t.lock.Lock()
	defer t.lock.Unlock()
	lines := make([]string, len(t.cells))
	for i, row := range t.cells {
		lines[i] = strings.TrimRight(string(row), " ")
	}
	return strings.TrimRight(strings.Join(lines, "\n"), "\n")
}

// until waits for texts to stand on the screen together.
func (t *terminal) until(texts ...string) string {
	t.Helper()
	var now string
	for began := time.Now(); time.Since(began) < patience; time.Sleep(20 * time.Millisecond) {
		now = t.screen()
		all := true
		for _, text := range texts {
			all = all && strings.Contains(now, text)
		}
		if all {
			return now
		}
	}
	t.Fatalf("%q is not on the screen of %d by %d:\n%s\n%q", texts, t.width, t.height, now, t.raw.String())
	return ""
}

func (t *terminal) press(keys string) {
	t.Helper()
	if _, err := t.file.WriteString(keys); err != nil {
		t.Fatal(err)
	}
}

// ends waits for the program, which has to leave the terminal as it was.
func (t *terminal) ends() {
	t.Helper()
	select {
	case err := <-t.done:
		if err != nil {
			t.Errorf("it ends with %v", err)
		}
	case <-time.After(patience):
		t.Fatalf("it does not end:\n%s", t.screen())
	}
	for began := time.Now(); time.Since(began) < 2*time.Second; time.Sleep(20 * time.Millisecond) {
		t.lock.Lock()
		alternate, hidden := t.modes["1049"], false
		if shown, said := t.modes["25"]; said {
			hidden = !shown
		}
		t.lock.Unlock()
		if !alternate && !hidden {
			return
		}
	}
	t.Errorf("the terminal is not as it was: %v", t.modes)
}

// TestFollowOnATerminal looks on at a backfill, steers it by keys, and leaves.
func TestFollowOnATerminal(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, slices.Sorted(maps.Keys(paced))) {
		database := paced[name]
		t.Run(name, func(t *testing.T) {
			beside(t)
			f := filling(t, database(t), map[string]int{"SQLite": 600_000}[name]+80_000, "", "")
			before := f.until("its rows", begun)
			s := f.onTerminal(80, 24, "follow")
			s.until("dev: "+name, "running 0002-fill", "fill note of call_", "0,000 rows", "rows a second", "h hold   r release")
			s.press("h")
			s.until("holding: held by ")
			s.resize(110, 40)
			s.until("holding: held by ", "h hold   r release")
			s.resize(60, 12)
			small := s.until("h hold   r release")
			if lines := strings.Split(small, "\n"); len(lines) > 12 {
				t.Errorf("%d lines on 12", len(lines))
			}
			s.resize(80, 24)
			s.press("s")
			share := func(w map[string]any) float64 { return w["work_share"].(float64) }
			slower := f.until("slower", func(w map[string]any) bool { return share(w) < share(before) })
			if !holding(slower) {
				t.Errorf("it does not hold any more: %v", slower)
			}
			s.press("s") // one key after another
			s.press("r")
			slowest := f.until("going on", func(w map[string]any) bool { return goesOn(w) && share(w) < share(slower) })
			s.press("f")
			f.until("faster again", func(w map[string]any) bool { return share(w) > share(slowest) })
			f.must("pace", "--reset")
			f.end()
			s.until("nothing is running", "see lastboard status")
			s.press("q")
			s.ends()
		})
	}
}

// TestOnATerminal runs a migration where its progress and its question are seen.
func TestOnATerminal(t *testing.T) {
	o := adopted(t, "create table vessel (id integer primary key, name text)", "insert into vessel values (1, 'Tern')")
	o.migration("0002-change", "-- A change\nalter table vessel add flag varchar(9) not null default 'NO';\n")
	s := o.onTerminal(80, 24, "advance")
	s.until("run 0002-change", "Type yes to go on:")
	s.press("n\r")
	if err := <-s.done; err == nil {
		t.Error("it went on though the answer was no")
	}
	o.same("select count(*) from pragma_table_info('vessel')", "2")
	s = o.onTerminal(80, 24, "advance")
	s.until("run 0002-change", "Type yes to go on:")
	s.press("yes\r")
	s.ends()
	o.same("select flag from vessel", "NO")
	s = o.onTerminal(60, 24, "describe", "vessel", "--rows", "2")
	s.until("vessel", "flag", "Tern")
	s.ends()
	for line := range strings.Lines(s.screen()) {
		if n := len([]rune(strings.TrimSuffix(line, "\n"))); n > 60 {
			t.Errorf("a line of %d on a terminal of 60: %s", n, line)
		}
	}
	s = o.onTerminal(80, 24, "status")
	s.until("0002", "dev: SQLite")
	s.ends()
}

// TestWidths lets every command write on terminals of several widths, without colours: nothing is
// wider than the terminal, and nothing but text is written.
func TestWidths(t *testing.T) {
	o := newOffice(t, append(pier, "pragma journal_mode = wal")...)
	o.must("adopt", "--yes")
	o.migration("0002-marks", "-- Every berth has a mark, which the harbour master paints on the quay himself\nalter "+
		"table "+
		"berth\n  add column mark varchar(40) not null using (upper(code));\nbackfill berth set "+
		"mark = mark || ' (deep)';\n")
	o.must("advance", "--yes")
	o.migration("0003-rules", "-- Rules\nalter table berth\n  add column \"order\" integer default 5,\n  add constraint "+
		"berth_mark_is_not_too_long check (length(mark) < 5),\n  add column shown varchar(90) generated always as "+
		"(upper(mark)"+
		" || ' at the quay of ' || lower(code)) virtual;\n")
	o.env = []string{"NO_COLOR=1", "PAGER=cat"}
	commands := [][]string{{"describe"}, {"describe", "berth", "--rows", "2"}, {"describe", "berth", "--compare", "1"},
		{"describe", "berth", "--at", "1"}, {"check"}, {"forecast"}, {"forecast", "--why"}, {"status"}, {"ledger"},
		{"ledger", "2"}, {"kept"}, {"audit"}, {"ready"}, {"pace"}, {"tidy", "--check"}, {"retreat", "--to", "9"},
		{"retreat", "--to", "1", "--yes"}, {"advance", "--yes"}, {"advance", "--to", "2", "--yes"}, {"--help"}, {"version"}}
	for _, c := range everyCommand() {
		commands = append(commands, []string{c.Name(), "--help"})
	}
	for _, topic := range []string{"guide", "cookbook", "language", "engines", "safety", "rules", "config", "exit"} {
		commands = append(commands, []string{"help", topic})
	}
	for _, width := range []int{60, 80, 120} {
		for _, c := range commands {
			on := o.onTerminal(width, 50, c...)
			<-on.done
			time.Sleep(20 * time.Millisecond) // for what is on its way
			on.lock.Lock()
			text := strings.ReplaceAll(on.raw.String(), "\r\n", "\n")
			on.lock.Unlock()
			if strings.ContainsRune(text, '\x1b') {
				t.Errorf("%v writes more than text: %q", c, text)
			}
			for line := range strings.SplitSeq(text, "\n") {
				line = line[strings.LastIndex(line, "\r")+1:] // progress that is gone
				if n := utf8.RuneCountInString(line); n > width && !strings.HasPrefix(line, "    ") &&
					strings.Contains(strings.TrimSpace(line), " ") && !strings.HasPrefix(line, "  lastboard ") {
					t.Errorf("in %d columns, %v writes a line of %d: %q", width, c, n, line)
				}
			}
		}
	}
}
