package apfs

import (
	"encoding/binary"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// sum is the checksum of an object (Objects): Fletcher's over 32-bit words, without its own place.
func sum(b []byte) uint64 {
	const mod, often = 1<<32 - 1, 64 << 10
	var lo, hi uint64 // in 64 KiB neither overflows
	for i := objID; i+4 <= len(b); i += 4 {
		lo += uint64(binary.LittleEndian.Uint32(b[i:]))
		if hi += lo; i%often == 0 {
			lo, hi = lo%mod, hi%mod
		}
	}
	lo, hi = lo%mod, hi%mod
	c0 := mod - (lo+hi)%mod
	c1 := mod - (lo+c0)%mod
	return c1<<32 | c0
}

// sound says whether the checksum of an object is right.
func sound(b []byte) bool {
	return len(b) >= objHead && binary.LittleEndian.Uint64(b[objSum:]) == sum(b)
}

func kindOf(b []byte) uint32 { return binary.LittleEndian.Uint32(b[objType:]) & typeMask }

// block reads a block.
func (c *Container) block(at int64) ([]byte, error) {
	if at < 0 || at >= c.blocks {
		return nil, fmt.Errorf("block %d of %d is named", at, c.blocks)
	}
	b := make([]byte, c.unit)
	return b, disk.ReadFull(c.r, b, at*c.unit)
}

// object reads an object of a kind whose checksum must be right.
func (c *Container) object(at int64, kinds ...uint32) ([]byte, error) {
	return c.large(extent{at, 1}, kinds...)
}

// mostObject bounds the blocks of an object.
const mostObject = 256

// large reads an object of several blocks.
func (c *Container) large(e extent, kinds ...uint32) ([]byte, error) {
	if !c.within(e) || e.count > mostObject {
		return nil, fmt.Errorf("an object of %d blocks at block %d of %d is named", e.count, e.first, c.blocks)
	}
	at, b := e.first, make([]byte, e.count*c.unit)
	if err := disk.ReadFull(c.r, b, at*c.unit); err != nil {
		return nil, err
	}
	if !sound(b) {
		return nil, fsys.Contradiction(at*c.unit, "the checksum of an object is wrong")
	}
	for _, k := range kinds {
		if kindOf(b) == k {
			return b, nil
		}
	}
	return nil, fsys.Contradiction(at*c.unit, "there is an object of kind %#x, not %#x", kindOf(b), kinds)
}
