package ntfs

import (
	"encoding/binary"
	"errors"
)

// The packing of compressed streams (LZNT1, [MS-XCA] section 2.5): chunks of 4,096 bytes, each after a head of two
// bytes with its packed length and whether it is packed at all.
const (
	chunkBytes  = 4096
	chunkLength = 0x0FFF
	chunkPacked = 0x8000
	leastMatch  = 3
)

var errPacked = errors.New("what is packed there is damaged")

// unpack fills dst from packed bytes; what they don't fill is zeros.
func unpack(dst, src []byte) error {
	clear(dst)
	for len(dst) > 0 && len(src) >= 2 {
		head := binary.LittleEndian.Uint16(src)
		if head == 0 {
			return nil
		}
		n := int(head&chunkLength) + 1
		if src = src[2:]; n > len(src) {
			return errPacked
		}
		out := dst[:min(chunkBytes, len(dst))]
		if head&chunkPacked == 0 {
			copy(out, src[:n])
		} else if err := unpackChunk(out, src[:n]); err != nil {
			return err
		}
		src, dst = src[n:], dst[len(out):]
	}
	return nil
}

// unpackChunk decodes groups of eight tokens after a byte that says which are bytes and which are matches. The
// further into the chunk, the more bits of a match say how far back it lies, and the fewer how long it is.
func unpackChunk(dst, src []byte) error {
	at := 0
	for len(src) > 0 && at < len(dst) {
		flags := src[0]
		src = src[1:]
		for bit := 0; bit < 8 && len(src) > 0 && at < len(dst); bit++ {
			if flags>>bit&1 == 0 {
				dst[at] = src[0]
				at++
				src = src[1:]
				continue
			}
			if len(src) < 2 || at == 0 {
				return errPacked
			}
			token := int(binary.LittleEndian.Uint16(src))
			src = src[2:]
			lengthBits := 12
			for i := at - 1; i >= 16; i >>= 1 {
				lengthBits--
			}
			back, n := token>>lengthBits+1, token&(1<<lengthBits-1)+leastMatch
			if back > at {
				return errPacked
			}
			for ; n > 0 && at < len(dst); n-- {
				dst[at] = dst[at-back]
				at++
			}
		}
	}
	return nil
}
