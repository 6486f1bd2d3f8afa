// Package lzfse unpacks LZFSE and LZVN, in which macOS packs files (the format as in Apple's published reference
// implementation, lzfse_internal.h and lzvn_decode_base.h). APFS and HFS Plus share it.
package lzfse

import (
	"encoding/binary"
	"errors"
)

// ErrHurt means that packed bytes don't follow the format.
var ErrHurt = errors.New("packed bytes don't follow their format")

// output is what was unpacked so far, of so many bytes at the most.
type output struct {
	b    []byte
	most int
}

func (o *output) literals(b []byte) bool {
	if len(o.b)+len(b) > o.most {
		return false
	}
	o.b = append(o.b, b...)
	return true
}

// match repeats n bytes from so far back.
func (o *output) match(back, n int) bool {
	if n == 0 {
		return true
	}
	if back <= 0 || back > len(o.b) || len(o.b)+n > o.most {
		return false
	}
	for range n {
		o.b = append(o.b, o.b[len(o.b)-back])
	}
	return true
}

// LZVN unpacks a stream of so many bytes at the most.
func LZVN(b []byte, most int) ([]byte, error) {
	o := &output{most: most}
	if !lzvn(o, b) {
		return nil, ErrHurt
	}
	return o.b, nil
}

// Operations of a stream: the byte that they begin with, bit by bit (L literals, M of a match, D how far back).
const (
	opEnd       = 0x06
	opNothing   = 0x0E
	opNothing2  = 0x16
	opMedium    = 0xA0 // 101LLMMM DDDDDDMM DDDDDDDD
	opMediumEnd = 0xC0
	opManyL     = 0xE0 // 11100000 LLLLLLLL
	opSomeL     = 0xE1 // 1110LLLL
	opManyM     = 0xF0 // 11110000 MMMMMMMM
	opSomeM     = 0xF1 // 1111MMMM

	lowLarge = 7 // LLMMM111 DDDDDDDD DDDDDDDD
	lowSame  = 6 // LLMMM110; all others are LLMMMDDD DDDDDDDD
	many     = 16
	shortest = 3
)

// step is one operation: how many bytes it takes, literals that follow it, and a match after these.
type step struct {
	bytes, literals, match, back int
	end                          bool
}

func lzvn(o *output, b []byte) bool {
	back := 0
	for len(b) > 0 {
		s, ok := next(b, back)
		if !ok || s.bytes+s.literals > len(b) {
			return false
		}
		if s.end {
			return true
		}
		back = s.back
		if !o.literals(b[s.bytes:s.bytes+s.literals]) || !o.match(back, s.match) {
			return false
		}
		b = b[s.bytes+s.literals:]
	}
	return len(o.b) == o.most // some streams have no end
}

// next decodes an operation; back is how far the last match was.
func next(b []byte, back int) (step, bool) {
	op := int(b[0])
	switch {
	case op >= opSomeM:
		return step{bytes: 1, match: op & 15, back: back}, true
	case op == opManyM && len(b) > 1:
		return step{bytes: 2, match: int(b[1]) + many, back: back}, true
	case op >= opSomeL && op < opManyM:
		return step{bytes: 1, literals: op & 15, back: back}, true
	case op == opManyL && len(b) > 1:
		return step{bytes: 2, literals: int(b[1]) + many, back: back}, true
	case op >= opMedium && op < opMediumEnd && len(b) > 2:
		w := int(binary.LittleEndian.Uint16(b[1:]))
		return step{bytes: 3, literals: op >> 3 & 3, match: op&7<<2 | w&3 + shortest, back: w >> 2}, true
	case op == opEnd:
		return step{bytes: 1, end: true}, true
	case op == opNothing || op == opNothing2:
		return step{bytes: 1, back: back}, true
	case op >= 0x70 && op < 0x80, op >= 0xD0, op >= opMedium && op < opMediumEnd, op&7 == lowSame && op < 0x40:
		return step{}, false // not defined, or cut off
	}
	s := step{bytes: 1, literals: op >> 6, match: op>>3&7 + shortest, back: back}
	switch {
	case op&7 == lowSame:
	case op&7 == lowLarge && len(b) > 2:
		s.bytes, s.back = 3, int(binary.LittleEndian.Uint16(b[1:]))
	case op&7 < lowSame && len(b) > 1:
		s.bytes, s.back = 2, op&7<<8|int(b[1])
	default:
		return s, false
	}
	return s, true
}
