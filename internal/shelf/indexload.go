package shelf

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
)

// loadIndex opens the segments and looks at the packs that none of them covers. Somebody may be
// shortening the index meanwhile, so a file that vanishes is a reason to look again.
func (s *Shelf) loadIndex() error {
	var err error
	for range tries {
		if err = s.tryLoadIndex(); !errors.Is(err, fs.ErrNotExist) {
			break
		}
	}
	return err
}

func (s *Shelf) tryLoadIndex() error {
	names, err := s.b.List("index")
	if err != nil {
		return fmt.Errorf("the index can't be listed: %w", err)
	}
	var segments []*segment
	var notes []string
	covered := map[string]bool{}
	for _, n := range names {
		file := "index/" + n
		r, err := s.b.Open(file)
		if err != nil {
			closeAll(segments)
			return fmt.Errorf("%s can't be opened: %w", file, err)
		}
		seg, err := s.ring.openSegment(file, r, r.Size(), r.Close)
		if err != nil {
			r.Close()
			if errors.Is(err, ErrNewer) {
				closeAll(segments)
				return err
			}
			notes = append(notes, err.Error()+"; its packs are looked at instead")
			continue
		}
		segments = append(segments, seg)
		for _, p := range seg.packs {
			covered[p] = true
		}
	}
	loose, problems, err := s.loose(covered)
	if err == nil {
		err = s.missPacks(segments)
	}
	if err != nil {
		closeAll(segments)
		return err
	}
	s.looseSegment, s.looseAt = nil, nil
	if len(loose) > 0 {
		b := s.ring.encodeSegment(sortRecords(loose))
		seg, err := s.ring.openSegment("packs", bytes.NewReader(b), int64(len(b)), func() error { return nil })
		if err != nil {
			closeAll(segments)
			return err
		}
		segments = append(segments, seg)
		s.looseSegment, s.looseAt = b, seg
	}
	s.segments, s.loaded = segments, names
	for _, n := range append(notes, problems...) {
		if !slices.Contains(s.notes, n) {
			s.notes = append(s.notes, n)
		}
	}
	return nil
}

// missPacks notes which packs that the segments name aren't there: what stood in them is not known to
// the shelf, and is stored again when it comes.
func (s *Shelf) missPacks(segments []*segment) error {
	names, err := s.b.List("packs")
	if err != nil {
		return fmt.Errorf("the packs can't be listed: %w", err)
	}
	there := make(map[string]bool, len(names))
	for _, n := range names {
		if id, ok := packID(n); ok {
			there[id] = true
		}
	}
	for _, seg := range segments {
		for _, p := range seg.packs {
			if !there[p] {
				if seg.gone == nil {
					seg.gone = map[string]bool{}
				}
				seg.gone[p] = true
			}
		}
	}
	return nil
}

func closeAll(segments []*segment) {
	for _, seg := range segments {
		seg.close()
	}
}

// loose looks at the packs that no segment covers, but for those that somebody is
// still writing: they may vanish again.
func (s *Shelf) loose(covered map[string]bool) (records []indexRecord, problems []string, err error) {
	live, err := s.holders("")
	if err != nil {
		return nil, nil, err
	}
	packs, err := s.b.List("packs")
	if err != nil {
		return nil, nil, fmt.Errorf("the packs can't be listed: %w", err)
	}
	for _, n := range packs {
		id, ok := packID(n)
		if !ok || covered[id] || slices.ContainsFunc(live, func(h Holder) bool { return strings.HasPrefix(id, h.ID[:min(len(h.ID), packIDLen)]) }) {
			continue
		}
		r, err := s.packRecords(id)
		if err != nil {
			problems = append(problems, err.Error())
			continue
		}
		records = append(records, r...)
	}
	return records, problems, nil
}

// refresh loads the index again when its files are others than those that were loaded, as
// after a capture or a giving back of space by somebody else.
func (s *Shelf) refresh() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	names, err := s.b.List("index")
	if err != nil {
		return err
	}
	if slices.Equal(names, s.loaded) && s.looseSegment == nil {
		if loose, _, err := s.loose(s.coveredPacks()); err != nil || len(loose) == 0 {
			return err
		}
	}
	old := s.segments
	if err := s.loadIndex(); err != nil {
		return err
	}
	for _, seg := range old {
		if strings.HasPrefix(seg.file, "tmp/") { // of a capture that is going on here
			s.segments = append(s.segments, seg)
		} else {
			seg.close()
		}
	}
	return nil
}

func (s *Shelf) coveredPacks() map[string]bool {
	covered := map[string]bool{}
	for _, seg := range s.segments {
		for _, p := range seg.packs {
			covered[p] = true
		}
	}
	return covered
}

func packID(file string) (string, bool) {
	id, ok := bytes.CutSuffix([]byte(file), []byte(".pack"))
	if _, err := hex.DecodeString(string(id)); err != nil || len(id) != 2*packIDLen {
		return "", false
	}
	return string(id), ok
}

func (s *Shelf) packRecords(id string) ([]indexRecord, error) {
	r, err := s.b.Open(packPath(id))
	if err != nil {
		return nil, err
	}
	defer r.Close()
	entries, err := readTable(r, packPath(id))
	if err != nil {
		return nil, err
	}
	records := make([]indexRecord, len(entries))
	for i, e := range entries {
		records[i] = indexRecord{e.name, place{id, e.offset, e.stored}}
	}
	return records, nil
}
