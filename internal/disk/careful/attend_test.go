package careful_test

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

func noise(seed uint64, n int) []byte {
	r := rand.New(rand.NewPCG(seed, 17))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

func readAll(d disk.Device, at, n int) ([]byte, error) {
	b := make([]byte, n)
	for off := 0; off < n; off += 64 << 10 {
		if err := disk.ReadFull(d, b[off:off+64<<10], int64(at+off)); err != nil {
			return nil, err
		}
	}
	return b, nil
}

// TestAttend: a drive that vanishes again and again is read to its end, by several readers, and another drive with its
// name isn't taken for it.
func TestAttend(t *testing.T) {
	b := noise(1, 4<<20)
	f := &disk.Faults{GoneAfter: 1 << 20}
	d := testkit.StandIn(t, b, f)
	other := noise(1, 4<<20)
	other[100]++
	var said []string
	looks := 0
	o := careful.Options{Waits: func(why string) { said = append(said, why) },
		Sleep: func(ctx context.Context, _ time.Duration) error { return ctx.Err() },
		Reopen: func(context.Context) (disk.Device, error) {
			switch looks++; looks {
			case 1:
				return nil, careful.ErrNotThere
			case 2:
				return testkit.StandIn(t, b[:2<<20], nil), nil
			case 3:
				return testkit.StandIn(t, other, nil), nil
			}
			return testkit.StandIn(t, b, &disk.Faults{GoneAfter: 1 << 20}), nil
		}}
	w, err := careful.NewWitness(t.Context(), d, []span.Span{span.At(0, 4096)})
	if err != nil {
		t.Fatal(err)
	}
	o.Same = w.Same
	first := d.Path()
	end := careful.Attend(t.Context(), d, o)
	var readers sync.WaitGroup
	for i := range 4 {
		readers.Go(func() {
			got, err := readAll(d, i<<20, 1<<20)
			if err != nil || !bytes.Equal(got, b[i<<20:][:1<<20]) {
				t.Errorf("reader %d: %v", i, err)
			}
		})
	}
	readers.Wait()
	if looks < 6 || d.Path() == first {
		t.Errorf("%d looks; it is at %s", looks, d.Path())
	}
	all := strings.Join(said, "\n")
	for _, words := range []string{"is gone: attach it again", "what is attached there isn't taken for it: it has " +
		"2097152 bytes",
		"what is attached there isn't taken for it: it doesn't hold what the drive held at byte 0"} {
		if !strings.Contains(all, words) {
			t.Errorf("nothing is said of %q: %q", words, said)
		}
	}
	if end(); said[len(said)-1] != "" {
		t.Errorf("it still waits: %q", said)
	}
	if _, err := readAll(d, 0, 2<<20); !disk.Gone(err) {
		t.Errorf("afterwards nobody looks after it: %v", err)
	}
}

// TestNobodyComes: a drive that stays away is given up, once for all readers; so it is where the work ends.
func TestNobodyComes(t *testing.T) {
	b := noise(2, 1<<20)
	waited := 0
	o := careful.Options{Absent: 20 * time.Second, Waits: func(string) {},
		Sleep:  func(ctx context.Context, _ time.Duration) error { waited++; return ctx.Err() },
		Reopen: func(context.Context) (disk.Device, error) { return nil, careful.ErrNotThere }}
	d := testkit.StandIn(t, b, &disk.Faults{GoneAfter: 1})
	end := careful.Attend(t.Context(), d, o)
	for range 3 {
		if _, err := readAll(d, 0, 64<<10); !disk.Gone(err) || waited != 10 || d.Stuck() > 0 {
			t.Errorf("after %d waits: %v", waited, err)
		}
	}
	end()
	ctx, cancel := context.WithCancel(t.Context())
	o.Reopen = func(context.Context) (disk.Device, error) { cancel(); return nil, careful.ErrNotThere }
	defer careful.Attend(ctx, d, o)()
	if _, err := readAll(d, 0, 64<<10); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled while it waits: %v", err)
	}
}

// TestWitness: places that can't be read say nothing, and a drive that vanishes meanwhile isn't another one.
func TestWitness(t *testing.T) {
	b := noise(3, 1<<20)
	places := []span.Span{span.At(0, 4096), span.At(512<<10, 4096)}
	hurt := testkit.StandIn(t, b, &disk.Faults{Unreadable: span.Of(span.At(0, 512))})
	w, err := careful.NewWitness(t.Context(), hurt, places)
	if err != nil {
		t.Fatal(err)
	}
	changed := bytes.Clone(b)
	changed[0]++
	if err := w.Same(t.Context(), testkit.StandIn(t, changed, nil)); err != nil {
		t.Errorf("a place that couldn't be read: %v", err)
	}
	changed[512<<10]++
	if err := w.Same(t.Context(), testkit.StandIn(t, changed, nil)); !errors.Is(err, careful.ErrChanged) {
		t.Errorf("another content: %v", err)
	}
	dead := testkit.StandIn(t, b, &disk.Faults{Unreadable: span.Of(span.At(0, 1<<20))})
	if err := w.Same(t.Context(), dead); !errors.Is(err, careful.ErrUntold) {
		t.Errorf("nothing can be compared: %v", err)
	}
	gone := testkit.StandIn(t, b, &disk.Faults{GoneAfter: 1})
	if err := w.Same(t.Context(), gone); !disk.Gone(err) {
		t.Errorf("gone again: %v", err)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := careful.NewWitness(ended, hurt, places); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
}

// TestHot: a drive that is read for other work rests, too.
func TestHot(t *testing.T) {
	d := testkit.StandIn(t, noise(4, 1<<20), nil)
	degrees := []int{70, 70, 58, 40}
	rests := 0
	o := careful.Options{Waits: func(string) {},
		Warmth: func(context.Context) (int, int, bool) {
			now := degrees[0]
			degrees = degrees[1:]
			return now, 60, true
		},
		Sleep: func(context.Context, time.Duration) error { rests++; return nil }}
	o.Watch = time.Nanosecond
	defer careful.Attend(t.Context(), d, o)()
	if _, err := readAll(d, 0, 64<<10); err != nil || rests != 3 {
		t.Errorf("%d rests, %v", rests, err)
	}
}
