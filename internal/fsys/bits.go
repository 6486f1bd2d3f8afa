package fsys

import (
	"encoding/binary"
	"iter"
	"math/bits"
)

// Runs yields the runs [from, to) of set bits among the first n bits of a
// bitmap whose lowest bit comes first, as ext and NTFS keep them.
func Runs(bitmap []byte, n int) iter.Seq2[int, int] {
	return func(yield func(int, int) bool) {
		start := -1
		n = min(n, len(bitmap)*8)
		for i := 0; i < n; {
			w, width := word(bitmap, i)
			if start < 0 { // looking for a one
				if w == 0 {
					i += width
					continue
				}
				i += bits.TrailingZeros64(w)
				if i < n {
					start = i
				}
				continue
			}
			if inv := ^w & mask(width); inv == 0 {
				i += width
				continue
			} else {
				i += bits.TrailingZeros64(inv)
			}
			if !yield(start, min(i, n)) {
				return
			}
			start = -1
		}
		if start >= 0 {
			yield(start, n)
		}
	}
}

// word gives the bits from bit i up to the end of its 64-bit word, and how many.
func word(b []byte, i int) (uint64, int) {
	at := i / 64 * 8
	var w uint64
	width := 64
	if at+8 <= len(b) {
		w = binary.LittleEndian.Uint64(b[at:])
	} else {
		var tail [8]byte
		width = 8 * copy(tail[:], b[at:])
		w = binary.LittleEndian.Uint64(tail[:])
	}
	skip := i % 64
	return w >> skip, width - skip
}

func mask(width int) uint64 {
	if width == 64 {
		return ^uint64(0)
	}
	return 1<<width - 1
}
