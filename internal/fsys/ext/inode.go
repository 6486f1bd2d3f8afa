package ext

import (
	"encoding/binary"
	"fmt"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// Bounds of what says where a file lies.
const (
	maxDepth     = 5
	maxExtents   = 1 << 20
	maxMapBlocks = 1 << 21 // blocks that say where a file lies
)

type inode struct {
	number int64
	at     int64 // byte of the volume
	raw    []byte
	mode   uint16
	size   int64
	flags  uint32
	block  []byte // i_block, 60 bytes
}

// extent is n blocks of a file from logical, at physical on the volume.
type extent struct{ logical, physical, n int64 }

// tableOf is the byte at which a group's inode table begins. The latest answers are kept.
func (v *geometry) tableOf(g int64) (int64, error) {
	if at, ok := v.tables.Load(g); ok {
		return at.(int64), nil
	}
	at, _, err := v.inodeTable(g)
	if err == nil {
		v.tables.Store(g, at)
	}
	return at, err
}

func (v *geometry) readInode(number int64) (*inode, error) {
	if number < 1 || number > v.inodesPerGrp*v.groups {
		return nil, fmt.Errorf("there is no inode %d", number)
	}
	table, err := v.tableOf((number - 1) / v.inodesPerGrp)
	if err != nil {
		return nil, err
	}
	at := table + (number-1)%v.inodesPerGrp*v.inodeSize
	b := make([]byte, v.inodeSize)
	if err := disk.ReadFull(v.r, b, at); err != nil {
		return nil, err
	}
	return v.decodeInode(number, at, b)
}

// inodeWindow reads inodes that are asked for in order, many at once.
type inodeWindow struct {
	v  *Volume
	at int64 // byte of the volume at which b begins
	b  []byte
}

const windowBytes = 32 << 10

func (w *inodeWindow) inode(number int64) (*inode, error) {
	v := w.v
	if number < 1 || number > v.inodesPerGrp*v.groups {
		return v.readInode(number)
	}
	g := (number - 1) / v.inodesPerGrp
	table, err := v.tableOf(g)
	if err != nil {
		return nil, err
	}
	at := table + (number-1)%v.inodesPerGrp*v.inodeSize
	if at < w.at || at+v.inodeSize > w.at+int64(len(w.b)) {
		b := make([]byte, min(windowBytes, table+v.inodesPerGrp*v.inodeSize-at)) // decoded inodes hold on to it
		if disk.ReadFull(v.r, b, at) != nil {
			return v.readInode(number) // some of the others may be what can't be read
		}
		w.at, w.b = at, b
	}
	return v.decodeInode(number, at, w.b[at-w.at:][:v.inodeSize])
}

func (v *geometry) decodeInode(number, at int64, b []byte) (*inode, error) {
	le := binary.LittleEndian
	n := &inode{number: number, at: at, raw: b, mode: le.Uint16(b[inoMode:]), size: int64(le.Uint32(b[inoSizeLo:])),
		flags: le.Uint32(b[inoFlags:]), block: b[inoBlock : inoBlock+inoBlockSz]}
	if n.mode&modeMask != modeDir || v.incompat&incompatLargeDir != 0 {
		n.size |= int64(le.Uint32(b[inoSizeHi:])) << 32
	}
	if !v.sound(n) {
		return nil, fsys.Contradiction(at, "the checksum of inode %d is wrong", number)
	}
	if n.size < 0 {
		return nil, fsys.Contradiction(at, "inode %d claims a size of %d bytes", number, n.size)
	}
	return n, nil
}

// sound says whether an inode's checksum is right ("Checksums"); where there is none it is.
func (v *geometry) sound(n *inode) bool {
	if v.ro&roMetadataCsum == 0 {
		return true
	}
	le, zeros := binary.LittleEndian, []byte{0, 0}
	c := csum(v.seed, u32(uint32(n.number)), n.raw[inoGeneration:inoGeneration+4], n.raw[:inoCsumLo], zeros)
	want := uint32(le.Uint16(n.raw[inoCsumLo:]))
	rest := n.raw[inoCsumLo+2:]
	if n.has(inoCsumHi + 2) {
		c = csum(c, n.raw[inoCsumLo+2:inoCsumHi], zeros)
		want |= uint32(le.Uint16(n.raw[inoCsumHi:])) << 16
		return csum(c, n.raw[inoCsumHi+2:]) == want
	}
	return uint16(csum(c, rest)) == uint16(want)
}

// has says whether the inode is long enough for a field that ends at byte end.
func (n *inode) has(end int) bool {
	return len(n.raw) > inoBase && end <= len(n.raw) &&
		inoBase+int(binary.LittleEndian.Uint16(n.raw[inoExtraSize:])) >= end
}

// when decodes a time ("Inode Timestamps"): seconds, and where there is room two more bits of them and nanoseconds.
func (n *inode) when(at, extra int) time.Time {
	le := binary.LittleEndian
	sec, nano := int64(int32(le.Uint32(n.raw[at:]))), int64(0)
	if n.has(extra + 4) {
		e := le.Uint32(n.raw[extra:])
		sec += int64(e&3) << 32
		nano = int64(e >> 2)
	}
	return time.Unix(sec, min(nano, 999_999_999))
}

// contents gives a file's bytes, and those of a link or directory too.
func (v *Volume) contents(n *inode) (fsys.Contents, error) {
	if n.flags&flagInline != 0 {
		return v.inlined(n)
	}
	x, err := v.extents(n)
	if err != nil {
		return nil, fmt.Errorf("inode %d: %w", n.number, err)
	}
	m := &fsys.Mapped{R: v.r, Length: n.size, Places: make([]fsys.Stretch, 0, len(x))}
	end := int64(0)
	for _, e := range x {
		if e.logical < end {
			return nil, fsys.Contradiction(n.at, "the extents of inode %d overlap", n.number)
		}
		end = e.logical + e.n
		m.Places = append(m.Places,
			fsys.Stretch{Span: span.At(e.logical*v.blockSize, e.n*v.blockSize), At: e.physical * v.blockSize})
	}
	return m, nil
}

// inlined gives contents that stand in the inode ("Inline Data"): 60 bytes where the blocks would be listed, the rest
// as an attribute.
func (v *Volume) inlined(n *inode) (fsys.Contents, error) {
	b, at := n.block, []span.Span{span.At(n.at+inoBlock, min(inoBlockSz, n.size))}
	if n.size > inoBlockSz {
		rest, restAt, err := n.inlineRest()
		if err != nil {
			return nil, err
		}
		if n.size > int64(len(b)+len(rest)) {
			return nil, fsys.Contradiction(n.at, "inode %d claims %d bytes in itself, where %d are", n.number, n.size,
				len(b)+len(rest))
		}
		b, at = append(append([]byte(nil), b...), rest...), append(at, span.At(restAt, n.size-inoBlockSz))
	}
	return &fsys.Resident{Bytes: b[:n.size], At: at}, nil
}
