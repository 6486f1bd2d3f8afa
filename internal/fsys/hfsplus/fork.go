package hfsplus

import (
	"encoding/binary"
	"fmt"
	"io"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// ground is what is to know of a volume to read the bytes of its files.
type ground struct {
	r       io.ReaderAt
	at      int64 // where it begins, bytes; not 0 where it is wrapped
	unit    int64 // of allocation, bytes
	blocks  int64
	extents *btree
}

// extent is a run of allocation blocks.
type extent struct{ first, count int64 }

// fork is the contents of a file, or its resources.
type fork struct {
	id     uint32 // of the file
	kind   byte   // forkIsData or forkIsRes
	size   int64  // bytes
	blocks int64
	first  []extent // those that stand in its record
}

// readExtents decodes eight extents, as far as they are used.
func readExtents(b []byte) (out []extent) {
	be := binary.BigEndian
	for i := range extents {
		e := b[i*extentLen:]
		n := int64(be.Uint32(e[4:]))
		if n == 0 {
			break
		}
		out = append(out, extent{int64(be.Uint32(e)), n})
	}
	return out
}

func readFork(b []byte, id uint32, kind byte) fork {
	be := binary.BigEndian
	return fork{id: id, kind: kind, size: int64(min(be.Uint64(b[forkSize:]), 1<<62)),
		blocks: int64(be.Uint32(b[forkBlocks:])), first: readExtents(b[forkExtents:])}
}

func (v *Volume) specialFork(at int, id uint32) fork {
	return readFork(v.head[at:at+forkLen], id, forkIsData)
}

func countOf(all []extent) (n int64) {
	for _, e := range all {
		n += e.count
	}
	return n
}

// spans is where extents lie, in bytes of the part; all of them must be within the volume.
func (g *ground) spans(all []extent, owner fsys.Owner) ([]span.Span, error) {
	out := make([]span.Span, 0, len(all))
	for _, e := range all {
		if e.first+e.count > g.blocks {
			return nil, fsys.Contradiction(g.at, "what %s names reaches beyond the end of the volume (%d blocks from "+
				"block %d)", owner, e.count, e.first)
		}
		out = append(out, g.span(e.first, e.count))
	}
	return out, nil
}

func (f fork) owner() fsys.Owner {
	kind := "the file"
	if f.kind == forkIsRes {
		kind = "the resource fork of file"
	}
	return fsys.Owner{Kind: kind, Number: int64(f.id)}
}

// mostExtents bounds the pieces of one fork.
const mostExtents = 1 << 24

// all are the extents of a fork, those in the extents overflow file among them.
func (g *ground) all(f fork) ([]extent, error) {
	out, n := f.first, countOf(f.first)
	if n < f.blocks && f.id == idExtents {
		return nil, fsys.Contradiction(g.at+headerAt+headExtents, "the extents overflow file can't be followed")
	}
	if n < f.blocks {
		out = append([]extent(nil), out...)
	}
	if n < f.blocks && g.extents == nil {
		return nil, fmt.Errorf("%s: the extents overflow file can't be read", f.owner())
	}
	for n < f.blocks {
		more, err := g.overflow(f, n)
		if err != nil {
			return nil, err
		}
		out, n = append(out, more...), n+countOf(more)
		if len(out) > mostExtents {
			return nil, fmt.Errorf("%s has more than %d pieces", f.owner(), mostExtents)
		}
	}
	if n > f.blocks && f.id >= idFirst {
		return nil, fsys.Contradiction(g.at, "%s has %d blocks, and %d are named", f.owner(), f.blocks, n)
	}
	return out, nil
}

// overflow are the extents of a fork from one of its blocks on.
func (g *ground) overflow(f fork, from int64) ([]extent, error) {
	key := extentKey(f.kind, f.id, uint32(from))
	rec, err := g.extents.find(func(k []byte) int { return compareExtent(k, key) })
	if err != nil {
		return nil, fmt.Errorf("%s: extents from block %d on: %w", f.owner(), from, err)
	}
	if len(rec) < extentRecords {
		return nil, fsys.Contradiction(g.at, "the extents of %s end after %d of %d blocks", f.owner(), from, f.blocks)
	}
	more := readExtents(rec)
	if len(more) == 0 {
		return nil, fsys.Contradiction(g.at, "the extents of %s from block %d on are empty", f.owner(), from)
	}
	return more, nil
}

// extentKey is a key of the extents overflow file, without its length.
func extentKey(kind byte, id, block uint32) []byte {
	k := make([]byte, extentKeyLen)
	k[0] = kind
	binary.BigEndian.PutUint32(k[extentFile-extentFork:], id)
	binary.BigEndian.PutUint32(k[extentBlock-extentFork:], block)
	return k
}

// compareExtent orders keys of the extents overflow file: by file, fork and block.
func compareExtent(a, b []byte) int {
	if len(a) < extentKeyLen || len(b) < extentKeyLen {
		return len(a) - len(b)
	}
	for _, part := range [][2]int{{2, 6}, {0, 1}, {6, 10}} {
		if c := compareBytes(a[part[0]:part[1]], b[part[0]:part[1]]); c != 0 {
			return c
		}
	}
	return 0
}

// mapped is the contents of a fork.
func (g *ground) mapped(f fork) (*fsys.Mapped, error) {
	all, err := g.all(f)
	if err != nil {
		return nil, err
	}
	return g.mappedBy(f, all)
}

// mappedBy is mapped where the extents are known.
func (g *ground) mappedBy(f fork, all []extent) (*fsys.Mapped, error) {
	spans, err := g.spans(all, f.owner())
	if err != nil {
		return nil, err
	}
	m := &fsys.Mapped{R: g.r, Length: f.size}
	at := int64(0)
	for _, sp := range spans {
		m.Places = append(m.Places, fsys.Stretch{Span: span.At(at, sp.Len()), At: sp.Start})
		at += sp.Len()
	}
	if at < f.size {
		return nil, fsys.Contradiction(g.at, "the extents of %s end after %d of %d bytes", f.owner(), at, f.size)
	}
	return m, nil
}

// span is where blocks lie, in bytes of the part.
func (g *ground) span(first, count int64) span.Span { return span.At(g.at+first*g.unit, count*g.unit) }

// inFile are the patches that write at a byte of a file that will lie in these extents.
func inFile(all []extent, unit, at int64, p disk.Patch) (out []disk.Patch) {
	n, begin := p.Span().Len(), int64(0)
	for _, e := range all {
		from, to := max(at, begin), min(at+n, begin+e.count*unit)
		if from < to {
			q := p.Part(span.Span{Start: from, End: to}.Shift(p.Off - at))
			q.Off = e.first*unit + from - begin
			out = append(out, q)
		}
		begin += e.count * unit
	}
	return out
}
