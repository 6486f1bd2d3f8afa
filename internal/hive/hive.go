// Package hive reads the registry files of Windows, and changes values in place: bytes in, patches out. A file that was
// being written when its system stopped is read together with its logs, or refused.
package hive

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

var le = binary.LittleEndian

// Hive is a registry file. It isn't safe for use by several at once while it is changed.
type Hive struct {
	r    io.ReaderAt
	size int64 // bytes of the file that are read: the first block and all bins
	head []byte
	// over are bytes that stand for those of the file, from logs and changes: ascending, apart.
	over []disk.Patch
	// Replayed says that logs were needed; then what is written has to be all that differs.
	Replayed bool
}

// DirtyError means that a file wasn't closed, and that its logs don't make it whole.
type DirtyError struct{ Why string }

func (e *DirtyError) Error() string {
	return "the registry file was being written when its system stopped, and " + e.Why
}

// Open reads a registry file of so many bytes. Where it wasn't closed its logs make it whole, in memory only.
func Open(r io.ReaderAt, size int64, logs ...Log) (*Hive, error) {
	head := make([]byte, headLen)
	if size < headLen {
		return nil, fmt.Errorf("a registry file of %d bytes", size)
	}
	if err := disk.ReadFull(r, head, 0); err != nil {
		return nil, err
	}
	if string(head[:4]) != headMark || le.Uint32(head[headType:]) != typePrimary ||
		le.Uint32(head[headFormat:]) != formatMemory {
		return nil, errors.New("it isn't a registry file")
	}
	h := &Hive{r: r, size: size, head: head}
	if sum(head) != le.Uint32(head[headSum:]) || le.Uint32(head[headFirst:]) != le.Uint32(head[headSecond:]) {
		if err := h.replay(logs); err != nil {
			return nil, err
		}
	}
	bins := int64(le.Uint32(h.head[headBins:]))
	if bins == 0 || bins%binUnit != 0 || bins > mostBins || !h.Replayed && headLen+bins > size {
		return nil, fmt.Errorf("the registry file has %d bytes, and claims %d of bins", size, bins)
	}
	h.size = headLen + bins
	return h, nil
}

// sum is the checksum of a first block.
func sum(head []byte) uint32 {
	out := uint32(0)
	for at := 0; at < headSum; at += 4 {
		out ^= le.Uint32(head[at:])
	}
	switch out { // neither stands for itself
	case 0:
		return 1
	case 0xFFFFFFFF:
		return 0xFFFFFFFE
	}
	return out
}

// read reads from the bins, as logs and changes make them.
func (h *Hive) read(b []byte, off int64) error {
	if off < 0 || off+int64(len(b)) > h.size-headLen {
		return fmt.Errorf("%d bytes at %#x lie outside of its bins", len(b), off)
	}
	at := headLen + off
	if err := disk.ReadFull(h.r, b, at); err != nil && !h.Replayed {
		return err
	} else if err != nil { // the logs made it longer
		clear(b)
		if _, err := h.r.ReadAt(b, at); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
	}
	want := span.At(at, int64(len(b)))
	i, _ := slices.BinarySearchFunc(h.over, at, func(p disk.Patch, at int64) int {
		if p.Span().End <= at {
			return -1
		}
		return 1
	})
	for ; i < len(h.over) && h.over[i].Off < want.End; i++ {
		hit := want.Intersect(h.over[i].Span())
		copy(b[hit.Start-at:hit.End-at], h.over[i].Data[hit.Start-h.over[i].Off:])
	}
	return nil
}

// cell reads what a cell that is in use holds; at counts from the end of the first block. At least so many bytes must
// be in it.
func (h *Hive) cell(at uint32, least int, mark string) ([]byte, error) {
	var n [cellHead]byte
	if at%cellUnit != 0 {
		return nil, fmt.Errorf("a cell at %#x", at)
	}
	if err := h.read(n[:], int64(at)); err != nil {
		return nil, err
	}
	size := -int64(int32(le.Uint32(n[:])))
	if size < cellUnit || size > mostCell || size%cellUnit != 0 || size-cellHead < int64(least) {
		return nil, fmt.Errorf("the cell at %#x has %d bytes", at, size)
	}
	b := make([]byte, size-cellHead)
	if err := h.read(b, int64(at)+cellHead); err != nil {
		return nil, err
	}
	if mark != "" && string(b[:len(mark)]) != mark {
		return nil, fmt.Errorf("the cell at %#x has %q, not %q", at, b[:len(mark)], mark)
	}
	return b, nil
}

// Time is a time as Windows counts them: in steps of 100 ns from 1601 on; zero where it is none.
func Time(n uint64) time.Time {
	const perSecond, to1970 = 10_000_000, 11_644_473_600
	if n == 0 || n > 1<<62 {
		return time.Time{}
	}
	return time.Unix(int64(n/perSecond)-to1970, int64(n%perSecond)*100).UTC()
}
