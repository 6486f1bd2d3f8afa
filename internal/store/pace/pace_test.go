package pace

import (
	"bytes"
	"errors"
	"io"
	"net"
	"testing"
	"time"
)

// TestHours: hours are read as people write them, and mean what they say, over midnight too.
func TestHours(t *testing.T) {
	for text, want := range map[string][2]int{"8:00 to 18:00": {480, 1080}, "22:30 to 5:00": {1350, 300}} {
		from, to, err := Hours(text)
		if err != nil || from != want[0] || to != want[1] {
			t.Errorf("%s: %d to %d, %v", text, from, to, err)
		}
	}
	for _, text := range []string{"", "8 to 18", "8:00", "8:00 to 25:00", "8:00 to 8:00"} {
		if _, _, err := Hours(text); !errors.Is(err, ErrHours) {
			t.Errorf("%q: %v", text, err)
		}
	}
	at := func(clock string) time.Time {
		c, err := time.Parse("15:04", clock)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	day, night := Pace{Rate: 7, From: 480, To: 1080}, Pace{Rate: 7, From: 1350, To: 300}
	for _, c := range []struct {
		pace  Pace
		clock string
		want  int64
	}{
		{Pace{}, "12:00", 0}, {Pace{Rate: 7}, "12:00", 7},
		{day, "7:59", 0}, {day, "8:00", 7}, {day, "18:00", 0},
		{night, "23:00", 7}, {night, "4:59", 7}, {night, "12:00", 0},
	} {
		if got := c.pace.At(at(c.clock)); got != c.want {
			t.Errorf("%+v at %s: %d", c.pace, c.clock, got)
		}
	}
}

// TestPace: two connections together carry no more than the pace, and everything right.
func TestPace(t *testing.T) {
	if New(Pace{}, "") != nil || New(Pace{}, "").Conn(nil) != nil {
		t.Error("no pace isn't none")
	}
	p := New(Pace{Rate: 2_000_000}, "")
	content := bytes.Repeat([]byte("oak and elm "), 25_000) // 300 kB
	begun := time.Now()
	done := make(chan error, 2)
	for range 2 {
		a, b := net.Pipe()
		c := p.Conn(a)
		go func() {
			_, err := c.Write(content)
			done <- errors.Join(err, c.Close())
		}()
		defer b.Close()
		got, err := io.ReadAll(b)
		if err != nil || !bytes.Equal(got, content) {
			t.Errorf("%d bytes, %v", len(got), err)
		}
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	if took := time.Since(begun); took < 150*time.Millisecond { // 600 kB at that pace, but for what goes ahead
		t.Errorf("it took %v", took)
	}
}
