package disk

import (
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"syscall"
	"time"

	"twinshelf/internal/span"
)

// ErrMedium is what a stand-in reports for an unreadable or unwritable place.
var ErrMedium = errors.New("input/output error")

// ErrGone is what a stand-in reports once it was pulled out.
var ErrGone = errors.New("no such device")

// Gone says whether an error means that the whole disk has vanished.
func Gone(err error) bool {
	return errors.Is(err, ErrGone) || errors.Is(err, syscall.ENODEV) || errors.Is(err, syscall.ENXIO)
}

// within is what of a read lies on a device; io.EOF when nothing does.
func within(d Device, off int64, n int) (span.Span, error) {
	if off < 0 {
		return span.Span{}, fmt.Errorf("a read at byte %d", off)
	}
	if off >= d.Size() && n > 0 {
		return span.Span{}, io.EOF
	}
	return span.At(off, int64(n)).Intersect(span.Span{End: d.Size()}), nil
}

func eofIfShort(n, want int) error {
	if n < want {
		return io.EOF
	}
	return nil
}

// Memory is a stand-in disk held in memory, for tests and rehearsals of small
// disks.
type Memory struct {
	Bytes  []byte
	ID     Identity
	Sector int
}

// NewMemory returns a blank disk of size bytes.
func NewMemory(size int64, sector int) *Memory {
	return &Memory{Bytes: make([]byte, size), Sector: sector,
		ID: Identity{Model: "stand-in", Size: size, Sector: sector}}
}

func (m *Memory) Size() int64        { return int64(len(m.Bytes)) }
func (m *Memory) SectorSize() int    { return m.Sector }
func (m *Memory) Identity() Identity { return m.ID }
func (m *Memory) Sync() error        { return nil }

// ReadAt copies from the memory.
func (m *Memory) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= m.Size() {
		return 0, io.EOF
	}
	n := copy(p, m.Bytes[off:])
	return n, eofIfShort(n, len(p))
}

// WriteAt copies into the memory; writing beyond the end is an error.
func (m *Memory) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > m.Size() {
		return 0, fmt.Errorf("write of %d bytes at byte %d of %d: no space left on device", len(p), off, m.Size())
	}
	return copy(m.Bytes[off:], p), nil
}

// Faulty is a stand-in for a failing disk: places that can't be read or
// written, a delay per call, and a moment at which it is pulled out.
type Faulty struct {
	Writable
	BadRead, BadWrite span.Set
	Delay             time.Duration
	// GoneAfter is the number of bytes read and written after which every
	// call fails with ErrGone; 0 means never.
	GoneAfter int64
	moved     atomic.Int64
}

func (f *Faulty) before(n int) error {
	if f.Delay > 0 {
		time.Sleep(f.Delay)
	}
	if f.moved.Add(int64(n)) > f.GoneAfter && f.GoneAfter > 0 {
		return ErrGone
	}
	return nil
}

// ReadAt reads, unless the place is bad or the disk is gone.
func (f *Faulty) ReadAt(p []byte, off int64) (int, error) {
	if err := f.before(len(p)); err != nil {
		return 0, err
	}
	if f.BadRead.Overlaps(span.At(off, int64(len(p)))) {
		return 0, fmt.Errorf("read at byte %d: %w", off, ErrMedium)
	}
	return f.Writable.ReadAt(p, off)
}

// WriteAt writes, unless the place is bad or the disk is gone.
func (f *Faulty) WriteAt(p []byte, off int64) (int, error) {
	if err := f.before(len(p)); err != nil {
		return 0, err
	}
	if f.BadWrite.Overlaps(span.At(off, int64(len(p)))) {
		return 0, fmt.Errorf("write at byte %d: %w", off, ErrMedium)
	}
	return f.Writable.WriteAt(p, off)
}
