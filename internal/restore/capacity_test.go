package restore

import (
	"bytes"
	"context"
	"errors"
	"io"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// wrapping is a drive that says that it is larger than it is, and begins again at its start. What was never written
// reads as zeros.
type wrapping struct {
	size, real int64
	bytes      map[int64][]byte // by page
	bad        span.Set         // can't be read
	writes     int
}

const page = 4096

func (w *wrapping) Size() int64             { return w.size }
func (w *wrapping) SectorSize() int         { return 512 }
func (w *wrapping) Sync() error             { return nil }
func (w *wrapping) Identity() disk.Identity { return disk.Identity{Model: "Herring H1", Size: w.size} }

func (w *wrapping) each(p []byte, off int64, do func(inPage, p []byte)) {
	for n := 0; n < len(p); {
		at := (off + int64(n)) % w.real
		part := p[n:min(len(p), n+int(page-at%page))]
		if w.bytes[at/page] == nil {
			w.bytes[at/page] = make([]byte, page)
		}
		do(w.bytes[at/page][at%page:], part)
		n += len(part)
	}
}

func (w *wrapping) ReadAt(p []byte, off int64) (int, error) {
	if w.bad.Overlaps(span.At(off, int64(len(p)))) {
		return 0, disk.ErrMedium
	}
	if len(p) > page { // what was never written needs no room
		clear(p)
		for i := 0; i < len(p); i += page {
			if b := w.bytes[(off+int64(i))%w.real/page]; b != nil {
				copy(p[i:], b)
			}
		}
		return len(p), nil
	}
	w.each(p, off, func(in, p []byte) { copy(p, in) })
	return len(p), nil
}

func (w *wrapping) WriteAt(p []byte, off int64) (int, error) {
	w.writes++
	if off+int64(len(p)) > w.size {
		return 0, io.ErrShortWrite
	}
	w.each(p, off, func(in, p []byte) { copy(in, p) })
	return len(p), nil
}

// TestCapacity: wherever a drive begins again at its start, that is found out; one that has its room has afterwards
// what it had before.
func TestCapacity(t *testing.T) {
	const size = 3<<30 + 7*512
	const half = size / 2 / page * page
	for _, real := range []int64{64 << 20, 65<<20 + page, 200 << 20, 1 << 30, size / 3 / page * page, half, half + page,
		2 << 30, 3<<30 - page, 2900 << 20} {
		w := &wrapping{size: size, real: real, bytes: map[int64][]byte{}}
		var low *Capacity
		known, err := capacity(t.Context(), w, span.Set{})
		if !errors.As(err, &low) || !known || low.Size != size {
			t.Errorf("%d bytes of %d: %v, %v", real, int64(size), known, err)
		}
	}
	w := &wrapping{size: size, real: size / page * page, bytes: map[int64][]byte{}}
	old := bytes.Repeat([]byte("a part that stays"), 300)
	for at := int64(0); at+int64(len(old)) < w.real; at += 50 << 20 {
		_, _ = w.WriteAt(old, at)
	}
	if known, err := capacity(t.Context(), w, span.Set{}); !known || err != nil {
		t.Errorf("one with its room: %v, %v", known, err)
	}
	for at := int64(0); at+int64(len(old)) < w.real; at += 50 << 20 {
		got := make([]byte, len(old))
		for i := range got {
			_, _ = w.ReadAt(got[i:i+1], at+int64(i))
		}
		if !bytes.Equal(got, old) {
			t.Fatalf("what lay at byte %d isn't there any more", at)
		}
	}
}

// TestCapacityCantBeTold: where places mustn't be written, or can't be read, nothing is claimed, and nothing changes.
func TestCapacityCantBeTold(t *testing.T) {
	const size = 2 << 30
	drive := func() *wrapping { return &wrapping{size: size, real: 1 << 30, bytes: map[int64][]byte{}} }
	keep := span.Of(span.At(1200<<20, 300<<20))
	w := drive()
	if known, err := capacity(t.Context(), w, keep); known || err != nil || w.writes > 0 {
		t.Errorf("a part that stays: %v, %v, %d written", known, err, w.writes)
	}
	w.real = size // a part that is short enough to stay between two places
	if known, err := capacity(t.Context(), w, span.Of(span.At(1<<30-2048, 30<<20))); !known || err != nil {
		t.Errorf("a short part that stays: %v, %v", known, err)
	}
	for at := range w.bytes {
		if span.At(1<<30-2048, 30<<20).Overlaps(span.At(at*page, page)) {
			t.Errorf("byte %d was touched", at*page)
		}
	}
	for _, bad := range []int64{10 << 20, 1<<30 + (lowStretch(size).Len()-page)*2} {
		w = drive()
		w.real, w.bad = size, span.Of(span.At(bad, 512))
		if known, err := capacity(t.Context(), w, span.Set{}); known || err != nil {
			t.Errorf("byte %d can't be read: %v, %v", bad, known, err)
		}
		for at, b := range w.bytes {
			if !disk.IsZero(b) {
				t.Errorf("byte %d isn't as it was", at*page)
			}
		}
	}
	ctx, stop := context.WithCancel(t.Context())
	stop()
	if _, err := capacity(ctx, drive(), span.Set{}); !errors.Is(err, context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
}
