package pace

import (
	"errors"
	"net"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// Silent is for how long nothing may come over a line that something is waited for on.
	Silent = 20 * time.Second
	// asked is how often a quiet connection is asked whether it is alive, unanswered how often in vain.
	asked      = 5 * time.Second
	unanswered = 3
	// waiting is how much may wait in the kernel to be sent, in bytes: on a slow line what comes after it, such as the
	// question whether anybody is there, would wait as long.
	waiting = 64 << 10
)

// Dialer makes connections that are noticed to be dead, and that carry what is written soon.
func Dialer(within time.Duration) *net.Dialer {
	return &net.Dialer{Timeout: within, Control: steady,
		KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: asked, Interval: asked, Count: unanswered}}
}

// steady has the kernel give a connection up whose bytes aren't acknowledged, and keep little that isn't sent (tcp(7):
// TCP_USER_TIMEOUT in ms, TCP_NOTSENT_LOWAT in bytes).
func steady(_, _ string, c syscall.RawConn) error {
	var problem error
	err := c.Control(func(fd uintptr) {
		problem = errors.Join(
			unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(Silent.Milliseconds())),
			unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_NOTSENT_LOWAT, waiting))
	})
	return errors.Join(err, problem)
}

// Impatient gives a connection that fails when nothing goes over it for so long while something is waited for. What is
// written counts: its answer comes after it.
func Impatient(c net.Conn, silent time.Duration) net.Conn { return &impatient{c, silent} }

type impatient struct {
	net.Conn
	silent time.Duration
}

func (c *impatient) Read(b []byte) (int, error) {
	if err := c.SetReadDeadline(time.Now().Add(c.silent)); err != nil {
		return 0, err
	}
	return c.Conn.Read(b)
}

func (c *impatient) Write(b []byte) (int, error) {
	if err := c.SetWriteDeadline(time.Now().Add(c.silent)); err != nil {
		return 0, err
	}
	n, err := c.Conn.Write(b)
	if err == nil {
		err = c.SetReadDeadline(time.Now().Add(c.silent))
	}
	return n, err
}

// Watched is a connection that knows for how long nothing went over it.
type Watched struct {
	net.Conn
	last atomic.Pointer[time.Time]
}

// Watch watches a connection.
func Watch(c net.Conn) *Watched {
	w := &Watched{Conn: c}
	w.went()
	return w
}

// Quiet is for how long nothing has come, and nothing that was written has been taken.
func (c *Watched) Quiet() time.Duration { return time.Since(*c.last.Load()) }

func (c *Watched) went() {
	now := time.Now()
	c.last.Store(&now)
}

func (c *Watched) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	if n > 0 {
		c.went()
	}
	return n, err
}

func (c *Watched) Write(b []byte) (int, error) {
	n, err := c.Conn.Write(b)
	if n > 0 {
		c.went()
	}
	return n, err
}
