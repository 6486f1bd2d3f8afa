package testkit

import (
	"net"
	"sync"
	"testing"
	"time"
)

// Line is a line to a server as bad ones are: slow, long, cut now and then, silent, or changing what goes over it.
type Line struct {
	Addr string // 127.0.0.1:port

	to string
	l  net.Listener

	mu      sync.Mutex
	w       LineWeather
	seen    int64             // bytes that came from the server so far
	free    [2]time.Time      // when the line has carried what went before, each way
	conns   map[net.Conn]bool // whether they are served
	closed  bool
	serving sync.WaitGroup
	dials   int // connections made so far
}

// LineWeather says how a line is.
type LineWeather struct {
	// Delay is how long a byte takes each way.
	Delay time.Duration
	// Rate is how many bytes a second go each way; 0 for as many as may be.
	Rate int64
	// CutEvery has all connections reset each time that so many bytes came from the server; 0 for never.
	CutEvery int64
	// FlipEvery has one bit turned over in each so many bytes from the server; 0 for never.
	FlipEvery int64
}

// NewLine makes a line to a server's address.
func NewLine(t testing.TB, to string, w LineWeather) *Line {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	line := &Line{Addr: l.Addr().String(), to: to, l: l, w: w, conns: map[net.Conn]bool{}}
	line.serving.Go(line.serve)
	t.Cleanup(line.Close)
	return line
}

// Dialled is how many connections were made so far.
func (l *Line) Dialled() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.dials
}

// Set changes how the line is.
func (l *Line) Set(w LineWeather) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.w = w
}

// Silence has nothing go over the connections that are there, without ending them; what is dialled from then on works.
func (l *Line) Silence() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.conns {
		l.conns[c] = false
	}
}

// Cut resets all connections.
func (l *Line) Cut() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.conns {
		if tcp, is := c.(*net.TCPConn); is {
			_ = tcp.SetLinger(0)
		}
		c.Close()
	}
}

// Close ends it.
func (l *Line) Close() {
	l.mu.Lock()
	l.closed = true
	l.mu.Unlock()
	l.l.Close()
	l.Cut()
	l.serving.Wait()
}

func (l *Line) serve() {
	for {
		c, err := l.l.Accept()
		if err != nil {
			return
		}
		s, err := net.Dial("tcp", l.to)
		if err != nil {
			c.Close()
			continue
		}
		for _, end := range []net.Conn{c, s} {
			if tcp, is := end.(*net.TCPConn); is {
				_ = tcp.SetReadBuffer(held)
			}
		}
		l.mu.Lock()
		l.conns[c], l.conns[s] = true, true
		l.dials++
		l.mu.Unlock()
		l.serving.Go(func() { l.carry(c, s, false) })
		l.serving.Go(func() { l.carry(s, c, true) })
	}
}

// parcel is what was read at a moment.
type parcel struct {
	b    []byte
	when time.Time
}

// queued is how many parcels wait in a line, of up to 16 KiB; held is what the kernel holds of it on each side, in
// bytes.
const (
	queued = 64
	held   = 64 << 10
)

// carry carries what comes from one end to the other.
func (l *Line) carry(from, to net.Conn, down bool) {
	defer from.Close()
	parcels := make(chan parcel, queued)
	var reading sync.WaitGroup
	reading.Go(func() {
		defer close(parcels)
		for {
			b := make([]byte, 16<<10)
			n, err := from.Read(b)
			if n > 0 {
				parcels <- parcel{b[:n], time.Now()}
			}
			if err != nil {
				return
			}
		}
	})
	defer reading.Wait()
	for p := range parcels {
		l.mu.Lock()
		w, alive := l.w, l.conns[from]
		l.mu.Unlock()
		if !alive { // silent: read, and nothing comes of it
			continue
		}
		if w.Rate > 0 {
			time.Sleep(time.Until(l.carried(down, p, w.Rate)))
		}
		time.Sleep(time.Until(p.when.Add(w.Delay)))
		if down && l.harm(p.b, w) {
			l.Cut()
		}
		if _, err := to.Write(p.b); err != nil {
			from.Close()
		}
	}
	if l.served(from) {
		closeWrite(to)
	}
}

// carried is when the line, which all connections share, has carried a parcel.
func (l *Line) carried(down bool, p parcel, rate int64) time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	way := 0
	if down {
		way = 1
	}
	l.free[way] = later(l.free[way], p.when).Add(time.Duration(len(p.b)) * time.Second / time.Duration(rate))
	return l.free[way]
}

// served says whether a connection isn't silenced.
func (l *Line) served(c net.Conn) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conns[c] || l.closed
}

func closeWrite(c net.Conn) {
	if half, can := c.(interface{ CloseWrite() error }); can {
		_ = half.CloseWrite()
		return
	}
	c.Close()
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// harm turns bits over, and says whether it is time to cut the line.
func (l *Line) harm(b []byte, w LineWeather) (cut bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	was := l.seen
	l.seen += int64(len(b))
	if w.FlipEvery > 0 && was/w.FlipEvery != l.seen/w.FlipEvery {
		b[len(b)/2] ^= 0x10
	}
	return w.CutEvery > 0 && was/w.CutEvery != l.seen/w.CutEvery
}
