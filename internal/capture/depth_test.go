package capture

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
)

// TestDepth: as many reads at the same time as bring more, by what each kind of drive gives.
func TestDepth(t *testing.T) {
	const piece = trial / 4
	for name, x := range map[string]struct {
		rate   func(n float64) float64 // megabytes a second with so many at the same time
		waited bool
		want   []int // one after another, until it stays
	}{
		"takes a while for each":       {func(n float64) float64 { return 200 * n }, true, []int{1, 2, 4, 8}},
		"has room for two":             {func(n float64) float64 { return 300 * min(n, 2) }, true, []int{1, 2, 4, 2}},
		"gives as much as it can":      {func(float64) float64 { return 150 }, true, []int{1, 2, 1}},
		"goes to and fro":              {func(n float64) float64 { return 150 / (n * n) }, true, []int{1, 2, 1}},
		"is never waited for":          {func(n float64) float64 { return 5000 * n }, false, []int{1}},
		"gives a little more with two": {func(n float64) float64 { return 100 + 10*n }, true, []int{1, 2, 1}},
	} {
		d, got := newDepth(0), []int{1}
		feed := func(bytes int64) {
			for range bytes / piece {
				took := time.Duration(piece / (x.rate(float64(d.now)) * 1e6) * float64(time.Second))
				d.gave(piece, took, x.waited)
				if d.now != got[len(got)-1] {
					got = append(got, d.now)
				}
			}
		}
		feed(settled / 2)
		if !slices.Equal(got, x.want) {
			t.Errorf("%s: %v, want %v", name, got, x.want)
		}
		feed(settled) // it is tried anew: a disk may be another one further on
		again := append(slices.Clone(x.want), x.want[min(1, len(x.want)-1):]...)
		if x.want[len(x.want)-1] != 1 {
			again = append(slices.Clone(x.want), x.want...)
		}
		if len(x.want) > 1 && !slices.Equal(got, again) {
			t.Errorf("%s, later: %v, want %v", name, got, again)
		}
		d.failed()
		d.gave(settled*2, time.Second, true)
		if d.now != 1 {
			t.Errorf("%s: %d at the same time after a failure", name, d.now)
		}
	}
}

// answering is a drive that takes as long for each read, however many are under way; from the byte where it is gone on
// it is.
type answering struct {
	disk.Device
	takes time.Duration
	gone  int64 // 0 for never

	mu        sync.Mutex
	now, most int
	each      func() // with mu held
}

func (a *answering) ReadAt(p []byte, off int64) (int, error) {
	a.mu.Lock()
	a.now++
	a.most = max(a.most, a.now)
	if a.each != nil {
		a.each()
	}
	a.mu.Unlock()
	time.Sleep(a.takes)
	a.mu.Lock()
	a.now--
	a.mu.Unlock()
	if a.gone > 0 && off+int64(len(p)) > a.gone {
		return 0, fmt.Errorf("read at byte %d: %w", off, disk.ErrGone)
	}
	return a.Device.ReadAt(p, off)
}

// raw is a disk without a table: all of it is kept.
func raw(n int) *disk.Memory {
	m := disk.NewMemory(int64(n), 512)
	for i := range m.Bytes {
		m.Bytes[i] = byte(i>>9) ^ byte(i*7)
	}
	return m
}

// TestReadsUnderWay: a drive that likes it is read at several places at the same time, and its twin is what it is with
// one at a time; where places are bad, or the drive vanishes, exactly the same is missing as well.
func TestReadsUnderWay(t *testing.T) {
	const size = 16 << 20
	for name, x := range map[string]struct {
		bad     span.Set
		gone    int64
		missing span.Set
	}{
		"good":     {},
		"bad":      {bad: span.Of(span.At(10<<20+8192, 4096)), missing: span.Of(span.At(10<<20+8192, 4096))},
		"at first": {bad: span.Of(span.At(1<<20, 512)), missing: span.Of(span.At(1<<20, 4096))},
		"gone":     {gone: 9 << 20, missing: span.Of(span.Span{Start: 9 << 20, End: size})},
	} {
		m := raw(size)
		drive := &answering{Device: &disk.Faulty{Writable: m, BadRead: x.bad}}
		p := planOf(t, "Harbour kiosk", false, drive)
		drive.takes, drive.gone, p.depth = time.Millisecond, x.gone, 5
		twin, err := carryOut(p)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if drive.most < 2 || drive.most > p.depth {
			t.Errorf("%s: %d reads at the same time", name, drive.most)
		}
		if d := twin.Disks[0]; !d.Missing.Equal(x.missing) {
			t.Errorf("%s: missing %v, want %v", name, d.Missing, x.missing)
		}
		holdsAll(t, name, p.Shelf, twin, m, x.missing)
	}
}

// holdsAll compares all of a twin's disk with what was captured, but for what is missing.
func holdsAll(t *testing.T, name string, s *shelf.Shelf, twin *shelf.Twin, m *disk.Memory, missing span.Set) {
	t.Helper()
	d, err := s.OpenDisk(t.Context(), twin, 0)
	if err != nil {
		t.Fatal(err)
	}
	got := make([]byte, m.Size())
	if err := disk.ReadFull(d, got, 0); err != nil {
		t.Fatal(err)
	}
	want := bytes.Clone(m.Bytes)
	for sp := range missing.All() {
		clear(want[sp.Start:sp.End])
	}
	if !bytes.Equal(got, want) {
		t.Errorf("%s: the twin's disk is another one", name)
	}
}

// TestCutOffUnderWay: who cancels in the middle waits for the reads that are under way.
func TestCutOffUnderWay(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	drive := &answering{Device: raw(16 << 20)}
	p := planOf(t, "Harbour kiosk", false, drive)
	drive.takes, p.depth = time.Millisecond, 5
	drive.each = func() {
		if drive.now > 2 {
			cancel()
		}
	}
	err := run.Start(ctx, "t", Phases, nil, func(rc *run.Context) error {
		_, err := p.Run(rc)
		if drive.now != 0 {
			t.Errorf("%d reads are under way", drive.now)
		}
		return err
	}).Wait()
	if !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}
