package store

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"github.com/cespare/xxhash/v2"
	"github.com/klauspost/reedsolomon"

	"twinshelf/internal/store/backend"
)

// Parity lies beside a pack and mends it: the pack is cut into cells; cell c belongs to group
// c mod groups, so that a cut tail or a lost stretch hurts all groups a little and none
// much; each group has a few parity cells (Reed-Solomon over GF(2^8)). A sum of each cell says which
// are hurt. docs/shelf-format.md, "Parity".
const (
	cellLen    = 64 << 10
	groupCells = 64 // data cells of a group, at the most
	cellSum    = 8
	parityHead = 32

	parCell   = 0
	parCells  = 4
	parGroups = 8
	parParity = 12
	parSize   = 16

	parityFolder = "parity"

	// DefaultParity is the share of parity in percent where none was chosen.
	DefaultParity = 3
	// MostParity is the largest share that can be chosen, in percent.
	MostParity = 50
	maxCells   = 1 << 20
)

func parityPath(id string) string { return parityFolder + "/" + id + ".parity" }

// shape is how a pack is cut.
type shape struct {
	size                  int64
	cells, groups, parity int // parity cells for each group
}

func shapeOf(size int64, percent int) shape {
	s := shape{size: size, cells: int((size + cellLen - 1) / cellLen)}
	s.groups = max(1, (s.cells+groupCells-1)/groupCells)
	inGroup := (s.cells + s.groups - 1) / s.groups
	s.parity = max(1, (inGroup*percent+99)/100)
	return s
}

func (s shape) inGroup(g int) int { return (s.cells - g + s.groups - 1) / s.groups }

func (s shape) tableLen() int64 {
	return parityHead + int64(s.cells+s.groups*s.parity)*cellSum
}

// sumOf tells hurt cells from whole ones; it needn't withstand anybody's intent.
func sumOf(cell []byte) (out [cellSum]byte) {
	binary.LittleEndian.PutUint64(out[:], xxhash.Sum64(cell))
	return
}

// cell reads cell c of a pack, padded with zeros.
func (s shape) cell(r io.ReaderAt, c int, b []byte) error {
	off := int64(c) * cellLen
	n := int(min(cellLen, s.size-off))
	k, err := r.ReadAt(b[:n], off)
	clear(b[k:])
	if k < n && errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	if k == n {
		err = nil
	}
	return err
}

// group reads the data cells of a group; those that can't be read, or whose sum is another than sums says, come as nil.
// sums may be nil.
func (s shape) group(r io.ReaderAt, g int, cells [][]byte, sums func(c int) [cellSum]byte) (bad int) {
	for i := range s.inGroup(g) {
		if cap(cells[i]) < cellLen {
			cells[i] = make([]byte, cellLen)
		}
		cells[i] = cells[i][:cellLen]
		c := i*s.groups + g
		if s.cell(r, c, cells[i]) != nil || sums != nil && sumOf(cells[i]) != sums(c) {
			cells[i] = cells[i][:0]
			bad++
		}
	}
	return bad
}

// coders are the encoders of the sizes of group that one pack has: making one costs as much as using it.
type coders map[int]reedsolomon.Encoder

func (c coders) of(data, parity int) (reedsolomon.Encoder, error) {
	if e := c[data]; e != nil {
		return e, nil
	}
	e, err := reedsolomon.New(data, parity, reedsolomon.WithMaxGoroutines(1))
	if err == nil {
		c[data] = e
	}
	return e, err
}

// protect writes the parity of a pack that can be read whole.
func (p *packs) protect(ctx context.Context, l *Lock, id string, pack io.ReaderAt, size int64) error {
	sh := shapeOf(size, p.heads.ParityShare())
	table, cells, err := sh.encode(pack)
	if err != nil {
		return fmt.Errorf("the parity of %s can't be made: %w", packPath(id), err)
	}
	h := header{kind: kindParity, suite: p.ring.suite(), length: int64(len(table) + len(cells)), sum: Checksum(table),
		dir: int64(len(table))}
	return p.files.put(ctx, l, parityPath(id), append(append(h.encode(), table...), cells...))
}

// encode makes the table and the parity cells of a pack.
func (s shape) encode(pack io.ReaderAt) (table, parity []byte, err error) {
	table = make([]byte, s.tableLen())
	le := binary.LittleEndian
	le.PutUint32(table[parCell:], cellLen)
	le.PutUint32(table[parCells:], uint32(s.cells))
	le.PutUint32(table[parGroups:], uint32(s.groups))
	le.PutUint32(table[parParity:], uint32(s.parity))
	le.PutUint64(table[parSize:], uint64(s.size))
	parity = make([]byte, 0, s.groups*s.parity*cellLen)
	cells := make([][]byte, groupCells+s.parity)
	enc := coders{}
	for g := range s.groups {
		n := s.inGroup(g)
		if s.group(pack, g, cells[:n], nil) > 0 {
			return nil, nil, errors.New("it can't be read back")
		}
		for p := range s.parity {
			parity = parity[:len(parity)+cellLen]
			cells[n+p] = parity[len(parity)-cellLen:]
		}
		e, err := enc.of(n, s.parity)
		if err == nil {
			err = e.Encode(cells[:n+s.parity])
		}
		if err != nil {
			return nil, nil, err
		}
		for i := range n {
			sum := sumOf(cells[i])
			copy(table[parityHead+(i*s.groups+g)*cellSum:], sum[:])
		}
		for p := range s.parity {
			sum := sumOf(cells[n+p])
			copy(table[parityHead+(s.cells+g*s.parity+p)*cellSum:], sum[:])
			cells[n+p] = nil
		}
	}
	return table, parity, nil
}

// parity is a pack's parity file, read.
type parity struct {
	shape
	table []byte
	r     *backend.Handle
	base  int64 // of the parity cells
}

func (p *parity) sum(c int) [cellSum]byte { return [cellSum]byte(p.table[parityHead+c*cellSum:]) }

func openParity(ctx context.Context, b backend.Backend, id string) (*parity, error) {
	r, err := backend.Open(ctx, b, parityPath(id))
	if err != nil {
		return nil, err
	}
	p, err := readParity(ctx, parityPath(id), r)
	if err != nil {
		r.Close()
		return nil, orCancelled(ctx, err)
	}
	return p, nil
}

func readParity(ctx context.Context, file string, r *backend.Handle) (*parity, error) {
	hb := make([]byte, headerLen+parityHead)
	if n, _ := r.ReadAt(ctx, hb, 0); n < len(hb) {
		return nil, &HurtError{file, 0, "it is cut off"}
	}
	h, err := decodeHeader(file, hb, kindParity)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	t := hb[headerLen:]
	p := &parity{r: r, base: headerLen + h.dir}
	p.shape = shape{int64(le.Uint64(t[parSize:])), int(le.Uint32(t[parCells:])), int(le.Uint32(t[parGroups:])),
		int(le.Uint32(t[parParity:]))}
	if le.Uint32(t[parCell:]) != cellLen || !p.possible() || h.dir != p.tableLen() ||
		h.length != h.dir+int64(p.groups)*int64(p.parity)*cellLen {
		return nil, &HurtError{file, headerLen, "it describes no pack"}
	}
	p.table = make([]byte, h.dir)
	if n, _ := r.ReadAt(ctx, p.table, headerLen); n < len(p.table) || Checksum(p.table) != h.sum {
		return nil, &HurtError{file, headerLen, "the checksum of its table is wrong"}
	}
	return p, nil
}

// possible says whether a pack can be cut so.
func (s shape) possible() bool {
	return s.cells >= 1 && s.cells <= maxCells && s.groups >= 1 && s.groups <= s.cells &&
		s.parity >= 1 && s.parity <= groupCells &&
		s.size > int64(s.cells-1)*cellLen && s.size <= int64(s.cells)*cellLen && s.inGroup(0) <= groupCells
}

// hurt are the cells of a pack that aren't what they were.
func (p *parity) hurt(pack io.ReaderAt) []int {
	var out []int
	b := make([]byte, cellLen)
	for c := range p.cells {
		if p.cell(pack, c, b) != nil || sumOf(b) != p.sum(c) {
			out = append(out, c)
		}
	}
	return out
}

// ErrBeyond means that more is hurt than the parity can mend.
var ErrBeyond = errors.New("more is hurt than its parity can mend")

// mend writes the pack as it was to w.
func (p *parity) mend(ctx context.Context, pack io.ReaderAt, w io.Writer) error {
	fixed, enc := map[int][]byte{}, coders{}
	for g := range p.groups {
		if err := p.mendGroup(ctx, pack, g, enc, fixed); err != nil {
			return err
		}
	}
	b := make([]byte, cellLen)
	for c := range p.cells {
		cell := fixed[c]
		if cell == nil {
			if err := p.cell(pack, c, b); err != nil {
				return err
			}
			cell = b
		}
		if _, err := w.Write(cell[:min(cellLen, p.size-int64(c)*cellLen)]); err != nil {
			return err
		}
	}
	return nil
}

// mendGroup adds the hurt cells of a group to those that are fixed.
func (p *parity) mendGroup(ctx context.Context, pack io.ReaderAt, g int, enc coders, fixed map[int][]byte) error {
	n := p.inGroup(g)
	cells := make([][]byte, n+p.parity)
	if bad := p.group(pack, g, cells[:n], p.sum); bad == 0 {
		return nil
	}
	for k := range p.parity {
		if b := make([]byte, cellLen); p.parityCell(ctx, g*p.parity+k, b) {
			cells[n+k] = b
		}
	}
	var lost []int
	for i := range n {
		if len(cells[i]) == 0 {
			cells[i] = nil
			lost = append(lost, i)
		}
	}
	e, err := enc.of(n, p.parity)
	if err != nil {
		return err
	}
	if err := e.ReconstructData(cells); err != nil {
		return fmt.Errorf("%w: %d of %d cells of group %d", ErrBeyond, len(lost), n, g)
	}
	for _, i := range lost {
		c := i*p.groups + g
		if sumOf(cells[i]) != p.sum(c) {
			return fmt.Errorf("%w: group %d", ErrBeyond, g)
		}
		fixed[c] = cells[i]
	}
	return nil
}

// parityCell reads a parity cell, and says whether it is what was written.
func (p *parity) parityCell(ctx context.Context, at int, b []byte) bool {
	n, _ := p.r.ReadAt(ctx, b, p.base+int64(at)*cellLen)
	return n == cellLen && sumOf(b) == p.sum(p.cells+at)
}

// mendPack puts a pack back as it was, in one step.
func (p *packs) mendPack(ctx context.Context, l *Lock, id string) error {
	par, err := openParity(ctx, p.b, id)
	if err != nil {
		return err
	}
	defer par.r.Close()
	var pack io.ReaderAt = nothing{}
	if r, err := backend.Open(ctx, p.b, packPath(id)); err == nil {
		defer r.Close()
		pack = r.At(ctx)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	u, err := p.b.Create(ctx, packPath(id), backend.Options{Owner: l.owner()})
	if err != nil {
		return err
	}
	defer u.Abort()
	if err := par.mend(ctx, pack, u); err != nil {
		return orCancelled(ctx, err)
	}
	if err := commit(ctx, l, u); err != nil {
		return err
	}
	p.letGo(id)
	return nil
}

// nothing is a file that is gone.
type nothing struct{}

func (nothing) ReadAt([]byte, int64) (int, error) { return 0, io.EOF }
