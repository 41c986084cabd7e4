package enginetest

import (
	"context"
	"errors"
	"net"
	"testing"
	"time"

	"lastboard/internal/engine"
)

// FuzzWire opens a database at a server that answers at random: it is an error that says so,
// soon. url gives the URL for an address; seeds are answers to begin with.
func FuzzWire(f *testing.F, e engine.Engine, url func(address string) string, seeds ...string) {
	for _, s := range seeds {
		f.Add([]byte(s))
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		f.Fatal(err)
	}
	f.Cleanup(func() { l.Close() })
	answers := make(chan []byte, 1)
	answer := []byte{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			select { // for those that come again, the same
			case answer = <-answers:
			default:
			}
			go func(data []byte) {
				defer c.Close()
				c.SetDeadline(time.Now().Add(time.Second))
				go func() { // what it says is of no interest
					for b := make([]byte, 1<<10); ; {
						if _, err := c.Read(b); err != nil {
							return
						}
					}
				}()
				c.Write(data)
				time.Sleep(5 * time.Millisecond)
			}(answer)
		}
	}()
	f.Fuzz(func(t *testing.T, data []byte) {
		select {
		case <-answers:
		default:
		}
		answers <- data
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		db, err := e.Open(ctx, url(l.Addr().String()), engine.Read)
		if err == nil {
			db.Close()
			t.Errorf("%q is taken for a server", data)
			return
		}
		var cannot *engine.CannotOpen
		if !errors.As(err, &cannot) || ctx.Err() != nil {
			t.Errorf("%q: %v", data, err)
		}
	})
}
