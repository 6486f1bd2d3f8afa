package shelf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"github.com/cespare/xxhash/v2"
	"github.com/klauspost/reedsolomon"
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

	// DefaultParity is the share of parity in percent where none was chosen.
	DefaultParity = 3
	// MostParity is the largest share that can be chosen, in percent.
	MostParity = 50
	maxCells   = 1 << 20
)

func parityPath(id string) string { return "parity/" + id + ".parity" }

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

// ParityShare is the share of parity that new packs get, in percent.
func (s *Shelf) ParityShare() int {
	if p := s.Head().Parity; p > 0 && p <= MostParity {
		return p
	}
	return DefaultParity
}

// SetParity chooses the share of parity that packs get from now on, in percent.
func (s *Shelf) SetParity(percent int) error {
	if percent < 1 || percent > MostParity {
		return fmt.Errorf("a parity of %d %% is not possible: choose from 1 to %d", percent, MostParity)
	}
	return s.changeHead("choosing the parity", func(h *Head) error {
		h.Parity = percent
		return nil
	})
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

// group reads the data cells of a group; those that can't be read, or whose sum is another than sums says,
// come as nil. sums may be nil.
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

// protect writes the parity of a pack that is whole in a file.
func (s *Shelf) protect(id, file string) error {
	r, err := s.b.Open(file)
	if err != nil {
		return err
	}
	defer r.Close()
	sh := shapeOf(r.Size(), s.ParityShare())
	table := make([]byte, sh.tableLen())
	le := binary.LittleEndian
	le.PutUint32(table[parCell:], cellLen)
	le.PutUint32(table[parCells:], uint32(sh.cells))
	le.PutUint32(table[parGroups:], uint32(sh.groups))
	le.PutUint32(table[parParity:], uint32(sh.parity))
	le.PutUint64(table[parSize:], uint64(sh.size))
	parity := make([]byte, 0, sh.groups*sh.parity*cellLen)
	cells := make([][]byte, groupCells+sh.parity)
	enc := coders{}
	for g := range sh.groups {
		n := sh.inGroup(g)
		if sh.group(r, g, cells[:n], nil) > 0 {
			return fmt.Errorf("%s can't be read back for its parity", file)
		}
		for p := range sh.parity {
			parity = parity[:len(parity)+cellLen]
			cells[n+p] = parity[len(parity)-cellLen:]
		}
		e, err := enc.of(n, sh.parity)
		if err == nil {
			err = e.Encode(cells[:n+sh.parity])
		}
		if err != nil {
			return err
		}
		for i := range n {
			sum := sumOf(cells[i])
			copy(table[parityHead+(i*sh.groups+g)*cellSum:], sum[:])
		}
		for p := range sh.parity {
			sum := sumOf(cells[n+p])
			copy(table[parityHead+(sh.cells+g*sh.parity+p)*cellSum:], sum[:])
			cells[n+p] = nil
		}
	}
	h := header{kind: kindParity, suite: s.ring.suite(), length: int64(len(table) + len(parity)), sum: checksum(table), dir: int64(len(table))}
	return s.writeFile(parityPath(id), append(append(h.encode(), table...), parity...))
}

// parity is a pack's parity file, read.
type parity struct {
	shape
	table []byte
	r     Reader
	base  int64 // of the parity cells
}

func (p *parity) sum(c int) [cellSum]byte { return [cellSum]byte(p.table[parityHead+c*cellSum:]) }

func (s *Shelf) openParity(id string) (*parity, error) {
	file := parityPath(id)
	r, err := s.b.Open(file)
	if err != nil {
		return nil, err
	}
	p, err := readParity(file, r)
	if err != nil {
		r.Close()
	}
	return p, err
}

func readParity(file string, r Reader) (*parity, error) {
	hb := make([]byte, headerLen+parityHead)
	if n, _ := r.ReadAt(hb, 0); n < len(hb) {
		return nil, &Hurt{file, 0, "it is cut off"}
	}
	h, err := decodeHeader(file, hb, kindParity)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	t := hb[headerLen:]
	p := &parity{r: r, base: headerLen + h.dir}
	p.shape = shape{int64(le.Uint64(t[parSize:])), int(le.Uint32(t[parCells:])), int(le.Uint32(t[parGroups:])), int(le.Uint32(t[parParity:]))}
	if le.Uint32(t[parCell:]) != cellLen || p.cells < 1 || p.cells > maxCells || p.groups < 1 || p.groups > p.cells || p.parity < 1 || p.parity > groupCells ||
		p.size <= int64(p.cells-1)*cellLen || p.size > int64(p.cells)*cellLen || p.inGroup(0) > groupCells || h.dir != p.tableLen() || h.length != h.dir+int64(p.groups)*int64(p.parity)*cellLen {
		return nil, &Hurt{file, headerLen, "it describes no pack"}
	}
	p.table = make([]byte, h.dir)
	if n, _ := r.ReadAt(p.table, headerLen); n < len(p.table) || checksum(p.table) != h.sum {
		return nil, &Hurt{file, headerLen, "the checksum of its table is wrong"}
	}
	return p, nil
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
func (p *parity) mend(pack io.ReaderAt, w io.Writer) error {
	fixed, enc := map[int][]byte{}, coders{}
	for g := range p.groups {
		n := p.inGroup(g)
		cells := make([][]byte, n+p.parity)
		if bad := p.group(pack, g, cells[:n], p.sum); bad == 0 {
			continue
		}
		for k := range p.parity {
			b := make([]byte, cellLen)
			at := g*p.parity + k
			if m, _ := p.r.ReadAt(b, p.base+int64(at)*cellLen); m == cellLen && sumOf(b) == p.sum(p.cells+at) {
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
			if c := i*p.groups + g; sumOf(cells[i]) == p.sum(c) {
				fixed[c] = cells[i]
			} else {
				return fmt.Errorf("%w: group %d", ErrBeyond, g)
			}
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

// mendPack puts a pack back as it was, in one step, and says so in the journal.
func (s *Shelf) mendPack(id string) error {
	p, err := s.openParity(id)
	if err != nil {
		return err
	}
	defer p.r.Close()
	var pack io.ReaderAt = nothing{}
	if r, err := s.b.Open(packPath(id)); err == nil {
		defer r.Close()
		pack = r
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	temp := "tmp/" + newID() + ".pack"
	w, err := s.b.Create(temp)
	if err != nil {
		return err
	}
	err = p.mend(pack, w)
	if err = errors.Join(err, w.Sync(), w.Close()); err == nil {
		err = s.b.Rename(temp, packPath(id))
	}
	if err != nil {
		_ = s.b.Remove(temp)
		return err
	}
	s.filesMu.Lock()
	delete(s.files, id)
	s.filesMu.Unlock()
	return s.journal(Event{What: "mended " + packPath(id), Why: "its parity had what was lost"})
}

// nothing is a file that is gone.
type nothing struct{}

func (nothing) ReadAt([]byte, int64) (int, error) { return 0, io.EOF }
