// Package pace keeps a line to a far shelf free for others: so many bytes a second at the most, always or between two
// times of the day.
package pace

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"
)

// Pace is how much may go over a line.
type Pace struct {
	Rate int64 `json:"rate"` // bytes a second each way; 0 for as many as there can be
	// From and To are the minutes of the day between which that is so; both 0 for always. From may lie after To: a
	// night.
	From int `json:"from,omitempty"`
	To   int `json:"to,omitempty"`
	// Month is how many bytes may go in a month, both ways together; 0 for as many as there can be.
	Month int64 `json:"month,omitempty"`
}

// ErrHours means that a text doesn't say between which times.
var ErrHours = errors.New("write the hours as 8:00 to 18:00")

// Hours reads two times of the day, such as "8:00 to 18:00".
func Hours(text string) (from, to int, err error) {
	a, b, found := strings.Cut(text, " to ")
	begin, err1 := time.Parse("15:04", strings.TrimSpace(a))
	end, err2 := time.Parse("15:04", strings.TrimSpace(b))
	if !found || err1 != nil || err2 != nil || begin.Equal(end) {
		return 0, 0, ErrHours
	}
	return begin.Hour()*60 + begin.Minute(), end.Hour()*60 + end.Minute(), nil
}

// Words says the hours; empty for always.
func (p Pace) Words() string {
	if p.From == p.To {
		return ""
	}
	return fmt.Sprintf("from %d:%02d to %d:%02d", p.From/60, p.From%60, p.To/60, p.To%60)
}

// At is how many bytes a second may go at a time of the day; 0 for as many as there can be.
func (p Pace) At(now time.Time) int64 {
	minute := now.Hour()*60 + now.Minute()
	within := p.From <= minute && minute < p.To
	if p.From > p.To {
		within = minute >= p.From || minute < p.To
	}
	if p.From == p.To || within {
		return max(0, p.Rate)
	}
	return 0
}

const (
	// ahead is how much may go at once after a pause, as time at the pace.
	ahead = 100 * time.Millisecond
	// most is how much goes without looking at the clock, in bytes.
	most = 16 << 10
)

// Pacer has connections share a pace, and a meter.
type Pacer struct {
	pace  Pace
	meter *Meter // nil where nothing is counted
	ways  [2]way // up and down
}

// way is one direction.
type way struct {
	mu   sync.Mutex
	free time.Time // when what went before has gone by
}

// New gives a Pacer, which counts in a file where a month is bounded; nil for a pace without bounds.
func New(p Pace, file string) *Pacer {
	if p.Rate <= 0 && p.Month <= 0 {
		return nil
	}
	out := &Pacer{pace: p}
	if p.Month > 0 {
		out.meter = NewMeter(file, p.Month)
	}
	return out
}

// May says whether anything may go over the line at all; errors are those of a Meter.
func (p *Pacer) May() error {
	if p == nil || p.meter == nil {
		return nil
	}
	return p.meter.count(0)
}

// Conn gives a connection that keeps the pace.
func (p *Pacer) Conn(c net.Conn) net.Conn {
	if p == nil {
		return c
	}
	if p.meter != nil {
		c = &metered{c, p.meter}
	}
	return &conn{c, p}
}

// Dialer gives a way to connections that keep the pace.
func (p *Pacer) Dialer(dial func(ctx context.Context, network, address string) (net.Conn, error)) func(context.Context,
	string, string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		if err := p.May(); err != nil {
			return nil, err
		}
		c, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return p.Conn(c), nil
	}
}

// wait waits until so many bytes may go one way.
func (p *Pacer) wait(w *way, n int) {
	now := time.Now()
	rate := p.pace.At(now)
	if rate == 0 {
		return
	}
	w.mu.Lock()
	if early := now.Add(-ahead); w.free.Before(early) {
		w.free = early
	}
	w.free = w.free.Add(time.Duration(int64(n) * int64(time.Second) / rate))
	until := w.free
	w.mu.Unlock()
	time.Sleep(time.Until(until))
}

// conn is a connection that keeps a pace.
type conn struct {
	net.Conn
	p *Pacer
}

func (c *conn) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b[:min(len(b), most)])
	c.p.wait(&c.p.ways[1], n)
	return n, err
}

func (c *conn) Write(b []byte) (done int, err error) {
	for {
		n := min(len(b)-done, most)
		c.p.wait(&c.p.ways[0], n)
		k, err := c.Conn.Write(b[done : done+n])
		if done += k; err != nil || done == len(b) {
			return done, err
		}
	}
}
