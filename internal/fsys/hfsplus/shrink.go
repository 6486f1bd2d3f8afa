package hfsplus

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

const (
	// mostMoves bounds the pieces that are moved.
	mostMoves = 1 << 20
	// spareShare is the share of what is used that stays free on the smallest volume: 1/spareShare, and leastSpare
	// bytes.
	spareShare = 32
	leastSpare = 4 << 20
	// longFile is how long a piece is, in bytes, that gets the longest stretches that are free.
	longFile = 4 << 20
)

var _ fsys.Shrinker = (*Volume)(nil)

// shrinkage is a volume that gets fewer blocks: what lies from tail on is moved, and where it lies is said anew. Blocks
// count from the beginning of the volume.
type shrinkage struct {
	v       *Volume
	size    int64       // of the part, bytes
	blocks  int64       // afterwards
	copyAt  int64       // of the header's copy afterwards, bytes
	tail    int64       // the first block that has something of the copy; nothing else lies there or after it
	used    int64       // blocks before tail that are in use, afterwards
	beyond  []span.Span // from tail on, in use by the allocation file, without the blocks of the old copy
	found   []span.Span // those that something names
	nobodys int64       // of beyond
	free    fsys.FreeRuns
	journal *journal // nil without one
	// reserved is where the journal goes, which must be in one piece; empty where it stays.
	reserved extent
	moves    []disk.Move
	taken    []extent
	left     []extent // before tail, and free afterwards
	head     []byte   // the volume header afterwards
	special  map[uint32][]extent
	edits    []edit
	// rest are the extents of forks that the extents overflow file has, where they change.
	rest  map[forkName]overflowing
	patch []disk.Patch
}

// edit is another place for what a record of a tree names.
type edit struct {
	tree uint32 // the tree's own number
	at   int64  // in bytes of its file
	data []byte
}

type forkName struct {
	id   uint32
	kind byte
}

// overflowing are extents of a fork from one of its blocks on.
type overflowing struct {
	from    int64
	extents []extent
}

// Least tries how small the volume can become: what is in use, and some room.
func (v *Volume) Least() (int64, string, error) {
	if why := v.fixed(); why != "" {
		return v.info.Size, why, nil
	}
	used := int64(0)
	if err := v.marked(func(sp span.Span) bool {
		used += sp.Len() / v.unit
		return true
	}); err != nil {
		return 0, "", err
	}
	want := max(used+max(used/spareShare, leastSpare/v.unit), minVolume/v.unit)
	why := units.Bytes(used*v.unit) + " of it are in use"
	for want < v.blocks {
		_, err := v.shrunk(want * v.unit)
		var cant *fsys.Cant
		if errors.As(err, &cant) {
			why = cant.Why
			want += max((v.blocks-want)/8, want/16, 256)
			continue
		}
		return want * v.unit, why, err
	}
	return v.info.Size, "it can't become smaller: " + why, nil
}

// fixed says why the volume keeps its size; "" where it needn't.
func (v *Volume) fixed() string {
	if v.wrapped {
		return "it is wrapped in an HFS volume"
	}
	return v.info.Unclean
}

// shrink gives what becomes of the volume on a smaller part of size bytes.
func (v *Volume) shrink(size int64) (*fsys.Change, error) {
	s, err := v.shrunk(size)
	if err != nil {
		return nil, fmt.Errorf("its %s can't be made as small as %s: %w", v.info.Kind, units.Bytes(size), err)
	}
	c := &fsys.Change{Size: s.blocks * v.unit}
	c.Keep(c.Size, s.moves)
	if s.nobodys > 0 {
		c.Notes = append(c.Notes, fmt.Sprintf("%s of that are marked as used and belong to no file: its own "+
			"checker may "+
			"free them", units.Bytes(s.nobodys*v.unit)))
	}
	c.Patches, err = disk.SortPatches(s.patch, size)
	return c, err
}

// shrunk plans the volume as it will be on so many bytes.
func (v *Volume) shrunk(size int64) (*shrinkage, error) {
	if why := v.fixed(); why != "" {
		return nil, &fsys.Cant{Why: why}
	}
	s := &shrinkage{v: v, size: size, blocks: min(size/v.unit, v.blocks), head: slices.Clone(v.head),
		special: map[uint32][]extent{}, rest: map[forkName]overflowing{}}
	s.copyAt, s.tail = tailOf(size, v.unit, s.blocks)
	if s.blocks*v.unit < minVolume {
		return nil, &fsys.Cant{Why: "no volume of that kind is that small"}
	}
	if binary.BigEndian.Uint32(v.head[headAttributes:])&flagJournaled != 0 {
		j, err := v.journal()
		switch {
		case err != nil:
			return nil, err
		case j.elsewhere:
			return nil, &fsys.Cant{Why: "its journal is on another device"}
		}
		s.journal = j
	}
	for _, step := range []func() error{s.readMap, s.reserve, s.own, s.badBlocks, s.files, s.attributes, s.accounts,
		s.overflow,
		s.finish} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// readMap finds what is free before the new end, and counts what is used after it.
func (s *shrinkage) readMap() error {
	v := s.v
	oldTail := v.blocks
	for _, at := range v.headers()[1:] {
		oldTail = min(oldTail, at/v.unit)
	}
	at := int64(0)
	err := v.marked(func(sp span.Span) bool {
		used := span.Span{Start: sp.Start / v.unit, End: sp.End / v.unit}
		s.free.Add(span.Span{Start: at, End: min(used.Start, s.tail)})
		s.used += max(0, min(used.End, s.tail)-used.Start)
		if sp := used.Intersect(span.Span{Start: s.tail, End: oldTail}); !sp.Empty() {
			s.beyond = append(s.beyond, sp)
		}
		at = used.End
		return true
	})
	s.free.Add(span.Span{Start: at, End: s.tail})
	return err
}

// reserve sees to the journal's new place before others take it.
func (s *shrinkage) reserve() error {
	if s.journal == nil || s.journal.area.End <= s.tail*s.v.unit {
		return nil
	}
	n := (s.journal.area.End+s.v.unit-1)/s.v.unit - s.journal.area.Start/s.v.unit
	if s.free.Longest() < n {
		return &fsys.Cant{Why: "there is no room for its journal in one piece"}
	}
	to, err := s.free.Take(n)
	if err == nil {
		s.reserved = extent{to[0].Start, n}
	}
	return err
}

// own moves the files that the volume consists of.
func (s *shrinkage) own() error {
	for _, f := range []struct {
		at int
		id uint32
	}{{headBitmap, idBitmap}, {headExtents, idExtents}, {headCatalog, idCatalog}, {headAttributesF, idAttributes},
		{headStartup, idStartup}} {
		now, err := s.fork(s.v.specialFork(f.at, f.id))
		if err != nil {
			return err
		}
		s.special[f.id] = now
		putExtents(s.head[f.at+forkExtents:], now)
	}
	return nil
}

// putExtents writes the first eight extents of a fork.
func putExtents(b []byte, all []extent) {
	clear(b[:extents*extentLen])
	for i, e := range all[:min(len(all), extents)] {
		binary.BigEndian.PutUint32(b[i*extentLen:], uint32(e.first))
		binary.BigEndian.PutUint32(b[i*extentLen+4:], uint32(e.count))
	}
}

// fork gives where a fork lies afterwards.
func (s *shrinkage) fork(f fork) ([]extent, error) {
	all, err := s.v.all(f)
	if err != nil {
		return nil, err
	}
	if _, err := s.v.spans(all, f.owner()); err != nil || !s.reach(all) {
		return all, err
	}
	whole := s.holdsJournal(all)
	if whole {
		var one []extent
		for _, e := range all {
			one = join(one, e)
		}
		all = one
	}
	now, err := s.relocate(all, whole)
	if err != nil {
		return nil, err
	}
	if len(now) > extents || len(all) > len(f.first) {
		first := min(len(now), extents)
		s.rest[forkName{f.id, f.kind}] = overflowing{countOf(now[:first]), now[first:]}
	}
	return now, nil
}

// reach says whether something of extents lies beyond the new end.
func (s *shrinkage) reach(all []extent) bool {
	return slices.ContainsFunc(all, func(e extent) bool { return e.first+e.count > s.tail })
}

// holdsJournal says whether extents have the journal, which is one piece.
func (s *shrinkage) holdsJournal(all []extent) bool {
	return s.journal != nil && slices.ContainsFunc(all, func(e extent) bool {
		return !s.v.span(e.first, e.count).Intersect(s.journal.area).Empty()
	})
}

// relocate gives extents of which nothing lies beyond the new end. whole asks that each stays in one piece.
func (s *shrinkage) relocate(all []extent, whole bool) (now []extent, err error) {
	for _, e := range all {
		behind := max(0, e.first+e.count-max(e.first, s.tail))
		stays := e.count - behind
		if behind > 0 {
			s.found = append(s.found, span.Span{Start: e.first + stays, End: e.first + e.count})
		}
		if whole && behind > 0 {
			s.left = append(s.left, extent{e.first, stays})
			s.used -= stays
			stays = 0
		}
		now = join(now, extent{e.first, stays})
		to, err := s.take(e.count-stays, whole)
		if err != nil {
			return nil, err
		}
		from := e.first + stays
		for _, sp := range to {
			now = join(now, extent{sp.Start, sp.Len()})
			s.taken = append(s.taken, extent{sp.Start, sp.Len()})
			s.used += sp.Len()
			s.moves = append(s.moves, disk.Move{From: s.v.span(from, sp.Len()), To: sp.Start * s.v.unit})
			from += sp.Len()
		}
	}
	if len(s.moves) > mostMoves {
		return nil, &fsys.Cant{Why: fmt.Sprintf("more than %d pieces would have to be moved", mostMoves)}
	}
	return now, nil
}

// take gives free blocks; whole asks for one piece.
func (s *shrinkage) take(n int64, whole bool) ([]span.Span, error) {
	switch {
	case whole && n > 0 && n == s.reserved.count:
		out := []span.Span{span.At(s.reserved.first, n)}
		s.reserved = extent{}
		return out, nil
	case whole && s.free.Longest() < n:
		return nil, &fsys.Cant{Why: fmt.Sprintf("there is no room for %s in one piece", units.Bytes(n*s.v.unit))}
	}
	take := s.free.Take
	if n < longFile/s.v.unit { // what is read one after the other lies one after the other
		take = s.free.TakeNext
	}
	to, err := take(n)
	if err != nil {
		return nil, &fsys.Cant{Why: err.Error()}
	}
	return to, nil
}

// join adds an extent, as one with the last where it follows it.
func join(all []extent, e extent) []extent {
	if e.count == 0 {
		return all
	}
	if n := len(all); n > 0 && all[n-1].first+all[n-1].count == e.first {
		all[n-1].count += e.count
		return all
	}
	return append(all, e)
}

// badBlocks forgets those beyond the new end. They aren't moved: nobody can read them.
func (s *shrinkage) badBlocks() error {
	f := fork{id: idBad, kind: forkIsData}
	var kept []extent
	before := len(s.found)
	for e, err := range s.v.extents.records() {
		if err != nil {
			return fmt.Errorf("extents overflow file: %w", err)
		}
		if forkOf(e.key) != (forkName{f.id, f.kind}) || len(e.data) < extentRecords {
			continue
		}
		for _, x := range readExtents(e.data) {
			stays := min(max(0, s.tail-x.first), x.count)
			if stays < x.count {
				s.found = append(s.found, span.Span{Start: x.first + stays, End: x.first + x.count})
			}
			kept = join(kept, extent{x.first, stays})
		}
	}
	if len(s.found) > before {
		s.rest[forkName{f.id, f.kind}] = overflowing{0, kept}
	}
	return nil
}

// forkOf is whose extents a record of the extents overflow file has.
func forkOf(key []byte) forkName {
	if len(key) < extentKeyLen {
		return forkName{}
	}
	return forkName{binary.BigEndian.Uint32(key[extentFile-extentFork:]), key[0]}
}

// files moves what the files of the catalog have beyond the new end.
func (s *shrinkage) files() error {
	for e, err := range s.v.catalog.records() {
		if err != nil {
			return fmt.Errorf("catalog: %w", err)
		}
		if kindOf(e.data) != recFile {
			continue
		}
		it, err := readItem(e.data)
		if err != nil {
			return fmt.Errorf("catalog: %w", err)
		}
		for _, x := range []struct {
			f  fork
			at int64
		}{{it.data, fileData}, {it.res, fileResource}} {
			before := len(s.moves)
			now, err := s.fork(x.f)
			if err != nil {
				return err
			}
			if len(s.moves) > before {
				s.say(idCatalog, e.at+x.at+forkExtents, now)
			}
		}
	}
	return nil
}

// say has a record of a tree name other extents.
func (s *shrinkage) say(tree uint32, at int64, now []extent) {
	b := make([]byte, extentRecords)
	putExtents(b, now)
	s.edits = append(s.edits, edit{tree, at, b})
}

// attributes moves the values of attributes that have extents of their own. They keep their records: one that has
// no further records may lie in eight pieces, all others stay in as many as they are.
func (s *shrinkage) attributes() error {
	if s.v.attributes == nil {
		return nil
	}
	for e, err := range s.v.attributes.records() {
		if err != nil {
			return fmt.Errorf("attributes file: %w", err)
		}
		at, whole, err := s.v.attributes.extentsAt(e)
		if err != nil {
			return err
		}
		if at == 0 {
			continue
		}
		all := readExtents(e.data[at:])
		if _, err := s.v.spans(all, fsys.Owner{Kind: "an attribute in node", Number: int64(e.node)}); err != nil {
			return err
		}
		if !s.reach(all) {
			continue
		}
		now, err := s.relocate(all, whole)
		if err != nil {
			return err
		}
		if len(now) > extents {
			return &fsys.Cant{Why: "there is only room in small pieces, too many for an attribute of a file"}
		}
		s.say(idAttributes, e.at+at, now)
	}
	return nil
}

// accounts makes sure that all that is in use beyond the new end has found another place. What the allocation file
// calls used and nothing names goes along with the rest.
func (s *shrinkage) accounts() error {
	total := int64(0)
	for _, sp := range s.found {
		total += sp.Len()
	}
	marked, named := span.Of(s.beyond...), span.Of(s.found...)
	if stray := named.Subtract(marked).Total(); stray > 0 || named.Total() != total {
		return &fsys.Cant{Why: fmt.Sprintf("its accounts differ: of the blocks beyond that, which its files have, "+
			"%d are free by its map, and %d belong to two", stray, total-named.Total())}
	}
	for sp := range marked.Subtract(named).All() {
		s.nobodys += sp.Len()
		if _, err := s.relocate([]extent{{sp.Start, sp.Len()}}, false); err != nil {
			return err
		}
	}
	return nil
}
