package restore

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"

	"github.com/zeebo/blake3"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Some counterfeit drives say that they are larger than they are, and begin again at their start: what is written
// beyond their end takes the place of what was written first. Each write can be read back at once, and yet not all of
// it is there at the end. So nothing that is read back before the end counts on a drive whose capacity wasn't checked.

const (
	// probeLen is the length of a mark that is written to check the capacity, in bytes.
	probeLen = 4096
	// lowShare is which share of a drive is the low stretch, which is read twice; leastLow and mostLow bound that, in
	// bytes.
	lowShare = 2048
	leastLow = 64 << 20
	mostLow  = 1 << 30
	// mostProbes bounds the marks: a drive of 64 TiB has as many.
	mostProbes = 1 << 15
)

// Capacity is the error of a drive that has less room than it says.
type Capacity struct {
	Disk string // which, in words
	Size int64  // that it says, in bytes
	Low  int64  // bytes at its start, of which some changed
}

func (e *Capacity) Error() string {
	return fmt.Sprintf("%s says that it has %s, but what was written to its second half changed its first %s: it has "+
		"less room than it says, and loses what was written first; choose another target, and keep nothing on this one",
		e.Disk, units.Bytes(e.Size), units.Bytes(e.Low))
}

// capacity checks that a drive doesn't begin again at its start before its size is reached. Marks are written all over
// its second half, so close to each other that one of them lands in the low stretch wherever the drive begins again;
// that is read before and after, and what lay in the places of the marks is put back. Nothing is written in keep.
// known is false where it can't be told; the error is a *Capacity, or one of a drive that has vanished.
func capacity(ctx context.Context, w disk.Writable, keep span.Set) (known bool, err error) {
	low := lowStretch(w.Size())
	places := probes(w.Size(), low.Len(), keep)
	if places == nil {
		return false, ctx.Err()
	}
	before, err := digest(ctx, w, low)
	if err != nil {
		return false, vital(ctx, err)
	}
	marked, err := mark(ctx, w, places)
	after := before
	if err == nil {
		after, err = digest(ctx, w, low)
	}
	if again := putBack(w, places, marked); err == nil {
		err = again
	}
	switch {
	case err != nil:
		return false, vital(ctx, err)
	case before != after:
		return true, &Capacity{Disk: disk.Sticker(w.Identity()), Size: w.Size(), Low: low.Len()}
	}
	return true, nil
}

// vital is an error that ends the work; nil of one that only keeps the capacity from being told.
func vital(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if disk.Gone(err) {
		return err
	}
	return nil
}

// lowStretch is what changes on a drive of a size that begins again at its start.
func lowStretch(size int64) span.Span {
	n := min(max(size/lowShare, leastLow), mostLow, size/8)
	return span.Span{End: n / probeLen * probeLen}
}

// probes are the places of the marks: whatever multiple of its real size a drive begins again at, one of them lies
// less than low bytes after it. nil where that can't be had.
func probes(size, low int64, keep span.Set) (out []int64) {
	step, last := low-probeLen, size/probeLen*probeLen-probeLen
	if step < probeLen {
		return nil
	}
	for at := size / 2 / probeLen * probeLen; len(out) < mostProbes; at = min(at+step, last) {
		at = outside(keep, at)
		if at < low || len(out) > 0 && at <= out[len(out)-1] {
			return nil
		}
		if out = append(out, at); at == last {
			return out
		}
	}
	return nil
}

// outside is the last place up to at with nothing of keep in it; below 0 when there is none.
func outside(keep span.Set, at int64) int64 {
	for at >= 0 {
		hit := keep.Clip(span.At(at, probeLen))
		if hit.Empty() {
			break
		}
		at = (hit.Bounds().Start+probeLen)/probeLen*probeLen - 2*probeLen
	}
	return at
}

// digest is a name of what the medium has in a stretch.
func digest(ctx context.Context, w disk.Writable, sp span.Span) (name [32]byte, err error) {
	if err := w.Sync(); err != nil {
		return name, err
	}
	forget(w, sp)
	h, buf := blake3.New(), make([]byte, 1<<20)
	for part := range disk.Chunks(sp, int64(len(buf))) {
		if err := ctx.Err(); err != nil {
			return name, err
		}
		if err := disk.ReadFull(w, buf[:part.Len()], part.Start); err != nil {
			return name, err
		}
		h.Write(buf[:part.Len()])
	}
	h.Sum(name[:0])
	return name, nil
}

// mark writes a mark to each place, and gives what lay there before, in their order; fewer where it fails.
func mark(ctx context.Context, w disk.Writable, places []int64) (was [][]byte, err error) {
	sign := make([]byte, probeLen)
	if _, err := rand.Read(sign); err != nil {
		return nil, err
	}
	for _, at := range places {
		if err := ctx.Err(); err != nil {
			return was, err
		}
		b := make([]byte, probeLen)
		if err := disk.ReadFull(w, b, at); err != nil {
			return was, err
		}
		if bytes.Equal(b, sign) { // of a mark before: it is one place with that
			return was, nil
		}
		was = append(was, b)
		if _, err := w.WriteAt(sign, at); err != nil {
			return was, err
		}
	}
	return was, nil
}

// putBack writes what lay in the places of marks, the last one first: places that are one get what lay there at first.
func putBack(w disk.Writable, places []int64, was [][]byte) error {
	var all error
	for i := len(was) - 1; i >= 0; i-- {
		_, err := w.WriteAt(was[i], places[i])
		all = errors.Join(all, err)
	}
	return errors.Join(all, w.Sync())
}
