package server

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"syscall"
	"time"

	"github.com/pkg/sftp"

	"twinshelf/internal/store/pace"
)

const (
	// keepAlive is how often a connection is asked whether it is alive, silent for how long it may not answer while
	// nothing else goes over it: on a slow line the question waits behind what was written before.
	keepAlive = 5 * time.Second
	silent    = 15 * time.Second
	// tries is how often something is tried over a connection that breaks, firstPause how long it is waited before the
	// second time; each pause is twice as long as the one before.
	tries      = 6
	firstPause = 500 * time.Millisecond
)

// link is a connection to a server that is taken up again when it was lost.
type link struct {
	dial  func(ctx context.Context) (*session, error)
	pause time.Duration // before the second try

	mu      sync.Mutex
	conn    *session
	client  *sftp.Client
	closed  bool
	was     bool // there was a connection: that it comes back is worth waiting for
	minding sync.WaitGroup
}

// errClosed means that the link was closed by whoever opened it.
var errClosed = errors.New("the far shelf is closed")

// get is the connection, which is made where there is none.
func (l *link) get(ctx context.Context) (*sftp.Client, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closed {
		return nil, errClosed
	}
	if l.client != nil {
		return l.client, nil
	}
	conn, err := l.dial(ctx)
	if err != nil {
		return nil, err
	}
	client, err := sftp.NewClient(conn.Client, sftp.UseConcurrentReads(true), sftp.UseConcurrentWrites(true))
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the server doesn't speak SFTP to you: %w", err), conn.Close())
	}
	l.conn, l.client, l.was = conn, client, true
	l.minding.Go(func() { l.mind(conn, client) })
	return client, nil
}

// mind asks a connection whether it is alive until it isn't.
func (l *link) mind(conn *session, client *sftp.Client) {
	over := make(chan struct{})
	go func() {
		defer close(over)
		_ = conn.Wait()
	}()
	tick := time.NewTicker(keepAlive)
	defer tick.Stop()
	for alive := true; alive; {
		select {
		case <-over:
			alive = false
		case <-tick.C:
			alive = answers(conn)
		}
	}
	l.drop(client)
	<-over
}

// answers says whether a connection answers in time; one that doesn't is closed.
func answers(conn *session) bool {
	answered := make(chan struct{})
	var waiting sync.WaitGroup
	waiting.Go(func() {
		for left := silent; left > 0; left = silent - conn.line.Quiet() {
			select {
			case <-answered:
				return
			case <-time.After(left):
			}
		}
		conn.Close()
	})
	_, _, err := conn.SendRequest("keepalive@openssh.com", true, nil)
	close(answered)
	waiting.Wait()
	return err == nil
}

// beside does something that nobody waits for but close.
func (l *link) beside(work func()) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.closed {
		l.minding.Go(work)
	}
}

// drop lets go of a connection that was lost; the next one who needs one makes it anew.
func (l *link) drop(lost *sftp.Client) {
	l.mu.Lock()
	if l.client != lost {
		l.mu.Unlock()
		return
	}
	conn := l.conn
	l.conn, l.client = nil, nil
	l.mu.Unlock()
	_ = conn.Close() // what is under way ends with it
}

// close ends the connection for good.
func (l *link) close() error {
	l.mu.Lock()
	conn := l.conn
	l.conn, l.client, l.closed = nil, nil, true
	l.mu.Unlock()
	var err error
	if conn != nil {
		err = conn.Close()
	}
	l.minding.Wait()
	return err
}

// do does something that may be done twice, and again over a new connection where the one was lost.
func (l *link) do(ctx context.Context, work func(*sftp.Client) error) error {
	pause := l.pause
	for try := 1; ; try++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		c, err := l.get(ctx)
		if err == nil {
			if err = work(c); err == nil || !lost(err) {
				return err
			}
			l.drop(c)
		}
		if final(err) || !l.known() && !cut(err) {
			return err
		}
		if try == tries {
			return fmt.Errorf("%w (%d attempts)", err, try)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		pause *= 2
	}
}

// carry carries so many bytes, by a work that goes on where it was and says how many it carried. Tries are counted anew
// as long as it gets on: a line that is cut again and again carries everything in the end.
func (l *link) carry(ctx context.Context, all int, work func(c *sftp.Client, done int) (int, error)) (done int,
	err error) {
	for done < all {
		before := done
		err = l.do(ctx, func(c *sftp.Client) error {
			n, err := work(c, done)
			if done += n; n > 0 && lost(err) {
				l.drop(c)
				return nil
			}
			return err
		})
		if err != nil || done == before {
			break
		}
	}
	return done, err
}

// known says whether there was a connection before.
func (l *link) known() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.was
}

// lost says whether an error means that the connection is gone, not that the server refused.
func lost(err error) bool {
	return errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, sftp.ErrSSHFxNoConnection) ||
		errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.ErrClosedPipe) || errors.Is(err, net.ErrClosed) ||
		errors.As(err, new(net.Error))
}

// cut says whether an error is that of a connection that was there, also before anything came about.
func cut(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE)
}

// final says whether trying again is of no use.
func final(err error) bool {
	return errors.Is(err, errClosed) || errors.As(err, new(*pace.SpentError)) ||
		errors.As(err, new(*LoginError)) || errors.As(err, new(*UnknownHostError)) ||
		errors.As(err, new(*ChangedHostError)) || errors.Is(err, context.Canceled)
}
