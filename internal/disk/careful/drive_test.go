package careful

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// patient is a made-up drive with a name by which it is attached.
type patient struct {
	*disk.Memory
	path  string
	gone  atomic.Bool
	mu    sync.Mutex
	hangs chan struct{} // reads wait for it; nil for none
	reads atomic.Int64
	ended bool // it was closed
}

func (p *patient) Close() error {
	p.ended = true
	return nil
}

func (p *patient) Path() string { return p.path }

func (p *patient) ReadAt(b []byte, off int64) (int, error) {
	p.reads.Add(1)
	p.mu.Lock()
	hangs := p.hangs
	p.mu.Unlock()
	if hangs != nil {
		<-hangs
	}
	if p.gone.Load() {
		return 0, fmt.Errorf("read at byte %d: %w", off, disk.ErrGone)
	}
	return p.Memory.ReadAt(b, off)
}

// hang has reads hang from now on, until what it gives is closed.
func (p *patient) hang() chan struct{} {
	c := make(chan struct{})
	p.set(c)
	return c
}

func (p *patient) set(hangs chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.hangs = hangs
}

func newDisk(path string) *patient {
	p := &patient{Memory: disk.NewMemory(1<<20, 512), path: path}
	copy(p.Bytes[4096:], "what is on the drive")
	return p
}

// diary notes what the person is told, and lets time pass at once.
type diary struct {
	waits []string
	slept []time.Duration
}

func (d *diary) options() Options {
	return Options{Patience: 20 * time.Millisecond, Waits: func(why string) { d.waits = append(d.waits, why) },
		Sleep: func(ctx context.Context, t time.Duration) error {
			d.slept = append(d.slept, t)
			return ctx.Err()
		}}
}

func (d *diary) has(t *testing.T, words ...string) {
	t.Helper()
	for _, w := range words {
		if !strings.Contains(strings.Join(d.waits, "\n"), w) {
			t.Errorf("nothing is said of %q: %q", w, d.waits)
		}
	}
	if n := len(d.waits); n > 0 && d.waits[n-1] != "" {
		t.Errorf("it still waits: %q", d.waits[n-1])
	}
}

func read(t *testing.T, d *Drive) error {
	t.Helper()
	b := make([]byte, 20)
	n, err := d.Read(t.Context(), b, 4096)
	if err == nil && (n != 20 || !bytes.Equal(b, []byte("what is on the drive"))) {
		t.Errorf("%d bytes came: %q", n, b)
	}
	return err
}

// TestAHang: a read that hangs ends in time, nothing else is asked meanwhile, and the drive gets rest, longer each
// time, until a read goes well.
func TestAHang(t *testing.T) {
	p, note := newDisk("/dev/sdx"), &diary{}
	d := NewDrive(p, note.options())
	defer d.Close()
	var stalls []span.Span
	d.Stalled = func(sp span.Span) { stalls = append(stalls, sp) }
	for range 3 {
		hangs := p.hang()
		var bad *Failed
		if err := read(t, d); !errors.As(err, &bad) || !errors.Is(err, disk.ErrStalled) || bad.At != 4096 {
			t.Fatalf("a read that hangs: %v", err)
		}
		before := p.reads.Load()
		ctx, cancel := context.WithTimeout(t.Context(), 60*time.Millisecond)
		if _, err := d.Read(ctx, make([]byte, 20), 4096); !errors.Is(err, context.DeadlineExceeded) {
			t.Fatalf("while it hangs: %v", err)
		}
		cancel()
		if p.reads.Load() != before {
			t.Fatal("it was asked while it hung")
		}
		close(hangs)
	}
	p.set(nil)
	if err := read(t, d); err != nil {
		t.Fatal(err)
	}
	if err := read(t, d); err != nil || len(stalls) != 3 {
		t.Errorf("%v, %d stalls", err, len(stalls))
	}
	note.has(t, "the drive doesn't answer", "the drive hung: it gets 1s of rest", "it gets 4s of rest")
	if n := len(note.slept); note.slept[n-1] != 4*time.Second {
		t.Errorf("it rested %v", note.slept)
	}
}

// TestOneRest: a drive rests once for a hang, whatever the reads after it come to.
func TestOneRest(t *testing.T) {
	p, note := newDisk("/dev/sdx"), &diary{}
	hangs := p.hang()
	hurt := &disk.Faulty{Writable: p, BadRead: span.Of(span.At(65536, 512))}
	d := NewDrive(hurt, note.options())
	defer d.Close()
	if err := read(t, d); !errors.Is(err, disk.ErrStalled) {
		t.Fatal(err)
	}
	close(hangs)
	for range 5 {
		if _, err := d.Read(t.Context(), make([]byte, 512), 65536); !errors.Is(err, disk.ErrMedium) {
			t.Fatal(err)
		}
	}
	if len(note.slept) != 1 {
		t.Errorf("it rested %v", note.slept)
	}
}

// TestAnotherName: a drive that hung and comes back under another name is gone on with, without waiting for the read
// that hangs for ever.
func TestAnotherName(t *testing.T) {
	old, back, note := newDisk("/dev/sdx"), newDisk("/dev/sdy"), &diary{}
	defer close(old.hang())
	o := note.options()
	looks := 0
	var left []*patient
	o.Reopen = func(context.Context) (disk.Device, error) {
		if looks++; looks < 3 {
			left = append(left, newDisk("/dev/sdx")) // it is still where it was
			return left[len(left)-1], nil
		}
		return back, nil
	}
	d := NewDrive(old, o)
	if err := read(t, d); !errors.Is(err, disk.ErrStalled) {
		t.Fatal(err)
	}
	if err := read(t, d); err != nil || d.Device() != disk.Device(back) || back.reads.Load() == 0 {
		t.Errorf("%v; it is read from %v", err, d.Device())
	}
	for i, p := range left {
		if !p.ended {
			t.Errorf("what was opened at look %d stays open", i+1)
		}
	}
	if d.Close(); !back.ended || old.ended {
		t.Error("at the end not just what it opened itself is closed")
	}
	note.has(t, "the drive doesn't answer")
}

// TestGone: a drive that vanished is waited for; one that nobody can find again ends the work with the cause.
func TestGone(t *testing.T) {
	p, note := newDisk("/dev/sdx"), &diary{}
	p.gone.Store(true)
	d := NewDrive(p, note.options())
	if err := read(t, d); !errors.Is(err, disk.ErrGone) || errors.As(err, new(*Failed)) {
		t.Errorf("without a way to find it: %v", err)
	}
	o := note.options()
	tries := 0
	o.Reopen = func(context.Context) (disk.Device, error) {
		if tries++; tries < 4 {
			return nil, ErrNotThere
		}
		return newDisk("/dev/sdx"), nil
	}
	d = NewDrive(p, o)
	if err := read(t, d); err != nil || tries != 4 || len(note.slept) != 3 {
		t.Errorf("%v after %d tries, %v", err, tries, note.slept)
	}
	note.has(t, "is gone: attach it again, or switch it off and on")
	broken := errors.New("the bench can't be listed")
	o.Reopen = func(context.Context) (disk.Device, error) { return nil, broken }
	d = NewDrive(p, o)
	if err := read(t, d); !errors.Is(err, broken) || !errors.Is(err, disk.ErrGone) {
		t.Errorf("it can't be looked for: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	o.Reopen = func(context.Context) (disk.Device, error) { cancel(); return nil, ErrNotThere }
	d = NewDrive(p, o)
	if _, err := d.Read(ctx, make([]byte, 20), 4096); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled while it waits: %v", err)
	}
}

// TestHeat: a hot drive rests until it is well below its limit; one that doesn't tell its temperature is read.
func TestHeat(t *testing.T) {
	p, note := newDisk("/dev/sdx"), &diary{}
	o := note.options()
	warm := []int{61, 60, 58, 56, 55}
	o.Warmth = func(context.Context) (int, int, bool) {
		now := warm[0]
		warm = warm[1:]
		return now, 60, true
	}
	d := NewDrive(p, o)
	d.watched = time.Now().Add(-time.Hour)
	if err := read(t, d); err != nil || len(warm) != 0 || len(note.slept) != 4 {
		t.Errorf("%v; %v are left, it slept %v", err, warm, note.slept)
	}
	note.has(t, "the drive has 61 °C: it rests until it has 55 °C")
	o.Warmth = func(context.Context) (int, int, bool) { return 90, 0, false }
	d = NewDrive(p, o)
	d.watched = time.Now().Add(-time.Hour)
	if err := read(t, d); err != nil {
		t.Error(err)
	}
}

// TestRates: a stretch that is read at less than a tenth of the usual rate is slow, one of which little was read isn't
// judged.
func TestRates(t *testing.T) {
	const size = 512 * 64 << 20
	r := NewRates(size)
	for i := range int64(512) {
		took := 100 * time.Millisecond
		if i >= 100 && i < 103 {
			took = 2 * time.Second
		}
		if i != 200 {
			r.Add(span.At(i*64<<20, 16<<20), took)
		} else {
			r.Add(span.At(i*64<<20, 1<<20), time.Minute)
		}
	}
	if slow := r.Slow(); slow.Count() != 1 || slow.Bounds() != (span.Span{Start: 100 * 64 << 20, End: 103 * 64 << 20}) {
		t.Errorf("%v", slow)
	}
	if few := NewRates(size); !few.Slow().Empty() {
		t.Error("a drive that nobody has read is slow")
	}
}
