// Package disk holds the one idea that everything else works on: a Device, a
// thing of fixed size whose bytes can be read at any place. Attached disks,
// image files, twins on a shelf and planned disks are all Devices.
//
// It is also the only room in the house that opens a disk for writing: see Guard.
package disk

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"

	"github.com/zeebo/blake3"

	"twinshelf/internal/span"
)

// Device is something with the shape of a disk. ReadAt must be safe for
// concurrent use.
type Device interface {
	io.ReaderAt
	// Size is in bytes.
	Size() int64
	// SectorSize is the logical sector size in bytes: 512 or 4096.
	SectorSize() int
	Identity() Identity
}

// Writable is a Device that can be written. Only Guard hands one out for a
// disk or an image file.
type Writable interface {
	Device
	io.WriterAt
	// Sync returns once everything written is on the medium.
	Sync() error
}

// Identity tells which disk this is, by what is on its sticker and never by
// the name the kernel happened to give it.
type Identity struct {
	Model  string `json:"model"`
	Serial string `json:"serial,omitempty"`
	WWN    string `json:"wwn,omitempty"`
	Bus    string `json:"bus,omitempty"`
	Size   int64  `json:"size"`
	Sector int    `json:"sector"`
}

// Key is a text that is equal for the same disk and differs between disks, as
// far as the disk itself tells.
func (id Identity) Key() string {
	return fmt.Sprintf("%s|%s|%s|%d", id.Model, id.Serial, id.WWN, id.Size)
}

// Tail is the last four characters of the serial number, or "" without one.
func (id Identity) Tail() string {
	r := []rune(id.Serial)
	return string(r[max(0, len(r)-4):])
}

// Sparse is a Device that knows where it certainly holds only zeros.
type Sparse interface {
	// NextData returns the first stretch at or after off that may hold
	// something else than zeros; io.EOF when there is none.
	NextData(off int64) (span.Span, error)
}

// PieceKind says what a device holds in a stretch.
type PieceKind uint8

const (
	// Undefined stretches may hold anything: nobody needs them.
	Undefined PieceKind = iota
	// Zero stretches must read as zeros.
	Zero
	// Data stretches hold bytes that matter.
	Data
)

// Piece is a stretch of a device that is all of one kind.
type Piece struct {
	span.Span
	Kind PieceKind
	// Name is the content's name when the device knows it without reading
	// (a block of a shelf), otherwise empty.
	Name string
}

// Mapped is a Device that knows what it must hold where. Pieces come in
// ascending order, don't overlap and cover the whole device.
type Mapped interface {
	Device
	Pieces() iter.Seq2[Piece, error]
}

// Stretches are the pieces of such kinds, up to the first that can't be told.
func Stretches(m Mapped, kinds ...PieceKind) iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		for p, err := range m.Pieces() {
			if err != nil || slices.Contains(kinds, p.Kind) && !yield(p.Span) {
				return
			}
		}
	}
}

// Fingerprint names the present state of a device: its size, its sector size
// and its first and last MiB. Two different states of a table or of a file
// system's head have different fingerprints.
func Fingerprint(d Device) (string, error) {
	h := blake3.New()
	fmt.Fprintf(h, "%d %d\n", d.Size(), d.SectorSize())
	const edge = 1 << 20
	n := min(d.Size(), edge)
	buf := make([]byte, n)
	for _, off := range []int64{0, d.Size() - n} {
		err := ReadFull(d, buf, off)
		if err != nil && !Gone(err) {
			err = readable(d, buf, off, h)
		}
		if err != nil {
			return "", err
		}
		h.Write(buf)
	}
	return hex.EncodeToString(h.Sum(nil)[:16]), nil
}

// readable reads step by step what a failing disk still gives; where it gives nothing buf has zeros and h hears of the
// place.
func readable(d Device, buf []byte, off int64, h io.Writer) error {
	const step = 4096
	for at := 0; at < len(buf); at += step {
		b := buf[at:min(len(buf), at+step)]
		err := ReadFull(d, b, off+int64(at))
		if Gone(err) {
			return err
		}
		if err != nil {
			clear(b)
			fmt.Fprintf(h, "unreadable at %d\n", off+int64(at))
		}
	}
	return nil
}

// ReadFull fills p from off; the error names the place. A short read is
// io.ErrUnexpectedEOF.
func ReadFull(r io.ReaderAt, p []byte, off int64) error {
	n, err := r.ReadAt(p, off)
	if n == len(p) {
		return nil
	}
	if err == nil || errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return fmt.Errorf("read of %d bytes at byte %d: %w", len(p), off, err)
}

// Section is the part [off, off+n) of a device as a ReaderAt of its own.
func Section(r io.ReaderAt, off, n int64) *io.SectionReader { return io.NewSectionReader(r, off, n) }
