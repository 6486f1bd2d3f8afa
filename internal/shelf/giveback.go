package shelf

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"time"

	"twinshelf/internal/units"
)

// Discard takes a twin off the shelf, for the reason that goes into the journal. Its room comes back
// with GiveBack. A twin that is kept for ever stays.
func (s *Shelf) Discard(t *Twin, why string) error {
	marks, err := s.Marks()
	if err != nil {
		return err
	}
	if m, kept := marks[t.ID]; kept {
		return fmt.Errorf("the twin of %s of %s is kept for ever (%s): take the mark away first", t.Machine, units.Moment(t.Taken), m.Note)
	}
	l, err := s.acquire(Holder{What: "discarding a twin", Machine: s.ring.slug(t.Machine)})
	if err != nil {
		return fmt.Errorf("the twin can't be discarded now: %w", err)
	}
	defer l.release()
	// The journal first: nothing is ever dropped that it doesn't tell of.
	if err := s.journal(Event{What: discarded, Machine: t.Machine, Twin: t.ID, Why: why}); err != nil {
		return err
	}
	// It must not come back after its blocks are gone.
	if err := s.removeKept(s.twinPath(t.Machine, t.ID)); err != nil {
		return fmt.Errorf("the twin can't be discarded: %w", err)
	}
	s.dropListing(t.ID)
	proofs, _ := s.b.List("proofs/" + t.ID)
	for _, p := range proofs {
		_ = s.b.Remove("proofs/" + t.ID + "/" + p)
	}
	return nil
}

// Freed is what giving back space does, or would do.
type Freed struct {
	Bytes     int64 `json:"bytes"`     // that come back
	Needed    int64 `json:"needed"`    // in blocks that twins need
	Unneeded  int64 `json:"unneeded"`  // in blocks that nobody needs
	Removed   int   `json:"removed"`   // packs without anything that is needed
	Rewritten int   `json:"rewritten"` // packs of which the needed blocks were copied
	Copied    int64 `json:"copied"`    // bytes
	Left      int64 `json:"left"`      // unneeded bytes in packs that aren't worth rewriting
}

// Words says it in a sentence.
func (f Freed) Words() string {
	w := fmt.Sprintf("%s come back: %s without anything needed, %s of which %s are copied", units.Bytes(f.Bytes), units.Plural(f.Removed, "pack"), units.Plural(f.Rewritten, "pack"), units.Bytes(f.Copied))
	if f.Left > 0 {
		w += fmt.Sprintf("; %s of unneeded blocks stay, scattered among needed ones", units.Bytes(f.Left))
	}
	return w
}

// copyingRate is an assumed one for copying blocks into new packs and reading them back, in bytes per second.
const copyingRate = 50 * units.MB

// Estimate is how long giving it back will probably take.
func (f Freed) Estimate() time.Duration {
	return time.Duration(float64(f.Copied) / copyingRate * float64(time.Second))
}

// worthRewriting is from which unneeded share, one part in it, a pack is rewritten.
const worthRewriting = 5

// ErrUnsure means that nobody can tell what is needed.
var ErrUnsure = errors.New("it can't be told what is still needed")

// GiveBack removes blocks that no twin needs. Readers may go on. Killed at any moment, nothing that
// is needed is lost: needed blocks are copied and indexed before anything is removed. dry only says what would happen.
func (s *Shelf) GiveBack(ctx context.Context, dry bool, step func(done, total int64) error) (Freed, error) {
	var f Freed
	if !dry {
		l, err := s.acquire(Holder{What: "giving back space", Alone: true})
		if err != nil {
			return f, fmt.Errorf("space can't be given back now: %w", err)
		}
		defer l.release()
		return s.giveBack(ctx, l, step)
	}
	return s.giveBack(ctx, nil, step)
}

// unfinished are the packs of a capture for which there was no room. They are spared for a while, so
// that the next try goes on from them.
type unfinished struct {
	Packs []string  `json:"packs"`
	When  time.Time `json:"when"`
}

// spareFor is how long they are spared.
const spareFor = 14 * 24 * time.Hour

func unfinishedPath(machine string) string { return "unfinished/" + machine + ".note" }

// spared are the packs that wait for a capture to go on.
func (s *Shelf) spared() map[string]bool {
	names, _ := s.b.List("unfinished")
	out := map[string]bool{}
	for _, n := range names {
		var u unfinished
		if ok, err := s.readNote("unfinished/"+n, &u); ok && err == nil && time.Since(u.When) < spareFor {
			for _, p := range u.Packs {
				out[p] = true
			}
		}
	}
	return out
}

// pile is what a pack holds.
type pile struct {
	size, live int64 // bytes
	twins      int64 // of the live ones those that twins need
	entries    int
}

func (s *Shelf) giveBack(ctx context.Context, l *lock, step func(done, total int64) error) (Freed, error) {
	var f Freed
	err := s.refresh()
	if err == nil && l != nil {
		err = s.adoptLoose()
	}
	if err != nil {
		return f, err
	}
	twins, err := s.needing()
	if err != nil {
		return f, err
	}
	m := s.marking()
	if err := m.all(ctx, twins); err != nil {
		return f, fmt.Errorf("%w, so nothing is removed: %w; check and heal the shelf first", ErrUnsure, err)
	}
	if err := m.settle(ctx); err != nil {
		return f, err
	}
	piles, err := s.piles(m)
	if err != nil {
		return f, err
	}
	var gone, rewrite []string
	total := int64(0)
	spared, broken := s.spared(), s.lastReads().Broken
	for id, p := range piles {
		if p.twins == 0 && slices.Contains(broken, id) { // listings are made again when they are wanted
			p.live = 0
		}
		if spared[id] {
			f.Needed += p.size
			continue
		}
		unneeded := max(0, p.size-p.live-headerLen-trailerLen-int64(p.entries)*tableEntryLen)
		f.Needed += p.live
		f.Unneeded += unneeded
		switch {
		case p.live == 0:
			gone = append(gone, id)
			f.Bytes += p.size
		case unneeded > p.size/worthRewriting:
			rewrite = append(rewrite, id)
			f.Bytes += unneeded
			f.Copied += p.live
			total += p.live
		default:
			f.Left += unneeded
		}
	}
	slices.Sort(rewrite)
	f.Removed, f.Rewritten = len(gone), len(rewrite)
	if l == nil || len(gone)+len(rewrite) == 0 {
		return f, nil
	}
	if free, err := s.b.Free(); err == nil && len(rewrite) > 0 && free < s.packLimit/4+total/16 {
		if len(gone) == 0 {
			return f, fmt.Errorf("giving back space needs some room itself (%s are free): discard a whole old machine first, or free something else on this drive", units.Bytes(free))
		}
		for _, id := range rewrite { // these when there is room again
			unneeded := piles[id].size - piles[id].live
			f.Bytes, f.Left, f.Copied = f.Bytes-unneeded, f.Left+unneeded, f.Copied-piles[id].live
		}
		rewrite, total, f.Rewritten = nil, 0, 0
	}
	s.dropOrphans(twins)
	if err := s.rewrite(ctx, l, m, gone, rewrite, total, step); err != nil {
		return Freed{}, err
	}
	s.keepReserve()
	return f, s.journal(Event{What: "gave back space", Why: f.Words()})
}

// needing are all twins that need blocks, also those of which only the copy is left.
func (s *Shelf) needing() ([]*Twin, error) {
	twins, problems := s.Twins()
	strays, err := s.strayTwins()
	if err != nil {
		problems = append(problems, err)
	}
	for _, f := range strays {
		t, _, _, err := s.openTwinAt(copyOf(f), f, false)
		if err != nil {
			problems = append(problems, err)
			continue
		}
		twins = append(twins, t)
	}
	if len(problems) > 0 {
		return nil, fmt.Errorf("%w, so nothing is removed: %w; \"twinshelf shelf check\" says what can be done about it", ErrUnsure, problems[0])
	}
	return twins, nil
}

// piles sums up what each pack holds, and what of it is marked.
func (s *Shelf) piles(m *marking) (map[string]*pile, error) {
	piles := map[string]*pile{}
	names, err := s.b.List("packs")
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		if id, ok := packID(n); ok {
			size, _, err := s.b.Stat("packs/" + n)
			if err != nil {
				return nil, err
			}
			piles[id] = &pile{size: size}
		}
	}
	for i, seg := range m.segments {
		n := 0
		if err := seg.all(func(r indexRecord) error {
			if p := piles[r.pack]; p != nil {
				p.entries++
				if m.has(i, n) {
					p.live += entryLen + int64(r.stored)
					if !m.onlyListed(i, n) {
						p.twins += entryLen + int64(r.stored)
					}
				}
			}
			n++
			return nil
		}); err != nil {
			return nil, err
		}
	}
	return piles, nil
}

// rewrite copies what is needed out of packs, reads the copies back, makes the index of what is left, and
// only then removes the old index and the old packs.
func (s *Shelf) rewrite(ctx context.Context, l *lock, m *marking, gone, rewrite []string, total int64, step func(done, total int64) error) error {
	c := &Session{s: s, lock: l, fresh: map[Name]struct{}{}, slots: make(chan struct{}, 2)}
	fail := func(err error) error {
		c.dropFiles()
		return err
	}
	done := int64(0)
	for i, seg := range m.segments {
		n := 0
		if err := seg.all(func(r indexRecord) error {
			n++
			if _, moved := slices.BinarySearch(rewrite, r.pack); !moved || !m.has(i, n-1) {
				return nil
			}
			if err := s.copyEntry(c, r); err != nil {
				if h := new(Hurt); errors.As(err, &h) && m.onlyListed(i, n-1) {
					return nil // a listing is made again when it is wanted
				}
				return err
			}
			done += entryLen + int64(r.stored)
			if step != nil {
				if err := step(done, 2*total); err != nil {
					return err
				}
			}
			return ctx.Err()
		}); err != nil {
			return fail(err)
		}
	}
	if err := c.settle(); err != nil {
		return fail(err)
	}
	if _, err := s.readBack(ctx, c.packs, func(read, _ int64) error {
		if step == nil {
			return nil
		}
		return step(min(done+read, 2*total), 2*total)
	}); err != nil {
		return fail(fmt.Errorf("%w; nothing was removed: this drive isn't to be trusted, carry the shelf to another one", err))
	}
	if err := l.held(); err != nil {
		return fail(err)
	}
	removed := map[string]bool{}
	for _, id := range append(gone, rewrite...) {
		removed[id] = true
	}
	return s.swapIndex(m, c, removed, s.spared())
}

// copyEntry copies a block as it stands, after checking its checksums.
func (s *Shelf) copyEntry(c *Session, r indexRecord) error {
	file := packPath(r.pack)
	p, err := s.pack(r.pack)
	if err != nil {
		return err
	}
	b := make([]byte, entryLen+int(r.stored))
	if n, err := p.ReadAt(b, r.offset); n < len(b) {
		return &Hurt{file, r.offset, fmt.Sprintf("a block can't be read (%v)", err)}
	}
	e, err := decodeEntry(file, r.offset, b)
	if err != nil {
		return err
	}
	if e.name != r.name || e.stored != r.stored || crc32.Checksum(b[entryLen:], castagnoli) != e.dataCRC {
		return &Hurt{file, r.offset, "a needed block is damaged; nothing was removed: check and heal the shelf first"}
	}
	return c.append(r.name, b[:entryLen], b[entryLen:], int(e.plain))
}

// swapIndex makes one segment of what is needed and what was copied, then removes the others and the packs.
func (s *Shelf) swapIndex(m *marking, c *Session, removed, spared map[string]bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	number := map[*segment]int{}
	for i, seg := range m.segments {
		number[seg] = i
	}
	all := append(slices.Clone(m.segments), c.segments...)
	merged, err := s.mergeInto(all, packsOf(all, removed), func(seg *segment, n int, r indexRecord) bool {
		i, old := number[seg]
		return !old || spared[r.pack] || !removed[r.pack] && m.has(i, n)
	})
	if err != nil {
		return err
	}
	names, err := s.b.List("index")
	if err != nil {
		return err
	}
	for _, n := range names {
		if "index/"+n != merged.file {
			if err := s.b.Remove("index/" + n); err != nil {
				return err
			}
		}
	}
	for _, seg := range append(slices.Clone(s.segments), c.segments...) {
		seg.close()
		if seg.file != "packs" {
			_ = s.b.Remove(seg.file)
		}
	}
	if err := s.b.SyncDir("index"); err != nil {
		return err
	}
	s.segments, s.loaded = []*segment{merged}, []string{merged.file[len("index/"):]}
	s.looseSegment, s.looseAt = nil, nil
	for id := range removed {
		s.removePack(id)
	}
	return nil
}

// letGo forgets an open pack.
func (s *Shelf) letGo(id string) {
	s.filesMu.Lock()
	defer s.filesMu.Unlock()
	delete(s.files, id)
	s.order = slices.DeleteFunc(s.order, func(o string) bool { return o == id })
}

// removePack removes a pack with its parity.
func (s *Shelf) removePack(id string) {
	s.letGo(id)
	_ = s.b.Remove(packPath(id))
	_ = s.b.Remove(parityPath(id))
}
