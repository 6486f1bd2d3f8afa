// Package xpress unpacks what Windows packs files with quickly: LZ77 with Huffman codes ([MS-XCA] section 2.2).
package xpress

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// The table of the codes' lengths ([MS-XCA] section 2.2.4): four bits for each symbol. Symbols from 256 on are matches.
const (
	symbols   = 512
	tableLen  = symbols / 2
	longest   = 15 // bits of a code
	literals  = 256
	lengthMax = 15 // of a match, in its symbol: more follows
	leastLen  = 3
	farLength = 255
)

// ErrDamaged means that packed bytes can't be unpacked.
var ErrDamaged = errors.New("what is packed there is damaged")

// Decode unpacks a piece, of at most 64 KiB, into dst. It must fill dst.
func Decode(dst, src []byte) error {
	if len(src) < tableLen {
		return fmt.Errorf("%w: %d bytes", ErrDamaged, len(src))
	}
	codes, err := read(src[:tableLen])
	if err != nil {
		return err
	}
	b := &bits{src: src[tableLen:]}
	b.fill()
	b.fill()
	for at := 0; at < len(dst); {
		s, ok := codes.next(b)
		if !ok {
			return ErrDamaged
		}
		if s < literals {
			dst[at] = byte(s)
			at++
			continue
		}
		n, back, ok := b.match(s - literals)
		if !ok || back > at {
			return ErrDamaged
		}
		for end := min(len(dst), at+n); at < end; at++ {
			dst[at] = dst[at-back]
		}
	}
	return nil
}

// bits are read from units of 16 bits, the highest first; bytes between them from where the next unit would be.
type bits struct {
	src   []byte
	have  uint32 // the highest bits come next
	count int    // of those in have
}

// fill takes another unit, or zeros after the end.
func (b *bits) fill() {
	n := uint32(0)
	if len(b.src) >= 2 {
		n = uint32(binary.LittleEndian.Uint16(b.src))
		b.src = b.src[2:]
	}
	b.have |= n << (16 - b.count)
	b.count += 16
}

// take gives n bits, at most 15.
func (b *bits) take(n int) uint32 {
	if n == 0 {
		return 0
	}
	out := b.have >> (32 - n)
	b.skip(n)
	return out
}

func (b *bits) skip(n int) {
	b.have <<= n
	if b.count -= n; b.count < 16 {
		b.fill()
	}
}

// match is how long a match is, and how far back it lies.
func (b *bits) match(s int) (n, back int, ok bool) {
	n = s % 16
	if n == lengthMax {
		more, ok := b.length()
		if !ok {
			return 0, 0, false
		}
		n += more
	}
	far := s / 16
	return n + leastLen, 1<<far + int(b.take(far)), true
}

// length is what a match is longer than its symbol says.
func (b *bits) length() (n int, ok bool) {
	if len(b.src) < 1 {
		return 0, false
	}
	n = int(b.src[0])
	if b.src = b.src[1:]; n < farLength {
		return n, true
	}
	if len(b.src) < 2 {
		return 0, false
	}
	n = int(binary.LittleEndian.Uint16(b.src))
	b.src = b.src[2:]
	return n - lengthMax, n >= lengthMax
}

// codes are the symbols by the next bits.
type codes [1 << longest]struct {
	symbol uint16
	length uint8
}

// read makes the codes of their lengths: shorter ones first, then by symbol. They must use up all bits.
func read(table []byte) (*codes, error) {
	out := &codes{}
	at := 0
	for length := 1; length <= longest; length++ {
		for s := range symbols {
			if int(table[s/2]>>(4*(s%2))&0xF) != length {
				continue
			}
			n := 1 << (longest - length)
			if at+n > len(out) {
				return nil, fmt.Errorf("%w: too many codes", ErrDamaged)
			}
			for i := range n {
				out[at+i].symbol, out[at+i].length = uint16(s), uint8(length)
			}
			at += n
		}
	}
	if at != len(out) {
		return nil, fmt.Errorf("%w: too few codes", ErrDamaged)
	}
	return out, nil
}

func (c *codes) next(b *bits) (symbol int, ok bool) {
	e := c[b.have>>(32-longest)]
	b.skip(int(e.length))
	return int(e.symbol), e.length > 0
}
