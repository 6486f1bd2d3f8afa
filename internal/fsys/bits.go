package fsys

import (
	"bytes"
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
			if k := alike(bitmap, i, start >= 0); k > 0 {
				i += k
				continue
			}
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

// stride is how many bytes of a bitmap are compared at once: most of a large volume's are all the same.
const stride = 512

var (
	clearStride = make([]byte, stride)
	setStride   = bytes.Repeat([]byte{0xFF}, stride)
)

// alike is how many bits from bit i on are all set, or all clear, in whole strides; 0 where i isn't at the beginning
// of a stride, or that is mixed.
func alike(b []byte, i int, set bool) int {
	if i%(8*stride) != 0 {
		return 0
	}
	want := clearStride
	if set {
		want = setStride
	}
	at := i / 8
	k := 0
	for at+k+stride <= len(b) && bytes.Equal(b[at+k:at+k+stride], want) {
		k += stride
	}
	return k * 8
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
