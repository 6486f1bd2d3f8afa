// Package disktest holds the suite that every Device must pass.
package disktest

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"sync"
	"testing"

	"twinshelf/internal/disk"
)

// Conform holds a device to what everything in the house counts on; want are its bytes. A device that is Mapped must
// name them all.
func Conform(t *testing.T, d disk.Device, want []byte) {
	t.Helper()
	size := int64(len(want))
	if d.Size() != size {
		t.Fatalf("its size is %d, and it has %d bytes", d.Size(), size)
	}
	if s := d.SectorSize(); s != 512 && s != 4096 {
		t.Errorf("its sectors have %d bytes", s)
	}
	if id := d.Identity(); id.Size != 0 && id.Size != size || id.Sector != 0 && id.Sector != d.SectorSize() {
		t.Errorf("it is said to be %+v", id)
	}
	whole(t, d, want)
	ends(t, d, want)
	scattered(t, d, want)
	if m, ok := d.(disk.Mapped); ok {
		pieces(t, m, want)
	}
	if s, ok := d.(disk.Sparse); ok {
		data(t, s, want)
	}
}

func whole(t *testing.T, d disk.Device, want []byte) {
	t.Helper()
	got := make([]byte, len(want))
	if err := disk.ReadFull(d, got, 0); err != nil || !bytes.Equal(got, want) {
		t.Errorf("read at once it differs from byte %d on (%v)", firstDifference(got, want), err)
	}
}

// ends reads at and beyond both ends, and nothing at all.
func ends(t *testing.T, d disk.Device, want []byte) {
	t.Helper()
	size := int64(len(want))
	for _, c := range []struct {
		off  int64
		n    int
		want int
	}{
		{0, 1, 1}, {size - 1, 1, 1}, {size - 1, 2, 1}, {size - 5, 100, 5}, {size, 1, 0}, {size + 1, 1, 0},
		{size + 1<<40, 9, 0},
		{0, 0, 0}, {size / 2, 0, 0},
	} {
		p := bytes.Repeat([]byte{0xA5}, c.n+8)
		n, err := d.ReadAt(p[:c.n], c.off)
		if n != c.want || n > 0 && !bytes.Equal(p[:n], want[c.off:][:n]) {
			t.Errorf("%d bytes at %d: %d bytes (%v), or wrong ones", c.n, c.off, n, err)
		}
		if n < c.n && !errors.Is(err, io.EOF) {
			t.Errorf("%d bytes at %d end with %v", c.n, c.off, err)
		}
		if n == c.n && err != nil && !errors.Is(err, io.EOF) {
			t.Errorf("%d bytes at %d: %v", c.n, c.off, err)
		}
		if !bytes.Equal(p[c.n:], bytes.Repeat([]byte{0xA5}, 8)) {
			t.Errorf("%d bytes at %d: it wrote behind the buffer", c.n, c.off)
		}
	}
	if n, err := d.ReadAt(make([]byte, 1), -1); n > 0 || err == nil {
		t.Errorf("a byte before the beginning: %d bytes, %v", n, err)
	}
}

// scattered reads from many goroutines at places that have nothing to do with sectors.
func scattered(t *testing.T, d disk.Device, want []byte) {
	t.Helper()
	var all sync.WaitGroup
	for g := range uint64(4) {
		all.Go(func() {
			r := rand.New(rand.NewPCG(g, 5))
			for range 60 {
				off := r.IntN(len(want))
				p := make([]byte, r.IntN(min(len(want)-off, 200_000)+1))
				if err := disk.ReadFull(d, p, int64(off)); err != nil || !bytes.Equal(p, want[off:][:len(p)]) {
					t.Errorf("%d bytes at %d: %v, or others than one after the other", len(p), off, err)
					return
				}
			}
		})
	}
	all.Wait()
}

// pieces looks whether a device's map is in order, covers it, and tells the truth.
func pieces(t *testing.T, d disk.Mapped, want []byte) {
	t.Helper()
	at := int64(0)
	for p, err := range d.Pieces() {
		if err != nil {
			t.Errorf("its map: %v", err)
			return
		}
		if p.Start != at || p.End <= p.Start || p.End > d.Size() {
			t.Errorf("a piece from %d to %d behind byte %d", p.Start, p.End, at)
			return
		}
		at = p.End
		if zeros := len(bytes.TrimLeft(want[p.Start:p.End], "\x00")) == 0; p.Kind == disk.Zero && !zeros {
			t.Errorf("the piece from %d to %d is said to be zeros", p.Start, p.End)
		}
	}
	if at != d.Size() {
		t.Errorf("its map ends at %d of %d", at, d.Size())
	}
	for range d.Pieces() { // one who stops is let go
		break
	}
}

// data looks whether everything that a device says nothing of is zeros.
func data(t *testing.T, d disk.Sparse, want []byte) {
	t.Helper()
	for off := int64(0); off < int64(len(want)); {
		sp, err := d.NextData(off)
		if errors.Is(err, io.EOF) {
			sp.Start, sp.End = int64(len(want)), int64(len(want))
		} else if err != nil || sp.Start < off || sp.Empty() {
			t.Errorf("data at or behind %d: %v, %v", off, sp, err)
			return
		}
		if len(bytes.TrimLeft(want[off:min(sp.Start, int64(len(want)))], "\x00")) > 0 {
			t.Errorf("there is data between %d and %d", off, sp.Start)
		}
		off = max(sp.End, off+1)
	}
}

func firstDifference(a, b []byte) int {
	for i := range a {
		if a[i] != b[i] {
			return i
		}
	}
	return len(a)
}
