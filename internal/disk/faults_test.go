package disk

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"twinshelf/internal/span"
)

// TestFaults: a stand-in does wrong what its label says.
func TestFaults(t *testing.T) {
	img := filepath.Join(t.TempDir(), "petrel.img")
	if err := os.WriteFile(img, make([]byte, 1<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	label := map[string]any{"model": "Petrel", "unreadable": [][2]int{{4096, 8192}}, "faults": map[string]any{
		"unreadable": [][2]int{{16384, 16896}}, "weak": [][2]int{{32768, 33280}}, "weak_every": 3,
		"slow": [][2]int{{65536, 131072}}, "slow_rate": 1 << 20, "stalling": [][2]int{{262144, 262656}},
		"stall_seconds": 0.08, "gone_after": 600_000}}
	b, err := json.Marshal(label)
	if err == nil {
		err = os.WriteFile(LabelPath(img), b, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	d, err := OpenDirect(img, Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	at := func(off int64, n int) error {
		_, err := d.ReadAt(make([]byte, n), off)
		return err
	}
	for off, bad := range map[int64]bool{0: false, 4096: true, 16384: true, 17000: false} {
		if err := at(off, 256); errors.Is(err, ErrMedium) != bad {
			t.Errorf("byte %d: %v", off, err)
		}
	}
	for i, good := range []bool{false, false, true, false, false, true} {
		if err := at(32768, 512); (err == nil) != good {
			t.Errorf("try %d of a weak place: %v", i+1, err)
		}
	}
	for off, least := range map[int64]time.Duration{65536: 60 * time.Millisecond, 262144: 80 * time.Millisecond} {
		begun := time.Now()
		if err := at(off, 64<<10); err != nil || time.Since(begun) < least {
			t.Errorf("byte %d came after %v (%v)", off, time.Since(begun), err)
		}
	}
	if err := errors.Join(at(524288, 200<<10), at(524288, 200<<10)); err != nil {
		t.Error(err)
	}
	if err := at(0, 256<<10); !Gone(err) {
		t.Errorf("after so many bytes: %v", err)
	}
	if again, err := Open(img, Identity{}); err != nil {
		t.Error(err)
	} else if _, err = again.ReadAt(make([]byte, 256), 0); err != nil {
		t.Errorf("attached again: %v", err)
	}
}

// TestPace: a slow drive does one thing after another; only what goes on where the last ended has been begun already.
func TestPace(t *testing.T) {
	begun := time.Unix(1000, 0)
	at := func(ms int) time.Time { return begun.Add(time.Duration(ms) * time.Millisecond) }
	var p pace
	for i, x := range []struct {
		off                int64
		asked, takes, done int // milliseconds
		what               string
	}{
		{4096, 0, 100, 100, "the first"},
		{8192, 50, 100, 200, "one that is asked for meanwhile waits"},
		{20480, 300, 100, 400, "elsewhere, after a pause: nothing was read ahead"},
		{24576, 500, 100, 570, "it goes on after a pause of 100 ms: 30 ms of that were used"},
		{28672, 580, 100, 670, "it goes on at once"},
	} {
		takes := time.Duration(x.takes) * time.Millisecond
		if done := p.until(span.At(x.off, 4096), takes, at(x.asked)); !done.Equal(at(x.done)) {
			t.Errorf("%d, %s: done %v", i, x.what, done.Sub(begun))
		}
	}
}

// TestSlowBothWays: a slow stand-in takes its time for writes as for reads, and for all that ask at the same time.
func TestSlowBothWays(t *testing.T) {
	img := filepath.Join(t.TempDir(), "petrel.img")
	slow := &Faults{Slow: span.Of(span.At(0, 1<<20)), SlowRate: 10 << 20}
	label, err := json.Marshal(Label{Model: "Petrel", Faults: slow})
	if err == nil {
		err = errors.Join(os.WriteFile(img, make([]byte, 2<<20), 0o600), os.WriteFile(LabelPath(img), label, 0o600))
	}
	if err != nil {
		t.Fatal(err)
	}
	d, err := open(img, Identity{}, os.O_RDWR)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	w := &WritableFile{d}
	half := make([]byte, 512<<10)
	for _, two := range [][2]func() error{
		{func() error { _, err := w.WriteAt(half, 0); return err },
			func() error { _, err := w.WriteAt(half, 512<<10); return err }},
		{func() error { _, err := w.ReadAt(half, 0); return err },
			func() error { _, err := w.ReadAt(make([]byte, 512<<10), 512<<10); return err }},
	} {
		begun, other := time.Now(), make(chan error)
		go func() { other <- two[0]() }()
		if err := errors.Join(two[1](), <-other); err != nil {
			t.Error(err)
		}
		if took := time.Since(begun); took < 60*time.Millisecond {
			t.Errorf("1 MiB at 10 MiB a second took %v", took)
		}
	}
}

// TestAligned: memory for direct reads begins at a page, and is as long as was asked for.
func TestAligned(t *testing.T) {
	for _, n := range []int{1, 512, 4096, 4097, 1 << 20} {
		b := Aligned(n)
		if len(b) != n || cap(b) != n {
			t.Errorf("%d bytes: %d, %d", n, len(b), cap(b))
		}
		b[0], b[n-1] = 1, 1
	}
}
