package test

import (
	"bytes"
	"io"
	"maps"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
)

// losing stands between a client and a server, and cuts a connection once the n-th commit has
// been sent, before its answer. away means that nobody is let through afterwards.
type losing struct {
	address string
	left    atomic.Int64
	cut     atomic.Bool
	away    bool
}

func loseAnswers(t *testing.T, server string, n int64, away bool) *losing {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { listener.Close() })
	l := &losing{address: listener.Addr().String(), away: away}
	l.left.Store(n)
	go func() {
		for {
			client, err := listener.Accept()
			if err != nil {
				return
			}
			if l.away && l.cut.Load() {
				client.Close()
				continue
			}
			go l.pass(client, server)
		}
	}()
	return l
}

func (l *losing) pass(client net.Conn, server string) {
	defer client.Close()
	there, err := net.Dial("tcp", server)
	if err != nil {
		return
	}
	var lost atomic.Bool
	go func() {
		piece := make([]byte, 1<<16)
		for {
			n, err := there.Read(piece)
			if err != nil || lost.Load() {
				client.Close()
				if err == nil {
					io.Copy(io.Discard, there) // the server comes to its end
				}
				there.Close()
				return
			}
			client.Write(piece[:n])
		}
	}()
	piece := make([]byte, 1<<16)
	for {
		n, err := client.Read(piece)
		if err != nil {
			there.Close()
			return
		}
		if bytes.Contains(piece[:n], []byte("commit")) && !bytes.Contains(piece[:n], []byte("synchronous_commit")) &&
			l.left.Add(-1) == 0 {
			l.cut.Store(true)
			lost.Store(true)
		}
		there.Write(piece[:n])
	}
}

// TestLostAnswerOfACommit is that what came of a run whose commit got no answer is asked of
// the database and told as it is; or, where nobody can be asked, that it is not told.
func TestLostAnswerOfACommit(t *testing.T) {
	beside(t)
	for _, name := range ofToday(t, slices.Sorted(maps.Keys(engines))) {
		database := engines[name]
		t.Run(name, func(t *testing.T) {
			o := newOfficeOn(t, database, "create table berth (id integer primary key, n integer)",
				"insert into berth values (1, 1), (2, 1)")
			o.must("adopt", "--yes")
			o.migration("0002-double", "-- Twice as many\nbackfill berth set n = n * 2;\n")
			_, rest, _ := strings.Cut(o.url, "@")
			server, _, _ := strings.Cut(rest, "/")
			options := map[string]string{"PostgreSQL": "?sslmode=disable", "MariaDB": "?tls=off"}[name]
			told := map[string]int{}
			for n := int64(1); n < 30; n++ {
				for _, away := range []bool{false, true}[:1+n%4/3] {
					l := loseAnswers(t, server, n, away)
					r := o.run("advance", "--yes", "--url", strings.Replace(o.url, server, l.address, 1)+options)
					if !l.cut.Load() {
						if r.code != 0 {
							t.Fatalf("undisturbed: %s", r)
						}
						if told["done"] == 0 || told["nothing"] == 0 && told["unknown"] == 0 {
							t.Errorf("not every outcome was seen: %v", told)
						}
						return
					}
					done := strings.Contains(o.must("status"), "0002     settled") ||
						strings.Contains(o.query("select n from berth where id = 1"), "2")
					switch all := r.String(); {
					case r.code == 6:
						told["unknown"]++
						o.wants(r, "is not known")
						if !away {
							t.Errorf("commit %d: the database could be asked: %s", n, r)
						}
					case strings.Contains(all, "has come to its end"), r.code == 0:
						told["done"]++
						if !done {
							t.Errorf("commit %d: it is said to be done and is not: %s", n, r)
						}
					case strings.Contains(all, "nothing was changed"):
						told["nothing"]++
						if done {
							t.Errorf("commit %d: it is said that nothing was changed: %s", n, r)
						}
					default:
						told["other"]++
						if done && r.code == 3 {
							t.Errorf("commit %d: refused, and done: %s", n, r)
						}
					}
					o.must("advance", "--yes")
					o.same("select n from berth order by id", "2\n2")
					o.must("retreat", "--to", "1", "--yes")
					o.same("select n from berth order by id", "1\n1")
				}
			}
		})
	}
}
