package shelf

import (
	"context"
	"fmt"
	"io"
	"iter"
	"sort"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
)

// Disk is one disk of a twin, as a Device. What wasn't captured and what nobody
// needs reads as zeros.
type Disk struct {
	ctx   context.Context // of whoever opened it: reads of a Device bring none
	s     *Shelf
	twin  *Twin
	d     *TwinDisk
	block int64

	latest   *latest
	glancing glancing

	mu      sync.Mutex
	nodes   map[string][]BlockRef
	trails  []trail
	sharing *Sharing // nil where it reads by itself
	seat    *sharer
}

const cachedNodes = 16

// OpenDisk gives disk i of a twin; keys that are kept with the twin go onto the context's keyring. Its reads end with
// the context.
func (s *Shelf) OpenDisk(ctx context.Context, t *Twin, i int) (*Disk, error) {
	if i < 0 || i >= len(t.Disks) {
		return nil, fmt.Errorf("the twin has %d disks, there is no disk %d", len(t.Disks), i+1)
	}
	t, err := s.Whole(ctx, t)
	if err != nil {
		return nil, err
	}
	glancing := glancingOf(ctx)
	if glancing.only == nil {
		KeysOn(s).use(ctx, t.ID)
	}
	return &Disk{ctx: ctx, s: s, twin: t, d: &t.Disks[i], block: int64(s.BlockSize()),
		latest: s.latest.get(), glancing: glancing, nodes: map[string][]BlockRef{}}, nil
}

func (d *Disk) Size() int64             { return d.d.Identity.Size }
func (d *Disk) SectorSize() int         { return d.d.Identity.Sector }
func (d *Disk) Identity() disk.Identity { return d.d.Identity }

// BlockSize is the size of the shelf's blocks in bytes.
func (d *Disk) BlockSize() int64 { return d.block }

// Describe gives the twin's description of this disk.
func (d *Disk) Describe() *TwinDisk { return d.d }

// Examined says why the accounts of a part weren't believed when it was captured; see fit.Examined.
func (d *Disk) Examined(part int) (why string, known bool) {
	for _, r := range d.d.Regions {
		if r.Part == part {
			if r.Accounted {
				return "", true
			}
			return r.Whole, r.Whole != ""
		}
	}
	return "", false
}

// RegionAt is the region of the twin's description that a byte of the disk lies in.
func (d *Disk) RegionAt(off int64) *Region {
	r := d.d.Regions
	i := sort.Search(len(r), func(i int) bool { return r[i].Span.End > off })
	return &r[i]
}

// node gives the references of node k of a region; nil when nothing in it matters.
func (d *Disk) node(r *Region, k int) ([]BlockRef, error) {
	if k >= len(r.Nodes) || r.Nodes[k] == "" {
		return nil, nil
	}
	key := r.Nodes[k]
	d.mu.Lock()
	refs, ok := d.nodes[key]
	d.mu.Unlock()
	n := NodeLen(r.Span.Len(), d.block, k)
	if ok && len(refs) == n {
		return refs, nil
	}
	refs, err := d.readNode(key, n)
	if err != nil {
		return nil, fmt.Errorf("the block map of part %d: %w", r.Part, err)
	}
	d.mu.Lock()
	if len(d.nodes) >= cachedNodes {
		clear(d.nodes)
	}
	d.nodes[key] = refs
	d.mu.Unlock()
	return refs, nil
}

// readNode reads a node that describes n blocks.
func (d *Disk) readNode(key string, n int) ([]BlockRef, error) {
	name, err := store.ParseName(key)
	if err != nil {
		return nil, err
	}
	if b := d.glancing.g.node(name); b != nil {
		return DecodeNode(b, n)
	}
	if err := d.glancing.miss(); err != nil {
		return nil, err
	}
	return d.s.Node(d.ctx, key, n)
}

// NodeLen is the number of blocks in node k of a region of length bytes.
func NodeLen(length, block int64, k int) int {
	blocks := (length + block - 1) / block
	return int(min(NodeBlocks, blocks-int64(k)*NodeBlocks))
}

// ReadAt reads from the blocks of the shelf.
func (d *Disk) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at < 0 || at >= d.Size() {
			return done, io.EOF
		}
		r := d.RegionAt(at)
		k := (at - r.Span.Start) / d.block
		blockSpan := span.At(r.Span.Start+k*d.block, d.block).Intersect(r.Span)
		n := int(min(int64(len(p)-done), blockSpan.End-at))
		if err := d.readBlock(r, k, p[done:done+n], at-blockSpan.Start); err != nil {
			return done, err
		}
		done += n
	}
	return done, nil
}

func (d *Disk) readBlock(r *Region, k int64, p []byte, within int64) error {
	refs, err := d.node(r, int(k/NodeBlocks))
	if err != nil {
		return err
	}
	if refs == nil || refs[k%NodeBlocks].Kind != disk.Data {
		clear(p)
		return nil
	}
	if d.glancing.g.read(refs[k%NodeBlocks].Name, p, within) {
		return nil
	}
	if err := d.glancing.miss(); err != nil {
		return err
	}
	b, err := d.blockOf(r, k, refs)
	if err != nil {
		return err
	}
	clear(p)
	if within < int64(len(b)) {
		copy(p, b[within:])
	}
	return nil
}

// ReadPiece reads a whole named piece into dst's memory and returns it.
func (d *Disk) ReadPiece(p disk.Piece, dst []byte) ([]byte, error) {
	n, err := store.ParseName(p.Name)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	sharing, seat := d.sharing, d.seat
	d.mu.Unlock()
	fetch := func(dst []byte) ([]byte, error) { return d.s.Block(d.ctx, n, dst) }
	var b []byte
	if sharing == nil {
		b, err = fetch(dst)
	} else {
		b, err = sharing.block(seat, n, p.Len(), dst, fetch)
	}
	if err == nil && int64(len(b)) != p.Len() {
		err = fmt.Errorf("block %s has %d bytes, its place has %d", n, len(b), p.Len())
	}
	return b, err
}

// RefAt is what the block at a byte of the disk holds; Undefined where nothing was kept.
func (d *Disk) RefAt(off int64) (BlockRef, error) {
	if off < 0 || off >= d.Size() {
		return BlockRef{}, fmt.Errorf("byte %d lies beyond the disk's end at %d", off, d.Size())
	}
	r := d.RegionAt(off)
	k := (off - r.Span.Start) / d.block
	refs, err := d.node(r, int(k/NodeBlocks))
	if err != nil || refs == nil {
		return BlockRef{}, err
	}
	return refs[k%NodeBlocks], nil
}

// NameOf is the name that a piece with these bytes has.
func (d *Disk) NameOf(plain []byte) string { return d.s.NameOf(plain).String() }

// Pieces yields what the disk holds, block by block; neighbouring blocks without
// data come as one piece. A node that can't be read is reported and its area
// given as Data without a name; the walk goes on after it when the caller does.
func (d *Disk) Pieces() iter.Seq2[disk.Piece, error] { return d.PiecesIn(span.Span{End: d.Size()}) }

// PiecesIn yields the pieces that touch sp; see Pieces.
func (d *Disk) PiecesIn(sp span.Span) iter.Seq2[disk.Piece, error] {
	return func(yield func(disk.Piece, error) bool) {
		var pending disk.Piece
		emit := func(p disk.Piece) bool {
			if p.Kind != disk.Data && p.Kind == pending.Kind && p.Start == pending.End && !pending.Empty() {
				pending.End = p.End
				return true
			}
			ok := pending.Empty() || yield(pending, nil)
			pending = p
			return ok
		}
		for i := range d.d.Regions {
			r := &d.d.Regions[i]
			if !r.Span.Overlaps(sp) {
				continue
			}
			if !d.regionPieces(r, sp, emit, func(p disk.Piece, err error) bool {
				ok := pending.Empty() || yield(pending, nil)
				pending = disk.Piece{}
				return ok && yield(p, err)
			}) {
				return
			}
		}
		if !pending.Empty() {
			yield(pending, nil)
		}
	}
}

func (d *Disk) regionPieces(r *Region, sp span.Span, emit func(disk.Piece) bool,
	fail func(disk.Piece, error) bool) bool {
	perNode := NodeBlocks * d.block
	within := sp.Intersect(r.Span)
	for k := int((within.Start - r.Span.Start) / perNode); r.Span.Start+int64(k)*perNode < within.End; k++ {
		area := span.At(r.Span.Start+int64(k)*perNode, perNode).Intersect(r.Span)
		refs, err := d.node(r, k)
		if err != nil {
			if !fail(disk.Piece{Span: area, Kind: disk.Data}, err) {
				return false
			}
			continue
		}
		if refs == nil {
			if !d.missingZero(area, emit) {
				return false
			}
			continue
		}
		first := max(0, within.Start-area.Start) / d.block
		last := min(int64(len(refs)), (within.End-area.Start+d.block-1)/d.block)
		for j := first; j < last; j++ {
			ref := refs[j]
			p := disk.Piece{Span: span.At(area.Start+j*d.block, d.block).Intersect(area), Kind: ref.Kind}
			if ref.Kind == disk.Data {
				p.Name = ref.Name.String()
			}
			if ref.Kind == disk.Undefined {
				if !d.missingZero(p.Span, emit) {
					return false
				}
				continue
			}
			if !emit(p) {
				return false
			}
		}
	}
	return true
}
