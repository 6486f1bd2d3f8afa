package pace

import (
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// at has a meter believe that it is another time.
func at(m *Meter, when time.Time) *Meter {
	m.now = func() time.Time { return when }
	return m
}

// TestMonth: what several meters count comes together, no more goes than may, and the next month begins anew.
func TestMonth(t *testing.T) {
	file := filepath.Join(t.TempDir(), "lines", "elm.json")
	november := time.Date(2026, 11, 30, 23, 59, 0, 0, time.Local)
	a, b := at(NewMeter(file, 10<<20), november), at(NewMeter(file, 10<<20), november)
	if err := errors.Join(a.count(5<<20), b.count(0)); err != nil {
		t.Fatal(err)
	}
	if err := b.count(4 << 20); err != nil { // b knows of a's by now
		t.Errorf("9 of 10: %v", err)
	}
	var spent *SpentError
	if err := a.count(entered / 2); err != nil { // of b's it hears when it enters its own
		t.Errorf("more than it knows of: %v", err)
	}
	_ = a.count(1<<20 - entered/2)
	if err := a.count(0); !errors.As(err, &spent) || spent.Month != 10<<20 ||
		!spent.Until.Equal(time.Date(2026, 12, 1, 0, 0, 0, 0, time.Local)) {
		t.Errorf("all of it: %v", err)
	}
	if used, err := at(NewMeter(file, 10<<20), november).Used(); used != 10<<20 || err != nil {
		t.Errorf("%d bytes went, %v", used, err)
	}
	at(a, november.Add(2*time.Minute))
	if err := a.count(1 << 20); err != nil {
		t.Errorf("in December: %v", err)
	}
	if used, err := a.Used(); used != 1<<20 || err != nil {
		t.Errorf("in December: %d bytes went, %v", used, err)
	}
	at(a, november) // a clock that was wrong takes no count away
	if used, err := a.Used(); used != 10<<20 || err != nil {
		t.Errorf("in November again: %d bytes went, %v", used, err)
	}
	for i := range 2 * mostMonths {
		at(a, november.AddDate(0, i, -5))
		_ = a.count(entered)
	}
	if c, err := readCount(file); len(c) != mostMonths || err != nil {
		t.Errorf("%d months are kept, %v", len(c), err)
	}
}

// TestCountLost: where it can't be counted nothing goes, and it is said what to do.
func TestCountLost(t *testing.T) {
	file := filepath.Join(t.TempDir(), "elm.json")
	for _, text := range []string{"{", `{"2026-11":-5}`, `{"2026-11":"many"}`, `[5]`,
		"{}" + strings.Repeat(" ", mostCount)} {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		m := NewMeter(file, 1<<30)
		if err := m.count(1); err == nil || errors.As(err, new(*SpentError)) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestMeteredConnection: what has come is given, nothing is written or read after that, and it is counted both ways.
func TestMeteredConnection(t *testing.T) {
	file := filepath.Join(t.TempDir(), "elm.json")
	p := New(Pace{Month: 100_000}, file)
	here, there := net.Pipe()
	c := p.Conn(here)
	got := make(chan int64, 1)
	go func() {
		n, _ := io.Copy(io.Discard, there)
		got <- n
	}()
	n, err := c.Write(make([]byte, 300_000))
	if !errors.As(err, new(*SpentError)) || n < 100_000 || n > 100_000+most {
		t.Errorf("%d bytes were written, %v", n, err)
	}
	if _, err := c.Read(make([]byte, 10)); !errors.As(err, new(*SpentError)) {
		t.Errorf("read: %v", err)
	}
	if err := c.Close(); err != nil {
		t.Error(err)
	}
	if went := <-got; went != int64(n) {
		t.Errorf("%d bytes came, %d were written", went, n)
	}
	if used, err := NewMeter(file, 1).Used(); used != int64(n) || err != nil {
		t.Errorf("%d bytes were counted, %v", used, err)
	}
	if err := p.May(); !errors.As(err, new(*SpentError)) {
		t.Errorf("another connection: %v", err)
	}
}
