package survey

import (
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

const (
	// mostTouched bounds what is known of what was read, in bytes of the device.
	mostTouched = 16 << 20
	// touchedStep is what is read at once all the same, in bytes.
	touchedStep = 4 << 10
)

// touched is a device that knows what was read of it: what says where files lie and what they are called.
type touched struct {
	disk.Device

	mu    sync.Mutex
	spans span.Set
	added int64 // bytes, some of them perhaps more than once
}

func (t *touched) ReadAt(b []byte, off int64) (int, error) {
	n, err := t.Device.ReadAt(b, off)
	if n > 0 {
		t.note(span.At(off, int64(n)))
	}
	return n, err
}

// note adds a stretch, as long as not too many are known.
func (t *touched) note(sp span.Span) {
	sp.Start = sp.Start / touchedStep * touchedStep
	sp.End = min(t.Size(), (sp.End+touchedStep-1)/touchedStep*touchedStep)
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.added+sp.Len() <= mostTouched && !t.spans.Covers(sp) {
		t.spans.Add(sp)
		t.added += sp.Len()
	}
}

// Touched is what of the area was read so far to find out what it holds, in bytes of the area; not all of it where that
// is very much.
func (a *Area) Touched() span.Set {
	if a.touched == nil {
		return span.Set{}
	}
	a.touched.mu.Lock()
	defer a.touched.mu.Unlock()
	return a.touched.spans.Clip(a.Span).Shift(-a.Span.Start)
}
