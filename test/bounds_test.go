package test

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

// measured is a command that ran to its end, with the most memory that it had, in bytes.
func (o *office) measured(args ...string) (result, int64) {
	o.Helper()
	c := o.command(args...)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	if err := c.Start(); err != nil {
		o.Fatal(err)
	}
	ended := time.AfterFunc(patience, func() { c.Process.Kill() })
	c.Wait()
	if !ended.Stop() {
		o.Errorf("lastboard %s does not end\n%s%s", strings.Join(args, " "), &out, &errs)
	}
	return result{out.String(), errs.String(), c.ProcessState.ExitCode(), c.ProcessState.ExitCode() == -1},
		c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss << 10
}

// greeting is how a MariaDB server begins.
func greeting() []byte {
	b := append([]byte("\x0a5.5.5-10.11.9-MariaDB\x00"), 1, 0, 0, 0)
	b = append(b, "12345678\x00\x0d\xa2\x21\x02\x00\x08\x00\x15"...)
	b = append(b, make([]byte, 10)...)
	b = append(b, "123456789012\x00mysql_native_password\x00"...)
	return append([]byte{byte(len(b)), 0, 0, 0}, b...)
}

// liars are servers that are none, by what they do with a connection.
var liars = map[string]struct {
	scheme string
	serve  func(net.Conn)
}{
	"PostgreSQL that says nothing": {"postgres", func(c net.Conn) { c.Read(make([]byte, 1<<10)); time.Sleep(patience) }},
	"MariaDB that says nothing":    {"mariadb", func(c net.Conn) { time.Sleep(patience) }},
	"PostgreSQL that says nothing of sense": {"postgres", func(c net.Conn) {
		c.Read(make([]byte, 1<<10))
		nonsense(c, 200)
	}},
	"MariaDB that says nothing of sense": {"mariadb", func(c net.Conn) { nonsense(c, 200) }},
	"PostgreSQL that stops after the password": {"postgres", func(c net.Conn) {
		c.Read(make([]byte, 1<<10))
		c.Write([]byte("R\x00\x00\x00\x08\x00\x00\x00\x00"))
		time.Sleep(patience)
	}},
	"MariaDB that stops before the password": {"mariadb", func(c net.Conn) { c.Write(greeting()); time.Sleep(patience) }},
	"PostgreSQL that says a byte a second": {"postgres", func(c net.Conn) {
		c.Read(make([]byte, 1<<10))
		for _, err := c.Write([]byte("S")); err == nil; _, err = c.Write([]byte{0}) {
			time.Sleep(time.Second)
		}
	}},
	"PostgreSQL with a message of a gigabyte": {"postgres", func(c net.Conn) {
		c.Read(make([]byte, 1<<10))
		c.Write(binary.BigEndian.AppendUint32([]byte("E"), 0x3fffffff))
		endless(c, nil)
	}},
	"MariaDB with an answer without end": {"mariadb", func(c net.Conn) {
		c.Write(greeting())
		c.Read(make([]byte, 1<<10))
		c.Write([]byte("\x07\x00\x00\x02\x00\x00\x00\x02\x00\x00\x00"))
		c.Read(make([]byte, 1<<10))
		endless(c, func(n int) []byte { return []byte{0xff, 0xff, 0xff, byte(n + 1)} })
	}},
}

func nonsense(c net.Conn, times int) {
	b := make([]byte, 4<<10)
	for range times {
		rand.Read(b)
		if _, err := c.Write(b); err != nil {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// endless sends packets of the greatest size, each with a head if there is one.
func endless(c net.Conn, head func(n int) []byte) {
	b := bytes.Repeat([]byte("x"), 0xffffff)
	for n := range 300 {
		if head != nil {
			c.Write(head(n))
		}
		if _, err := c.Write(b); err != nil {
			return
		}
	}
}

// TestServersThatAreNone are left, with a reason, before they have cost much time or memory.
func TestServersThatAreNone(t *testing.T) {
	beside(t)
	for i, what := range slices.Sorted(maps.Keys(liars)) {
		liar := liars[what]
		if !itsTurn(i, 3) {
			continue
		}
		t.Run(what, func(t *testing.T) {
			beside(t)
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { l.Close() })
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					go func() {
						defer c.Close()
						liar.serve(c)
					}()
				}
			}()
			o := &office{T: t, dir: t.TempDir()}
			url := liar.scheme + "://pilot@" + l.Addr().String() + "/harbour" +
				map[string]string{"postgres": "?sslmode=disable", "mariadb": "?tls=off"}[liar.scheme]
			r, memory := o.measured("describe", "--url", url)
			if r.code != 1 || !strings.HasPrefix(r.stderr, "error cannot-open: the server") ||
				strings.Contains(r.stderr, "goroutine") {
				t.Errorf("it says %s", r)
			}
			if memory > 200<<20 {
				t.Errorf("it took %d MB", memory>>20)
			}
		})
	}
}

// TestFilesThatAreNone and those that are too large are refused, and cost little.
func TestFilesThatAreNone(t *testing.T) {
	o := adopted(t, "create table vessel (id integer primary key, name text)", "insert into vessel values (1, 'Tern')")
	file := func(name string) string { return filepath.Join(o.dir, "migrations", name) }
	made := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	made(syscall.Mkfifo(file("pipe.csv"), 0o600))
	made(os.Symlink("/dev/zero", file("zero.csv")))
	made(os.Mkdir(file("folder.csv"), 0o700))
	long, err := os.Create(file("long.csv"))
	made(err)
	_, err = long.WriteString("id,name\n1,Tern\n2,\"")
	made(err)
	for range 100 {
		_, err = long.WriteString(strings.Repeat("x", 1<<20))
		made(err)
	}
	made(long.Close())
	for name, says := range map[string]string{
		"pipe.csv": "is a pipe, and no regular file", "zero.csv": "is a device, and no regular file",
		"folder.csv": "is a folder, and no regular file",
		"long.csv":   "long.csv:3: the row is longer than 8 MB; is a quotation mark left open?",
	} {
		o.migration("0002-fill", fmt.Sprintf("-- Fill\nbackfill vessel set name = f.name from csv '%s' as f on (id = "+
			"f.id);\n", name))
		for _, args := range [][]string{{"check"}, {"advance", "--yes"}} {
			r, memory := o.measured(args...)
			if r.code == 0 || !strings.Contains(r.String(), says) {
				t.Errorf("of %s %s says %s", name, args[0], r)
			}
			if memory > 200<<20 {
				t.Errorf("%s took %d MB for %s", args[0], memory>>20, name)
			}
		}
	}
	made(os.Remove(file("0002-fill.sql")))
	made(os.Symlink("/dev/zero", file("0002-zero.sql")))
	o.wants(o.run("check"), "0002-zero.sql", "is a device, and no regular file")
	made(os.Remove(file("0002-zero.sql")))
	o.migration("0002-large", "-- Large\ninsert into vessel (id, name) values (2, '"+strings.Repeat("x", 17<<20)+"');\n")
	o.wants(o.run("check"), "0002-large.sql has 18 MB, and at most 16 MB are read", "CSV")
	o.same("select count(*) from vessel", "1")
	project := filepath.Join(o.dir, "lastboard.toml")
	made(os.Remove(project))
	made(syscall.Mkfifo(project, 0o600))
	r, _ := o.measured("status")
	if r.code == 0 || !strings.Contains(r.String(), "is a pipe, and no regular file") {
		t.Errorf("of a project that is a pipe it says %s", r)
	}
}

// TestLongInsert is a statement with so many rows that what grows with their square does not end.
func TestLongInsert(t *testing.T) {
	beside(t)
	const rows = 40_000
	turns := []string{"sqlite", "postgres", "mariadb"}
	onEach(t, []string{"create table berth (id integer not null primary key)", "insert into berth values (1)",
		"create table vessel (id integer not null primary key, name varchar(90) not null unique, berth integer, " +
			"foreign key (berth) references berth (id))"}, func(t *testing.T, o *office) {
		if !itsTurn(slices.Index(turns, engineWord(o)), 3) {
			return
		}
		var b strings.Builder
		b.WriteString("-- Many\ninsert into vessel (id, name, berth) values ")
		for i := range rows {
			fmt.Fprintf(&b, "%s(%d, 'Tern %d', 1)", map[bool]string{true: ", "}[i > 0], i+1, i)
		}
		o.migration("0002-many", b.String()+";\n")
		for _, args := range [][]string{{"check"}, {"advance", "--yes"}, {"retreat", "--to", "1", "--yes"}} {
			began := time.Now()
			r, memory := o.measured(args...)
			t.Logf("%s: %v, %d MB", args[0], time.Since(began).Round(10*time.Millisecond), memory>>20)
			if r.code != 0 || memory > 300<<20 {
				t.Errorf("%s took %d MB for a statement of %d kB, and says %.300s", args[0], memory>>20, b.Len()>>10, r)
			}
			if args[0] == "advance" {
				o.same("select count(*), min(name), max(berth) from vessel", fmt.Sprintf("%d|Tern 0|1", rows))
			}
		}
		o.same("select count(*) from vessel", "0")
	})
}
