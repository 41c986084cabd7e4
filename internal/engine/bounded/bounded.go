// Package bounded gives connections to servers on which nothing waits or grows for ever: a
// server may be another than it seems to be, or a broken one.
package bounded

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"sync/atomic"
	"time"

	"lastboard/internal/engine"
)

// The bounds: how long a server may take until a session has begun, with all that is asked of
// it first, and how many bytes it may send for one request, then and later.
const (
	Opening = 30 * time.Second
	greets  = 1 << 20
	answers = 256 << 20
)

// What is wrong with a server that has passed a bound.
var (
	ErrTooLong = fmt.Errorf("it is longer than %d MB, or than %d MB while a session begins", answers>>20, greets>>20)
	ErrTooLate = fmt.Errorf("no session has begun within %s", Opening)
)

// NotTaken is the error of a server whose answer is not taken, for a reason in words.
func NotTaken(why string, err error) error {
	return &engine.CannotOpen{Message: "the server's answer is not taken: " + why,
		Cure: "see that it is the server that you mean, and what stands between", Err: err}
}

// Conn is a connection with bounds. It belongs to one session.
type Conn struct {
	net.Conn
	most, got atomic.Int64
	passed    atomic.Pointer[error] // of the bound that was passed
}

// Dial connects, and begins the time in which the session has to begin.
func Dial(ctx context.Context, network, address string) (*Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	c := &Conn{Conn: conn}
	c.most.Store(greets)
	return c, conn.SetDeadline(time.Now().Add(Opening))
}

// Begun says that the session has begun: what it is asked from here on may take long.
func (c *Conn) Begun() error {
	c.most.Store(answers)
	return c.SetDeadline(time.Time{})
}

// Passed gives the error of the bound that the server has passed; nil for none. Drivers hide
// it.
func (c *Conn) Passed() error {
	if c == nil {
		return nil
	}
	if err := c.passed.Load(); err != nil {
		return *err
	}
	return nil
}

func (c *Conn) Read(p []byte) (int, error) {
	if c.got.Load() > c.most.Load() {
		c.passed.Store(&ErrTooLong)
		return 0, ErrTooLong
	}
	n, err := c.Conn.Read(p)
	c.got.Add(int64(n))
	if errors.Is(err, os.ErrDeadlineExceeded) && c.most.Load() == greets {
		c.passed.Store(&ErrTooLate)
	}
	return n, err
}

func (c *Conn) Write(p []byte) (int, error) {
	c.got.Store(0)
	return c.Conn.Write(p)
}
