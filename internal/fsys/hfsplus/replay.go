package hfsplus

import (
	"fmt"
	"io"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// A transaction of the journal is a list of blocks and, after it, these blocks; the end of the journal goes on after
// its head (TN1150, Journal).
const (
	listCount   = 2 // of its entries, the first of which is for itself
	listBytes   = 4 // with the blocks
	listSum     = 8
	listEntries = 16
	listEntry   = 16
	entrySize   = 8
	summed      = 32 // bytes of a list, and all of the head before the number that newer systems add
	nowhere     = 1<<64 - 1

	mostTransactions = 1 << 20
	mostSectors      = 1 << 20 // that a journal may change
)

// replay is where sectors of a volume stand in its journal, by their byte on the part: those that the next system that
// mounts the volume writes back.
type replay struct {
	sector int64
	from   map[int64]int64
}

// readReplay follows the journal from its oldest transaction to its newest.
func (v *Volume) readReplay(j *journal) (*replay, error) {
	p := &replay{sector: j.headSize, from: map[int64]int64{}}
	at := j.start
	for range mostTransactions {
		if at == j.end {
			return p, nil
		}
		next, err := v.readTransaction(p, j, at)
		if err != nil {
			return nil, fmt.Errorf("the transaction at byte %d of the journal: %w", at, err)
		}
		at = next
	}
	return nil, fsys.Contradiction(j.area.Start, "the journal has more than %d transactions", mostTransactions)
}

// after is n bytes after byte at of the journal, which goes on after its head where it ends.
func (j *journal) after(at, n int64) int64 {
	if at += n; at >= j.area.Len() {
		at += j.headSize - j.area.Len()
	}
	return at
}

// read reads n bytes from byte at of the journal on, around its end.
func (v *Volume) readLog(j *journal, at, n int64) ([]byte, error) {
	b := make([]byte, n)
	first := min(n, j.area.Len()-at)
	if err := disk.ReadFull(v.r, b[:first], j.area.Start+at); err != nil {
		return nil, err
	}
	return b, disk.ReadFull(v.r, b[first:], j.area.Start+j.headSize)
}

// readTransaction notes what a transaction writes, over what earlier ones do, and says where the next one begins.
func (v *Volume) readTransaction(p *replay, j *journal, at int64) (next int64, err error) {
	room := j.area.Len() - j.headSize
	if at < j.headSize || j.listSize < listEntries+listEntry || j.listSize > room || j.listSize > 1<<20 {
		return 0, fmt.Errorf("a list of %d bytes can't be there", j.listSize)
	}
	list, err := v.readLog(j, at, j.listSize)
	if err != nil {
		return 0, err
	}
	if sum := j.order.Uint32(list[listSum:]); sum != journalSum(list[:summed], listSum) {
		return 0, fmt.Errorf("the sum of its list is wrong")
	}
	n, bytes := int64(j.order.Uint16(list[listCount:])), int64(j.order.Uint32(list[listBytes:]))
	if n < 1 || listEntries+n*listEntry > j.listSize || bytes < j.listSize || bytes > room {
		return 0, fmt.Errorf("a list of %d entries for %d bytes", n, bytes)
	}
	data := j.after(at, j.listSize)
	rest := bytes - j.listSize
	for e := list[listEntries+listEntry : listEntries+n*listEntry]; len(e) > 0; e = e[listEntry:] {
		to, size := j.order.Uint64(e), int64(j.order.Uint32(e[entrySize:]))
		if size > rest || size%p.sector != 0 {
			return 0, fmt.Errorf("a block of %d bytes", size)
		}
		if to != nowhere {
			if to > uint64(v.blocks*v.unit/p.sector) || int64(to)*p.sector+size > v.blocks*v.unit {
				return 0, fmt.Errorf("a block that belongs to sector %d", to)
			}
			for k := int64(0); k < size; k += p.sector {
				p.from[v.at+int64(to)*p.sector+k] = j.area.Start + j.after(data, k)
			}
			if len(p.from) > mostSectors {
				return 0, fmt.Errorf("more than %d sectors are changed", mostSectors)
			}
		}
		data, rest = j.after(data, size), rest-size
	}
	return j.after(at, bytes), nil
}

// journalSum is the sum of a list or of a head, with the four bytes of the sum itself as zeros.
func journalSum(b []byte, own int) uint32 {
	var sum uint32
	for i, c := range b {
		if i >= own && i < own+4 {
			c = 0
		}
		sum = sum<<8 ^ (sum + uint32(c))
	}
	return ^sum
}

// replayed reads a part as it will be once its journal was replayed.
type replayed struct {
	io.ReaderAt
	p *replay
}

// ReadAt fills b from byte off of the part.
func (r replayed) ReadAt(b []byte, off int64) (int, error) {
	n, err := r.ReaderAt.ReadAt(b, off)
	for at := off / r.p.sector * r.p.sector; at < off+int64(n); at += r.p.sector {
		from, changed := r.p.from[at]
		if !changed {
			continue
		}
		hit := span.At(at, r.p.sector).Intersect(span.At(off, int64(n)))
		if _, err := r.ReaderAt.ReadAt(b[hit.Start-off:hit.End-off], from+hit.Start-at); err != nil {
			return int(hit.Start - off), err
		}
	}
	return n, err
}

// changes are the stretches that the journal writes, in bytes of the part.
func (p *replay) changes() span.Set {
	all := make([]span.Span, 0, len(p.from))
	for at := range p.from {
		all = append(all, span.At(at, p.sector))
	}
	slices.SortFunc(all, func(a, b span.Span) int { return int(min(1, max(-1, a.Start-b.Start))) })
	return span.Of(all...)
}
