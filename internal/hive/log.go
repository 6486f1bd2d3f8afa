package hive

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/bits"
	"slices"

	"twinshelf/internal/disk"
)

// Log is a file beside a registry file that has what is written to it.
type Log struct {
	R    io.ReaderAt
	Size int64 // bytes
}

// entry is one write of a log.
type entry struct {
	seq   uint32
	bins  uint32 // bytes of all bins afterwards
	pages []disk.Patch
}

// replay makes a file whole that wasn't closed: by the entries of its logs that follow each other from the number of
// the last write that was ended on (Transaction log files, recovery).
func (h *Hive) replay(logs []Log) error {
	var all []chain
	for _, l := range logs {
		c, err := readLog(l)
		if err != nil || len(c.entries) == 0 {
			continue // empty, or of something else
		}
		all = append(all, c)
	}
	slices.SortFunc(all, func(a, b chain) int { return cmp.Compare(a.entries[0].seq, b.entries[0].seq) })
	for i := len(all) - 1; i > 0 && sum(h.head) != le.Uint32(h.head[headSum:]); i-- {
		if before := all[i-1].entries; before[len(before)-1].seq+1 != all[i].entries[0].seq {
			all = all[i:] // what is older is in the file already, and would be laid over what is newer
			break
		}
	}
	if len(all) > 0 && sum(h.head) != le.Uint32(h.head[headSum:]) { // the log's own copy of the first block counts
		copy(h.head, all[0].head)
		le.PutUint32(h.head[headType:], typePrimary)
		le.PutUint32(h.head[headSecond:], all[0].entries[0].seq)
	}
	sectors := map[int64][]byte{}
	next, begun := le.Uint32(h.head[headSecond:]), false
	for _, c := range all {
		for _, e := range c.entries {
			if e.seq < next {
				continue // it is in the file already
			}
			if e.seq != next && (begun || e.seq != next+1) {
				return &DirtyError{"some of what its logs had is missing: let its Windows start once and shut it down"}
			}
			e.into(sectors)
			le.PutUint32(h.head[headBins:], e.bins)
			begun, next = true, e.seq+1
		}
	}
	if !begun {
		return &DirtyError{"no log beside it has what is missing: let its Windows start once and shut it down"}
	}
	for _, at := range slices.Sorted(maps.Keys(sectors)) {
		h.over = append(h.over, disk.Patch{Off: at, Data: sectors[at]})
	}
	h.Replayed = true
	le.PutUint32(h.head[headFirst:], next)
	le.PutUint32(h.head[headSecond:], next)
	le.PutUint32(h.head[headSum:], sum(h.head))
	return nil
}

// chain is what a log has: a copy of the first block, and writes that follow each other.
type chain struct {
	head    []byte
	entries []entry
}

// into lays the pages of a write over those of earlier ones, by sectors.
func (e *entry) into(sectors map[int64][]byte) {
	for _, p := range e.pages {
		for i := int64(0); i < int64(len(p.Data)); i += dirtPage {
			sectors[p.Off+i] = p.Data[i : i+dirtPage]
		}
	}
}

// readLog reads the entries of a log that follow each other.
func readLog(l Log) (c chain, err error) {
	if l.Size < logStart || l.Size > mostLog {
		return c, fmt.Errorf("a log of %d bytes", l.Size)
	}
	b := make([]byte, l.Size)
	if err := disk.ReadFull(l.R, b, 0); err != nil {
		return c, err
	}
	c.head = b[:logStart]
	if string(b[:4]) != headMark || sum(c.head) != le.Uint32(b[headSum:]) {
		return c, errors.New("it is no log of a registry file")
	}
	switch le.Uint32(b[headType:]) {
	case logOldType, logOldType2:
		e, err := readDirty(c.head, b[logStart:])
		c.entries = []entry{e}
		return c, err
	case logNewType:
		for rest := b[logStart:]; ; {
			e, n, err := readEntry(rest)
			if err != nil || len(c.entries) > 0 && e.seq != c.entries[len(c.entries)-1].seq+1 {
				return c, nil // what follows is older, or wasn't ended
			}
			c.entries = append(c.entries, e)
			rest = rest[n:]
		}
	}
	return c, errors.New("a log of a kind that isn't known")
}

// readDirty reads a log of the older kind: a map of the pages that it has, and these.
func readDirty(head, b []byte) (e entry, err error) {
	e.seq, e.bins = le.Uint32(head[headSecond:]), le.Uint32(head[headBins:])
	if le.Uint32(head[headFirst:]) != e.seq {
		return e, errors.New("the log itself wasn't ended")
	}
	n := int(min(e.bins, mostBins) / dirtPage)
	at := (4 + n/8 + dirtPage - 1) / dirtPage * dirtPage
	if e.bins%binUnit != 0 || len(b) < at || string(b[:4]) != dirtMark {
		return e, errors.New("the log has no map of its pages")
	}
	for i := range n {
		if b[4+i/8]>>(i%8)&1 == 0 {
			continue
		}
		if at+dirtPage > len(b) {
			return e, errors.New("the log ends before its last page")
		}
		e.pages = append(e.pages, disk.Patch{Off: headLen + int64(i)*dirtPage, Data: b[at : at+dirtPage]})
		at += dirtPage
	}
	return e, nil
}

// readEntry reads an entry of a log of the newer kind, and how long it is.
func readEntry(b []byte) (e entry, n int64, err error) {
	if len(b) < entryLen || string(b[:4]) != entryMark {
		return e, 0, errors.New("no entry")
	}
	size, pages := int64(le.Uint32(b[entrySize:])), int64(le.Uint32(b[entryPages:]))
	e.seq, e.bins = le.Uint32(b[entrySeq:]), le.Uint32(b[entryBins:])
	data := entryLen + pages*entryPageLen
	switch {
	case size > int64(len(b)) || size < data || size%logStart != 0 || pages > mostPages:
		return e, 0, fmt.Errorf("an entry of %d bytes with %d pages", size, pages)
	case Marvin(Seed, b[:entryHash2]) != le.Uint64(b[entryHash2:]) || Marvin(Seed,
		b[entryLen:size]) != le.Uint64(b[entryHash:]):
		return e, 0, errors.New("the sum of an entry is wrong")
	case e.bins%binUnit != 0 || e.bins > mostBins:
		return e, 0, fmt.Errorf("bins of %d bytes", e.bins)
	}
	for i := range pages {
		off, n := int64(le.Uint32(b[entryLen+i*entryPageLen:])), int64(le.Uint32(b[entryLen+i*entryPageLen+4:]))
		if n == 0 || off%dirtPage != 0 || n%dirtPage != 0 || data+n > size || off+n > int64(e.bins) {
			return e, 0, fmt.Errorf("a page of %d bytes at %#x", n, off)
		}
		e.pages = append(e.pages, disk.Patch{Off: headLen + off, Data: bytes.Clone(b[data : data+n])})
		data += n
	}
	return e, size, nil
}

// Seed is what the sums in logs begin with.
const Seed uint64 = 0x82EF4D887A4E55C5

// Marvin is the sum that logs of the newer kind have: Marvin32 (US patent 8,594,829).
func Marvin(seed uint64, b []byte) uint64 {
	lo, hi := uint32(seed), uint32(seed>>32)
	mix := func(n uint32) {
		lo += n
		hi ^= lo
		lo = bits.RotateLeft32(lo, 20) + hi
		hi = bits.RotateLeft32(hi, 9) ^ lo
		lo = bits.RotateLeft32(lo, 27) + hi
		hi = bits.RotateLeft32(hi, 19)
	}
	for ; len(b) >= 4; b = b[4:] {
		mix(le.Uint32(b))
	}
	last := uint32(0x80)
	for i := len(b) - 1; i >= 0; i-- {
		last = last<<8 | uint32(b[i])
	}
	mix(last)
	mix(0)
	return uint64(hi)<<32 | uint64(lo)
}
