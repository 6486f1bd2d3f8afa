package lzx

import (
	"encoding/binary"
	"fmt"
)

// bits are read from units of 16 bits, the highest first. After the end there are zeros, and over says so.
type bits struct {
	src   []byte
	at    int    // bytes that were taken from src, or would have been
	have  uint32 // the highest bits come next
	count int
}

func (b *bits) over() bool { return b.at-b.count/8 > len(b.src)+1 }

// need sees that n bits are there, at most 16.
func (b *bits) need(n int) {
	if b.count >= n {
		return
	}
	unit := uint32(0)
	if b.at+2 <= len(b.src) {
		unit = uint32(binary.LittleEndian.Uint16(b.src[b.at:]))
	}
	b.at += 2
	b.have |= unit << (16 - b.count)
	b.count += 16
}

// take gives n bits, at most 16.
func (b *bits) take(n int) uint32 {
	if n == 0 {
		return 0
	}
	b.need(n)
	out := b.have >> (32 - n)
	b.have <<= n
	b.count -= n
	return out
}

// rest is what follows the unit in which the next bit is.
func (b *bits) rest() []byte {
	b.need(1)
	b.at -= (b.count - 1) / 16 * 2
	b.have, b.count = 0, 0
	return b.src[min(b.at, len(b.src)):]
}

// tree finds symbols by codes of up to 16 bits: shorter ones first, then by symbol.
type tree struct {
	first  [mostCode + 2]int // of the codes of a length
	index  [mostCode + 2]int // and where their symbols begin
	count  [mostCode + 1]int
	symbol []uint16
}

// newTree makes a tree of the lengths of all symbols' codes: none at all, or as many as use up all bits.
func newTree(lens []uint8) (*tree, error) {
	t := &tree{}
	for _, n := range lens {
		if n > 0 {
			t.count[n]++
		}
	}
	code := 0
	for n := 1; n <= mostCode; n++ {
		t.first[n], t.index[n] = code, t.index[n-1]+t.count[n-1]
		code = (code + t.count[n]) << 1
		for s, l := range lens {
			if int(l) == n {
				t.symbol = append(t.symbol, uint16(s))
			}
		}
		if t.first[n]+t.count[n] > 1<<n {
			return nil, fmt.Errorf("%w: too many codes", ErrDamaged)
		}
	}
	if len(t.symbol) > 0 && code != 2<<mostCode {
		return nil, fmt.Errorf("%w: too few codes", ErrDamaged)
	}
	return t, nil
}

// next reads a symbol.
func (t *tree) next(b *bits) (symbol int, ok bool) {
	b.need(mostCode)
	for n := 1; n <= mostCode; n++ {
		if k := int(b.have>>(32-n)) - t.first[n]; k >= 0 && k < t.count[n] {
			b.have <<= n
			b.count -= n
			return int(t.symbol[t.index[n]+k]), true
		}
	}
	return 0, false
}
