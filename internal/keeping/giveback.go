package keeping

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

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
	w := fmt.Sprintf("%s come back: %s without anything needed, %s of which %s are copied", units.Bytes(f.Bytes),
		units.Plural(f.Removed, "pack"), units.Plural(f.Rewritten, "pack"), units.Bytes(f.Copied))
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

// Foreknow says what giving back space would do; nothing is changed.
func Foreknow(ctx context.Context, s *shelf.Shelf) (Freed, error) {
	if err := s.Refresh(ctx); err != nil {
		return Freed{}, err
	}
	m := s.Marking()
	defer m.Close()
	w, err := weigh(ctx, s, m)
	if err != nil {
		return Freed{}, err
	}
	return w.freed, nil
}

// GiveBack removes blocks that no twin needs. Readers may go on. Killed at any moment, nothing that is needed is lost:
// needed blocks are copied and indexed before anything is removed.
func GiveBack(ctx context.Context, s *shelf.Shelf, step store.Step) (Freed, error) {
	l, err := s.Acquire(ctx, store.Holder{What: "giving back space", Alone: true})
	if err != nil {
		return Freed{}, fmt.Errorf("space can't be given back now: %w", err)
	}
	defer l.Release()
	if err := s.Prepare(ctx, l); err != nil {
		return Freed{}, err
	}
	m := s.Marking()
	defer m.Close()
	w, err := weigh(ctx, s, m)
	if err != nil || len(w.what.Remove)+len(w.what.Rewrite) == 0 {
		return w.freed, err
	}
	if err := w.fitRoom(ctx, s); err != nil {
		return w.freed, err
	}
	s.DropOrphans(ctx, w.twins)
	if err := s.Compact(ctx, l, m, w.what, step); err != nil {
		return Freed{}, err
	}
	s.KeepReserve(ctx)
	return w.freed, s.Record(ctx, shelf.Event{What: "gave back space", Why: w.freed.Words()})
}

// weighed is what was found of which packs are worth their room.
type weighed struct {
	twins []*shelf.Twin
	uses  map[string]*store.PackUse
	what  store.Compaction
	freed Freed
}

// weigh marks what is needed, and finds out what is to become of each pack.
func weigh(ctx context.Context, s *shelf.Shelf, m *store.Marking) (*weighed, error) {
	w := &weighed{}
	var err error
	if w.twins, err = needing(ctx, s); err != nil {
		return w, err
	}
	if err := markAll(ctx, s, m, w.twins); err != nil {
		return w, fmt.Errorf("%w, so nothing is removed: %w; check and heal the shelf first", ErrUnsure, err)
	}
	if err := m.Settle(ctx); err != nil {
		return w, err
	}
	if w.uses, err = s.PackUses(ctx, m); err != nil {
		return w, err
	}
	was, _ := s.Reads(ctx)
	spared, err := s.Spared(ctx)
	if err != nil {
		return w, fmt.Errorf("%w, so nothing is removed: %w", ErrUnsure, err)
	}
	for id, p := range w.uses {
		if p.Proper == 0 && slices.Contains(was.Broken, id) { // listings are made again when they are wanted
			p.Live = 0
		}
		if spared[id] {
			w.freed.Needed += p.Size
			continue
		}
		w.judge(id, p)
	}
	slices.Sort(w.what.Rewrite)
	w.freed.Removed, w.freed.Rewritten = len(w.what.Remove), len(w.what.Rewrite)
	return w, nil
}

// judge decides about one pack.
func (w *weighed) judge(id string, p *store.PackUse) {
	f := &w.freed
	f.Needed += p.Live
	f.Unneeded += p.Unneeded()
	switch {
	case p.Live == 0:
		w.what.Remove = append(w.what.Remove, id)
		f.Bytes += p.Size
	case p.Unneeded() > p.Size/worthRewriting:
		w.what.Rewrite = append(w.what.Rewrite, id)
		w.what.Copy += p.Live
		f.Bytes += p.Unneeded()
		f.Copied += p.Live
	default:
		f.Left += p.Unneeded()
	}
}

// fitRoom leaves rewriting for later where there is no room for it.
func (w *weighed) fitRoom(ctx context.Context, s *shelf.Shelf) error {
	free, err := s.Free(ctx)
	if err != nil || len(w.what.Rewrite) == 0 || int64(free) >= s.PackLimit()/4+w.what.Copy/16 {
		return nil
	}
	if len(w.what.Remove) == 0 {
		return fmt.Errorf("giving back space needs some room itself (%s are free): discard a whole old machine first, "+
			"or free something else on this drive", units.Bytes(int64(free)))
	}
	for _, id := range w.what.Rewrite { // these when there is room again
		unneeded := w.uses[id].Size - w.uses[id].Live
		w.freed.Bytes, w.freed.Left = w.freed.Bytes-unneeded, w.freed.Left+unneeded
		w.freed.Copied -= w.uses[id].Live
	}
	w.what.Rewrite, w.what.Copy, w.freed.Rewritten = nil, 0, 0
	return nil
}

// needing are all twins that need blocks, also those of which only the copy is left.
func needing(ctx context.Context, s *shelf.Shelf) ([]*shelf.Twin, error) {
	twins, problems := s.Twins(ctx)
	strays, err := s.StrayTwins(ctx)
	if err != nil {
		problems = append(problems, err)
	}
	for _, f := range strays {
		t, err := s.ReadTwinAt(ctx, store.CopyOf(f), f)
		if err != nil {
			problems = append(problems, err)
			continue
		}
		twins = append(twins, t)
	}
	if len(problems) > 0 {
		return nil, fmt.Errorf("%w, so nothing is removed: %w; \"twinshelf shelf check\" says what can be done about "+
			"it",
			ErrUnsure, problems[0])
	}
	return twins, nil
}

// ReadBack reads all packs through that some twins need and that were never read since they were written, with their
// parity, and remembers that. step hears of bytes read and of the total. It gives the bytes read; errors are
// store.ErrReadBack, store.ErrMissing, or the context's.
func ReadBack(ctx context.Context, s *shelf.Shelf, twins []*shelf.Twin, step store.Step) (int64, error) {
	if err := s.Refresh(ctx); err != nil {
		return 0, err
	}
	m := s.Marking()
	defer m.Close()
	if err := markAll(ctx, s, m, twins); err != nil {
		return 0, err
	}
	if m.Lost() > 0 {
		return 0, fmt.Errorf("%s: %w", units.Plural(m.Lost(), "block"), store.ErrMissing)
	}
	uses, err := s.PackUses(ctx, m)
	if err != nil {
		return 0, err
	}
	was, _ := s.Reads(ctx)
	var ids []string
	for id, p := range uses {
		if p.Live > 0 && was.Read[id].IsZero() {
			ids = append(ids, id)
		}
	}
	return s.Store.ReadBack(ctx, ids, step)
}
