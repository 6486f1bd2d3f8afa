// Package lzx unpacks what Windows packs files with closely: LZX, in pieces of 32 KiB that stand by themselves (the
// vendor's "Windows Imaging File Format" specification, LZX; [MS-PATCH] section 2.4 for the blocks).
package lzx

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Kinds of blocks, and what their trees hold.
const (
	Window    = 32 << 10 // bytes of a piece, at most
	verbatim  = 1
	aligned   = 2
	plain     = 3
	literals  = 256
	slots     = 30
	mainCount = literals + 8*slots
	lenCount  = 249
	preCount  = 20
	nearCount = 8 // the lowest three bits of how far back a match lies, where these have a tree of their own
	leastLen  = 2
	mostCode  = 16 // bits

	runZeros, runMoreZeros, runSame = 17, 18, 19

	callCode = 0xE8
	callSize = 12_000_000
	callTail = 10 // bytes at the end of a piece in which calls stay
)

// ErrDamaged means that packed bytes can't be unpacked.
var ErrDamaged = errors.New("what is packed there is damaged")

// decoder is the state within a piece.
type decoder struct {
	bits
	dst          []byte
	at           int
	recent       [3]int
	mainLens     [mainCount]uint8
	lengthLens   [lenCount]uint8
	main, length *tree
	near         *tree // nil in blocks without one
}

// Decode unpacks a piece into dst, of at most Window bytes. It must fill dst.
func Decode(dst, src []byte) error {
	if len(dst) > Window {
		return fmt.Errorf("a piece of %d bytes", len(dst))
	}
	d := &decoder{bits: bits{src: src}, dst: dst, recent: [3]int{1, 1, 1}}
	for d.at < len(dst) {
		kind, n := d.take(3), Window
		if d.take(1) == 0 {
			n = int(d.take(16))
		}
		if n == 0 || n > len(dst)-d.at || d.over() {
			return fmt.Errorf("%w: a block of %d bytes", ErrDamaged, n)
		}
		var err error
		if kind == plain {
			err = d.plain(n)
		} else if err = d.trees(kind); err == nil {
			err = d.block(d.at + n)
		}
		if err != nil {
			return err
		}
	}
	calls(dst)
	return nil
}

// plain takes bytes that aren't packed.
func (d *decoder) plain(n int) error {
	const head = 12
	b := d.rest()
	if len(b) < head+n {
		return fmt.Errorf("%w: it ends too early", ErrDamaged)
	}
	for i := range d.recent {
		d.recent[i] = int(min(binary.LittleEndian.Uint32(b[4*i:]), Window))
		if d.recent[i] == 0 {
			return ErrDamaged
		}
	}
	copy(d.dst[d.at:], b[head:head+n])
	d.at += n
	d.bits.at += head + n + n%2
	return nil
}

// trees reads the codes of a block.
func (d *decoder) trees(kind uint32) (err error) {
	d.near = nil
	switch kind {
	case verbatim:
	case aligned:
		lens := make([]uint8, nearCount)
		for i := range lens {
			lens[i] = uint8(d.take(3))
		}
		if d.near, err = newTree(lens); err != nil {
			return err
		}
	default:
		return fmt.Errorf("%w: a block of kind %d", ErrDamaged, kind)
	}
	for _, lens := range [][]uint8{d.mainLens[:literals], d.mainLens[literals:], d.lengthLens[:]} {
		if err := d.lengths(lens); err != nil {
			return err
		}
	}
	if d.main, err = newTree(d.mainLens[:]); err == nil {
		d.length, err = newTree(d.lengthLens[:])
	}
	return err
}

// lengths reads lengths of codes, as differences from those of the block before.
func (d *decoder) lengths(lens []uint8) error {
	pre := make([]uint8, preCount)
	for i := range pre {
		pre[i] = uint8(d.take(4))
	}
	t, err := newTree(pre)
	if err != nil {
		return err
	}
	for i := 0; i < len(lens); {
		s, ok := t.next(&d.bits)
		if !ok || d.over() {
			return fmt.Errorf("%w: the lengths of its codes", ErrDamaged)
		}
		n, zeros := 1, false
		switch s {
		case runZeros:
			n, zeros = 4+int(d.take(4)), true
		case runMoreZeros:
			n, zeros = 20+int(d.take(5)), true
		case runSame:
			n = 4 + int(d.take(1))
			if s, ok = t.next(&d.bits); !ok || s > mostCode {
				return fmt.Errorf("%w: the lengths of its codes", ErrDamaged)
			}
		}
		if n > len(lens)-i {
			return fmt.Errorf("%w: too many lengths of codes", ErrDamaged)
		}
		now := uint8(0)
		for end := i + n; i < end; i++ {
			if !zeros {
				now = uint8((int(lens[i]) - s + mostCode + 1) % (mostCode + 1))
			}
			lens[i] = now
		}
	}
	return nil
}

// block unpacks up to a place in dst.
func (d *decoder) block(end int) error {
	for d.at < end {
		s, ok := d.main.next(&d.bits)
		if !ok || d.over() {
			return ErrDamaged
		}
		if s < literals {
			d.dst[d.at] = byte(s)
			d.at++
			continue
		}
		n := (s-literals)%8 + leastLen
		if n == 7+leastLen {
			more, ok := d.length.next(&d.bits)
			if !ok {
				return ErrDamaged
			}
			n += more
		}
		back, ok := d.back((s - literals) / 8)
		if !ok || back > d.at || n > end-d.at {
			return ErrDamaged
		}
		for range n {
			d.dst[d.at] = d.dst[d.at-back]
			d.at++
		}
	}
	return nil
}

// back is how far back a match lies, by its slot: as far as one of the last three, or so many bytes.
func (d *decoder) back(slot int) (int, bool) {
	if slot < len(d.recent) {
		d.recent[0], d.recent[slot] = d.recent[slot], d.recent[0]
		return d.recent[0], true
	}
	base, extra := Slot(slot)
	n := base - 2
	if d.near != nil && extra >= 3 {
		low, ok := 0, false
		n += int(d.take(extra-3)) << 3
		if low, ok = d.near.next(&d.bits); !ok {
			return 0, false
		}
		n += low
	} else {
		n += int(d.take(extra))
	}
	d.recent[2], d.recent[1], d.recent[0] = d.recent[1], d.recent[0], n
	return n, true
}

// Slot is where the distances of a slot begin, two more than they are, and how many bits say which it is.
func Slot(slot int) (base, extra int) {
	if slot < 4 {
		return slot, 0
	}
	extra = slot/2 - 1
	return (2 + slot%2) << extra, extra
}

// calls gives calls in machine code the distances that they had: packed they have places.
func calls(b []byte) {
	le := binary.LittleEndian
	for i := 0; i < len(b)-callTail; i++ {
		if b[i] != callCode {
			continue
		}
		place := int32(le.Uint32(b[i+1:]))
		switch {
		case place >= 0 && place < callSize:
			le.PutUint32(b[i+1:], uint32(place-int32(i)))
		case place < 0 && place >= -int32(i):
			le.PutUint32(b[i+1:], uint32(place+callSize))
		}
		i += 4
	}
}
