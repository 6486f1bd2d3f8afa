package ext

import (
	"encoding/binary"
	"fmt"
	"io"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// An inode ("Index Nodes") and an extent tree ("Extent Tree").
const (
	inoMode    = 0x00
	inoSizeLo  = 0x04
	inoMtime   = 0x10
	inoFlags   = 0x20
	inoBlock   = 0x28
	inoSizeHi  = 0x6C
	inoBlockSz = 60

	flagExtents = 0x80000
	flagInline  = 0x10000000

	modeMask = 0xF000
	modeDir  = 0x4000
	modeFile = 0x8000
	modeLink = 0xA000

	rootInode    = 2
	extentMagic  = 0xF30A
	extentHeader = 12
	extentEntry  = 12
	maxDepth     = 5
	maxExtents   = 1 << 20
)

type inode struct {
	number int64
	mode   uint16
	size   int64
	mtime  time.Time
	flags  uint32
	block  []byte // i_block, 60 bytes
}

// extent is n blocks of a file from logical, at physical on the volume.
type extent struct{ logical, physical, n int64 }

func (v *Volume) readInode(number int64) (*inode, error) {
	if number < 1 || number > v.inodesPerGrp*v.groups {
		return nil, fmt.Errorf("there is no inode %d", number)
	}
	g := (number - 1) / v.inodesPerGrp
	desc := make([]byte, v.descSize)
	at := v.descBlock(g/v.descPerBlock)*v.blockSize + g%v.descPerBlock*v.descSize
	if err := disk.ReadFull(v.r, desc, at); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	tableAt := int64(le.Uint32(desc[bgInodeTableLo:]))
	if v.descSize >= 64 {
		tableAt |= int64(le.Uint32(desc[bgInodeTableHi:])) << 32
	}
	if tableAt <= 0 || tableAt >= v.blocks {
		return nil, fsys.Contradiction(at, "the descriptor of group %d points to block %d of %d", g, tableAt, v.blocks)
	}
	b := make([]byte, 128)
	if err := disk.ReadFull(v.r, b, tableAt*v.blockSize+(number-1)%v.inodesPerGrp*v.inodeSize); err != nil {
		return nil, err
	}
	n := &inode{number: number, mode: le.Uint16(b[inoMode:]), size: int64(le.Uint32(b[inoSizeLo:])), flags: le.Uint32(b[inoFlags:]),
		mtime: time.Unix(int64(int32(le.Uint32(b[inoMtime:]))), 0), block: b[inoBlock : inoBlock+inoBlockSz]}
	if n.mode&modeMask != modeDir || v.incompat&incompatLargeDir != 0 {
		n.size |= int64(le.Uint32(b[inoSizeHi:])) << 32
	}
	if n.size < 0 {
		return nil, fsys.Contradiction(at, "inode %d claims a size of %d bytes", number, n.size)
	}
	return n, nil
}

// extents lists where a file's contents lie, in order.
func (v *Volume) extents(n *inode) ([]extent, error) {
	var out []extent
	if n.flags&flagExtents != 0 {
		err := v.extentNode(n.block, -1, &out)
		return out, err
	}
	return out, v.blockMap(n, &out)
}

// extentNode reads one node of the tree; depth must fall by one with each level.
func (v *Volume) extentNode(b []byte, wantDepth int, out *[]extent) error {
	le := binary.LittleEndian
	count, depth := int(le.Uint16(b[2:])), int(le.Uint16(b[6:]))
	if le.Uint16(b) != extentMagic || extentHeader+count*extentEntry > len(b) || depth > maxDepth || wantDepth >= 0 && depth != wantDepth {
		return fmt.Errorf("an extent tree is garbled")
	}
	for i := range count {
		e := b[extentHeader+i*extentEntry:]
		if depth == 0 {
			n := int64(le.Uint16(e[4:]))
			if n > 32768 { // allocated and not yet written: reads as zeros
				continue
			}
			x := extent{int64(le.Uint32(e)), int64(le.Uint16(e[6:]))<<32 | int64(le.Uint32(e[8:])), n}
			if x.physical <= 0 || x.physical+n > v.blocks || len(*out) >= maxExtents {
				return fmt.Errorf("an extent of %d blocks at block %d lies beyond the volume", n, x.physical)
			}
			*out = append(*out, x)
			continue
		}
		child := int64(le.Uint16(e[8:]))<<32 | int64(le.Uint32(e[4:]))
		if child <= 0 || child >= v.blocks {
			return fmt.Errorf("an extent tree points to block %d of %d", child, v.blocks)
		}
		nb := make([]byte, v.blockSize)
		if err := disk.ReadFull(v.r, nb, child*v.blockSize); err != nil {
			return err
		}
		if err := v.extentNode(nb, depth-1, out); err != nil {
			return err
		}
	}
	return nil
}

// blockMap reads the direct and indirect blocks of ext2 and ext3 ("Direct/Indirect Block Addressing").
func (v *Volume) blockMap(n *inode, out *[]extent) error {
	need := (n.size + v.blockSize - 1) / v.blockSize
	logical := int64(0)
	add := func(p int64) error {
		if p >= v.blocks || len(*out) >= maxExtents {
			return fmt.Errorf("a block map points to block %d of %d", p, v.blocks)
		}
		if k := len(*out) - 1; k >= 0 && p > 0 && (*out)[k].logical+(*out)[k].n == logical && (*out)[k].physical+(*out)[k].n == p {
			(*out)[k].n++
		} else if p > 0 {
			*out = append(*out, extent{logical, p, 1})
		}
		logical++
		return nil
	}
	var walk func(p int64, level int) error
	walk = func(p int64, level int) error {
		if level == 0 || p == 0 {
			if p == 0 && level > 0 {
				skip := int64(1)
				for range level {
					skip *= v.blockSize / 4
				}
				logical += skip
				return nil
			}
			return add(p)
		}
		if p >= v.blocks {
			return fmt.Errorf("a block map points to block %d of %d", p, v.blocks)
		}
		b := make([]byte, v.blockSize)
		if err := disk.ReadFull(v.r, b, p*v.blockSize); err != nil {
			return err
		}
		for i := 0; i < len(b) && logical < need; i += 4 {
			if err := walk(int64(binary.LittleEndian.Uint32(b[i:])), level-1); err != nil {
				return err
			}
		}
		return nil
	}
	for i := 0; i < 15 && logical < need; i++ {
		if err := walk(int64(binary.LittleEndian.Uint32(n.block[4*i:])), max(0, i-11)); err != nil {
			return err
		}
	}
	return nil
}

// contents gives a file's bytes as a reader.
func (v *Volume) contents(n *inode) (io.ReaderAt, error) {
	if n.flags&flagInline != 0 {
		if n.size > inoBlockSz {
			return nil, fmt.Errorf("inode %d keeps its contents beside its attributes, which isn't read", n.number)
		}
		return inline(n.block[:n.size]), nil
	}
	x, err := v.extents(n)
	if err != nil {
		return nil, fmt.Errorf("inode %d: %w", n.number, err)
	}
	return &fileReader{v, n.size, x}, nil
}

type inline []byte

func (b inline) ReadAt(p []byte, off int64) (int, error) {
	if off >= int64(len(b)) {
		return 0, io.EOF
	}
	n := copy(p, b[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// fileReader reads a file through its extents; holes read as zeros.
type fileReader struct {
	v       *Volume
	size    int64
	extents []extent
}

func (f *fileReader) ReadAt(p []byte, off int64) (int, error) {
	want := span.At(off, int64(len(p))).Intersect(span.Span{End: f.size})
	n := int(want.Len())
	clear(p[:n])
	bs := f.v.blockSize
	for _, x := range f.extents {
		hit := span.At(x.logical*bs, x.n*bs).Intersect(want)
		if hit.Empty() {
			continue
		}
		at := x.physical*bs + hit.Start - x.logical*bs
		if err := disk.ReadFull(f.v.r, p[hit.Start-off:hit.End-off], at); err != nil {
			return 0, err
		}
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
