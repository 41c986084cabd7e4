package demo

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"
)

// Ages are the programs of a rolling deployment: that of before knows a length in feet, that of after
// one in metres.
var Ages = []string{"before", "after"}

// measured is what such a program was told is written.
type measured struct {
	Lengths map[int]int `json:"lengths"` // by the vessel: tenths of a foot, or hundredths of a metre
	Writes  int         `json:"writes"`
	Refused int         `json:"refused"`
	Error   string      `json:"error"`
}

// Measure is a program of one age: it measures ten vessels again and again, until its standard input
// ends, and reports.
func Measure(ctx context.Context, folder, url, age string, pause time.Duration, input io.Reader) error {
	ctx, stop := untilEnd(ctx, input)
	defer stop()
	db, err := connect(folder, url)
	if err != nil {
		return err
	}
	defer db.Close()
	column, first, parts := "length_ft", 1, 10
	if age == Ages[1] {
		column, first, parts = "length_m", 11, 100
	}
	m := measured{Lengths: map[int]int{}}
	for i := 0; ctx.Err() == nil; i++ {
		vessel, length := first+i%10, 12*parts+i%(40*parts)
		text := fmt.Sprintf("update vessel set %s = %d.%0*d where id = %d", column, length/parts, len(fmt.Sprint(parts))-1,
			length%parts, vessel)
		if _, err := db.Exec(text); err != nil {
			m.Refused++
			m.Error = err.Error()
		} else {
			m.Writes++
			m.Lengths[vessel] = length
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
	data, err := json.Marshal(m)
	return errors.Join(err, os.WriteFile(filepath.Join(folder, age+".json"), data, 0o666))
}

// beside runs another process beside the story: it works until its standard input ends.
func (s *story) beside(args ...string) (end func()) {
	if s.err != nil {
		return func() {}
	}
	c := exec.Command(s.program, append([]string{"demo"}, args...)...)
	c.Stderr = os.Stderr
	hold, err := c.StdinPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		s.err = err
		return func() {}
	}
	ended := false
	return func() {
		if ended {
			return
		}
		ended = true
		if err := errors.Join(hold.Close(), c.Wait()); err != nil {
			s.err = errors.Join(s.err, fmt.Errorf("%s: %w", args[0], err))
		}
	}
}

// twoShapes tells how a column gets another unit and another name while programs of both ages write it.
// On SQLite it has no two shapes.
func (s *story) twoShapes() {
	if s.url == "" || s.err != nil {
		return
	}
	s.say("Lengths in metres: another unit, and another name, while a program of before measures vessels in feet.")
	s.err = os.Remove(filepath.Join(s.folder, "migrations", "0014-no-winter-berth.sql")) // which somebody wanted back
	s.give("0015-lengths-in-metres")
	before := s.beside("measure", s.folder, s.url, Ages[0])
	defer before()
	s.run(0, "forecast")
	s.run(0, "advance", "--yes")
	s.say("Both lengths are there, and equal. A program of after measures other vessels in metres, beside the first.")
	after := s.beside("measure", s.folder, s.url, Ages[1])
	defer after()
	time.Sleep(time.Second)
	s.run(0, "describe", "vessel", "--rows", "3")
	s.run(0, "status")
	s.say("Who still uses the old one? (On MariaDB that can be told where the server keeps statistics of statements.)")
	s.tells("settle", "--check")
	s.say("The last program of before ends, and the feet go.")
	before()
	s.run(0, "settle", "--yes")
	after()
	s.measuredAs(Ages[1], "length_m", 100)
	s.say("And back: what each program measured is there, in feet.")
	s.run(0, "retreat", "--to", "0013", "--yes", "--settle")
	s.measuredAs(Ages[0], "length_ft", 10)
}

// tells runs a command whose answer depends on what the server can tell.
func (s *story) tells(args ...string) {
	if onMariaDB(s.url) {
		s.run(anyCode, args...)
	} else {
		s.run(5, args...)
	}
}

// anyCode stands for every exit code.
const anyCode = -1

// measuredAs asserts that vessels have the lengths that a program was told are written, in parts of a
// unit.
func (s *story) measuredAs(age, column string, parts int) {
	if s.err != nil {
		return
	}
	var m measured
	data, err := os.ReadFile(filepath.Join(s.folder, age+".json"))
	if err == nil {
		err = json.Unmarshal(data, &m)
	}
	if err != nil {
		s.err = err
		return
	}
	db, err := connect(s.folder, s.url)
	if err != nil {
		s.err = err
		return
	}
	defer db.Close()
	wrong := 0
	for _, vessel := range slices.Sorted(maps.Keys(m.Lengths)) {
		if n, err := length(db, column, vessel, parts); err != nil || n != m.Lengths[vessel] {
			wrong++
			s.err = errors.Join(s.err, err)
		}
	}
	fmt.Fprintf(s.out, "  of %d lengths that the program of %s measured: %d refused; of its %d vessels %d have another\n",
		m.Writes, age, m.Refused, len(m.Lengths), wrong)
	if wrong > 0 || m.Refused > 0 || m.Writes == 0 {
		s.err = errors.Join(s.err, fmt.Errorf("LOST: %d lengths; %d refused: %s", wrong, m.Refused, m.Error))
	}
}

func length(db *sql.DB, column string, vessel, parts int) (n int, err error) {
	err = db.QueryRow(fmt.Sprintf("select round(%s * %d, 0) from vessel where id = %d", column, parts, vessel)).Scan(&n)
	return n, err
}
