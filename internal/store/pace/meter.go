package pace

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"twinshelf/internal/durable"
	"twinshelf/internal/units"
)

// A line may cost by what goes over it: a Pace says how much may go in a month, and a Meter counts it for all processes
// of this machine, in a file.

// SpentError means that as much went over a line in a month as may.
type SpentError struct {
	Month int64     // that may go in a month, in bytes
	Until time.Time // when the next one begins
}

func (e *SpentError) Error() string {
	return fmt.Sprintf("this month's %s have gone over the line: more goes from %s on, or with another allowance "+
		"(shelf line --month)", units.Bytes(e.Month), e.Until.Format("2 January 2006"))
}

const (
	// entered is how much is counted before it is entered into the file, in bytes; that much may be missing there after
	// a loss of power.
	entered = 256 << 10
	// mostMonths is how many months are kept, the latest; mostCount bounds the file, in bytes.
	mostMonths = 48
	mostCount  = 4 << 10
)

// Meter counts what goes over a line.
type Meter struct {
	file string
	most int64
	now  func() time.Time

	mu    sync.Mutex
	month string
	used  int64 // in that month, as far as the file says
	fresh int64 // that the file doesn't have yet
	err   error // why it couldn't be entered
}

// counted is what the file holds: bytes, both ways together, by month (as in 2026-11). Months stay, so that a clock
// that was wrong for a while takes no count away.
type counted map[string]int64

// NewMeter counts in a file, which is made where it isn't there, and lets so many bytes go in a month.
func NewMeter(file string, most int64) *Meter { return &Meter{file: file, most: most, now: time.Now} }

// Used is what went over the line this month, in bytes.
func (m *Meter) Used() (int64, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.enter()
	return m.used + m.fresh, m.err
}

// count counts bytes that went over the line, and says whether more may: errors are *SpentError, or that it can't be
// counted.
func (m *Meter) count(n int) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.fresh += int64(n); m.fresh >= entered || m.month != monthOf(m.now()) {
		m.enter()
	}
	if m.err != nil {
		return m.err
	}
	if m.used+m.fresh >= m.most {
		y, month, _ := m.now().Date()
		return &SpentError{m.most, time.Date(y, month+1, 1, 0, 0, 0, 0, m.now().Location())}
	}
	return nil
}

// settle enters what was counted.
func (m *Meter) settle() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.enter()
}

func monthOf(t time.Time) string { return t.Format("2006-01") }

// enter enters what was counted into the file, and takes over what others counted.
func (m *Meter) enter() {
	month := monthOf(m.now())
	used, err := m.exchange(month)
	if m.err = err; err != nil {
		m.err = fmt.Errorf("what goes over the line can't be counted, so nothing does: %w", err)
		return
	}
	m.month, m.used, m.fresh = month, used, 0
}

// exchange gives what went in a month by the file, with what is entered now.
func (m *Meter) exchange(month string) (used int64, err error) {
	if err := os.MkdirAll(filepath.Dir(m.file), 0o700); err != nil {
		return 0, err
	}
	l, err := durable.Lock(m.file+".lock", true)
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	c, err := readCount(m.file)
	if err != nil || m.fresh == 0 {
		return c[month], err
	}
	c[month] += m.fresh
	for len(c) > mostMonths {
		delete(c, slices.Min(slices.Collect(maps.Keys(c))))
	}
	b, err := json.Marshal(c)
	if err != nil {
		return 0, err
	}
	return c[month], durable.Swap(m.file, b)
}

func readCount(file string) (counted, error) {
	c := counted{}
	st, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err == nil && st.Size() > mostCount {
		err = errors.New("it is too large")
	}
	var b []byte
	if err == nil {
		b, err = os.ReadFile(file)
	}
	if err == nil {
		err = json.Unmarshal(b, &c)
	}
	for _, n := range c {
		if n < 0 && err == nil {
			err = errors.New("it counts less than nothing")
		}
	}
	if err != nil {
		return nil, fmt.Errorf("%s can't be read (%w): delete it to count anew", file, err)
	}
	if c == nil { // "null"
		c = counted{}
	}
	return c, nil
}

// metered is a connection over which as much goes as a meter lets.
type metered struct {
	net.Conn
	m *Meter
}

func (c *metered) Read(b []byte) (int, error) {
	if err := c.m.count(0); err != nil {
		return 0, err
	}
	n, err := c.Conn.Read(b)
	if spent := c.m.count(n); err == nil && n == 0 {
		err = spent
	}
	return n, err // what has come is given
}

func (c *metered) Write(b []byte) (done int, err error) {
	for {
		if err := c.m.count(0); err != nil {
			return done, err
		}
		n := min(len(b)-done, most)
		k, err := c.Conn.Write(b[done : done+n])
		_ = c.m.count(k) // the next one is refused
		if done += k; err != nil || done == len(b) {
			return done, err
		}
	}
}

func (c *metered) Close() error {
	err := c.Conn.Close()
	c.m.settle()
	return err
}
