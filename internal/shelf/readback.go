package shelf

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"
)

// Before anything that exists elsewhere may go (old packs, an old shelf), what was written instead is read
// back from the medium: the kernel's copies of a pack were dropped when it was synced.

// ErrReadBack means that the medium gives back something else than was written to it.
var ErrReadBack = errors.New("what was written doesn't read back")

// ReadBack reads all packs through that some twins of this shelf need and that were never read since they were written, with
// their parity, and remembers that. step hears of bytes read and of the total. It gives the bytes read; errors are ErrReadBack, ErrMissing, or
// the context's.
func (s *Shelf) ReadBack(ctx context.Context, twins []*Twin, step func(done, total int64) error) (int64, error) {
	if err := s.refresh(); err != nil {
		return 0, err
	}
	m := s.marking()
	if err := m.all(ctx, twins); err != nil {
		return 0, err
	}
	if m.lost > 0 {
		return 0, fmt.Errorf("%d blocks: %w", m.lost, ErrMissing)
	}
	was := s.lastReads()
	piles, err := s.piles(m)
	if err != nil {
		return 0, err
	}
	var ids []string
	for id, p := range piles {
		if p.live > 0 && was.Read[id].IsZero() {
			ids = append(ids, id)
		}
	}
	return s.readBack(ctx, ids, step)
}

// readBack reads packs through and remembers that they were. Nothing is mended: a medium that changes what it
// is given is to be known.
func (s *Shelf) readBack(ctx context.Context, ids []string, step func(done, total int64) error) (done int64, err error) {
	slices.Sort(ids)
	var total int64
	sizes := map[string]int64{}
	for _, id := range ids {
		size, _, err := s.b.Stat(packPath(id))
		if err != nil {
			return 0, err
		}
		sizes[id] = size
		total += size
	}
	was := s.lastReads()
	defer func() { // also when it is stopped: the next time goes on there
		if done > 0 {
			_ = s.writeNote(checkedFile, was) // forgetting it costs only reading again
		}
	}()
	for _, id := range ids {
		_, problem := s.readPack(ctx, id)
		if problem == nil {
			problem = s.checkParity(id, true)
		}
		if err := ctx.Err(); err != nil {
			return done, err
		}
		if problem != nil {
			return done, fmt.Errorf("%w from %s: %w", ErrReadBack, s.b.Place(), problem)
		}
		was.Read[id] = time.Now()
		if done += sizes[id]; step != nil {
			if err := step(done, total); err != nil {
				return done, err
			}
		}
	}
	return done, nil
}

// lastReads is when each pack was last read through.
func (s *Shelf) lastReads() checked {
	var was checked
	if _, err := s.readNote(checkedFile, &was); err != nil || was.Read == nil {
		was.Read = map[string]time.Time{}
	}
	return was
}
