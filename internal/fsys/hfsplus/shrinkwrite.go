package hfsplus

import (
	"encoding/binary"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

const bitmapPage = 4096 // bytes

// overflow makes the extents overflow file anew, where something in it changes.
func (s *shrinkage) overflow() error {
	if len(s.rest) == 0 {
		return nil
	}
	t := s.v.extents
	var all []record
	for e, err := range t.records() {
		if err != nil {
			return fmt.Errorf("extents overflow file: %w", err)
		}
		if _, other := s.rest[forkOf(e.key)]; !other {
			all = append(all, record{e.key, e.data})
		}
	}
	for f, x := range s.rest {
		for part := range slices.Chunk(x.extents, extents) {
			b := make([]byte, extentRecords)
			putExtents(b, part)
			all = append(all, record{extentKey(f.kind, f.id, uint32(x.from)), b})
			x.from += countOf(part)
		}
	}
	slices.SortFunc(all, func(a, b record) int { return compareExtent(a.key, b.key) })
	head := make([]byte, t.size)
	if err := disk.ReadFull(t.file, head, 0); err != nil {
		return fmt.Errorf("extents overflow file: %w", err)
	}
	nodes := bulkTree(head, all)
	if int64(len(nodes)) > int64(t.nodes)*t.size {
		var err error
		if nodes, err = s.longer(head, int64(len(nodes)), all); err != nil {
			return err
		}
	}
	s.file(s.special[idExtents], 0, disk.Patch{Data: nodes, Why: "extents overflow file"})
	s.file(s.special[idExtents], int64(len(nodes)), disk.Patch{Why: "extents overflow file",
		Zeros: countOf(s.special[idExtents])*s.v.unit - int64(len(nodes))})
	return nil
}

// longer gives the extents overflow file another place, with room for n bytes and some more.
func (s *shrinkage) longer(head []byte, n int64, all []record) ([]byte, error) {
	be := binary.BigEndian
	step := max(s.v.extents.size, s.v.unit)
	n = (n + n/4 + step - 1) / step * step
	to, err := s.free.Take(n / s.v.unit)
	if err != nil || len(to) > extents {
		return nil, &fsys.Cant{Why: "there is no room for a longer list of where files lie (extents overflow)"}
	}
	for _, e := range s.special[idExtents] {
		s.left = append(s.left, e)
		s.used -= e.count
	}
	s.special[idExtents] = nil
	for _, sp := range to {
		s.special[idExtents] = append(s.special[idExtents], extent{sp.Start, sp.Len()})
	}
	s.taken = append(s.taken, s.special[idExtents]...)
	s.used += n / s.v.unit
	be.PutUint32(head[treeNodes:], uint32(n/s.v.extents.size))
	f := s.head[headExtents:]
	be.PutUint64(f[forkSize:], uint64(n))
	be.PutUint32(f[forkBlocks:], uint32(n/s.v.unit))
	putExtents(f[forkExtents:], s.special[idExtents])
	return bulkTree(head, all), nil
}

// finish writes what says where everything is: records, the journal's description, the allocation file, both headers.
func (s *shrinkage) finish() error {
	v, be := s.v, binary.BigEndian
	for _, e := range s.edits {
		s.file(s.special[e.tree], e.at, disk.Patch{Data: e.data, Why: "where a file lies"})
	}
	if s.journal != nil {
		info := s.after(s.journal.info.Start)
		be.PutUint32(s.head[headJournal:], uint32(info/v.unit))
		s.put(disk.Patch{Off: info + journalAt, Why: "description of the journal",
			Data: be.AppendUint64(nil, uint64(s.after(s.journal.area.Start)))})
	}
	if err := s.writeMap(); err != nil {
		return fmt.Errorf("allocation file: %w", err)
	}
	be.PutUint32(s.head[headBlocks:], uint32(s.blocks))
	be.PutUint32(s.head[headFree:], uint32(s.tail-s.used))
	if int64(be.Uint32(s.head[headNextBlock:])) >= s.tail {
		be.PutUint32(s.head[headNextBlock:], 0)
	}
	s.put(disk.Patch{Off: headerAt, Data: s.head, Why: "volume header"})
	s.put(disk.Patch{Off: s.copyAt, Data: s.head, Why: "copy of the volume header"})
	s.put(disk.Patch{Off: s.copyAt + headerLen, Zeros: s.size - s.copyAt - headerLen, Why: "end of the volume"})
	return nil
}

// after is where a byte is afterwards.
func (s *shrinkage) after(at int64) int64 {
	for _, m := range s.moves {
		if m.From.Start <= at && at < m.From.End {
			return m.To + at - m.From.Start
		}
	}
	return at
}

// put adds a patch; none lies over another.
func (s *shrinkage) put(p disk.Patch) {
	if len(p.Data) > 0 || p.Zeros > 0 {
		s.patch = append(s.patch, p)
	}
}

// file writes at a byte of a file that will lie in these extents.
func (s *shrinkage) file(all []extent, at int64, p disk.Patch) {
	s.patch = append(s.patch, inFile(all, s.v.unit, at, p)...)
}

// writeMap marks what was taken and the blocks of the header's copy, frees what was left, and clears all after the end.
func (s *shrinkage) writeMap() error {
	file, err := s.v.mapped(s.v.bitmap)
	if err != nil {
		return err
	}
	end := (s.blocks + 7) / 8
	pages := map[int64][]byte{}
	each := func(e extent, change func(b []byte, from, n int64)) {
		for b := e.first; b < e.first+e.count && err == nil; {
			n := b / 8 / bitmapPage
			if pages[n] == nil {
				pages[n] = make([]byte, min(bitmapPage, end-n*bitmapPage))
				err = disk.ReadFull(file, pages[n], n*bitmapPage)
			}
			from := b - n*bitmapPage*8
			count := min(e.first+e.count-b, bitmapPage*8-from)
			change(pages[n], from, count)
			b += count
		}
	}
	for _, e := range s.left {
		each(e, clearBits)
	}
	for _, e := range s.taken {
		each(e, setBits)
	}
	each(extent{s.tail, s.blocks - s.tail}, setBits)
	each(extent{s.blocks, end*8 - s.blocks}, clearBits)
	if err != nil {
		return err
	}
	now := s.special[idBitmap]
	for n, b := range pages {
		s.file(now, n*bitmapPage, disk.Patch{Data: b, Why: "allocation file"})
	}
	s.file(now, end, disk.Patch{Zeros: countOf(now)*s.v.unit - end, Why: "allocation file"})
	return nil
}
