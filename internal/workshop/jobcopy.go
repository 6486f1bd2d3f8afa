package workshop

import (
	"context"
	"slices"
	"sync"

	"twinshelf/internal/job"
	"twinshelf/internal/shelf"
)

// caseCopy is a case on record here, and the shelf that gets a copy of it; no shelf is nil.
type caseCopy struct {
	book *job.Book
	on   *shelf.Shelf
	id   string
}

// copyOf is a case with the open shelf.
func copyOf(w *room, id string) caseCopy { return caseCopy{w.book(), w.shelf(), id} }

// share brings onto the shelf what it lacks, if that can be done: it is on record here.
func (c caseCopy) share(ctx context.Context) { _, _ = c.push(ctx, nil) }

// push brings onto the shelf the entries that it lacks, and names those that are there then. known are the ones that
// are there already; nil where that isn't known.
func (c caseCopy) push(ctx context.Context, known []string) (there []string, err error) {
	if c.on == nil {
		return nil, nil
	}
	j, err := c.book.Read(c.id)
	if err != nil {
		return nil, err
	}
	if there = slices.Clone(known); there == nil {
		if there, err = shelf.CasesOn(c.on).Entries(ctx, c.id); err != nil {
			return nil, err
		}
	}
	for _, e := range j.Entries {
		if slices.Contains(there, e.ID) {
			continue
		}
		if err := shelf.CasesOn(c.on).Put(ctx, c.id, e.ID, e); err != nil {
			return nil, err
		}
		there = append(there, e.ID)
	}
	return there, nil
}

// beside does that while something else is done. Whoever calls shared waits for it as long as a context lasts, and
// hears which entries are there then; nil where that isn't known.
func (c caseCopy) beside(ctx context.Context) (shared func(context.Context) (there []string)) {
	ctx, stop := context.WithCancel(ctx)
	var there []string
	var sharing sync.WaitGroup
	sharing.Go(func() { there, _ = c.push(ctx, nil) })
	return func(until context.Context) []string {
		defer stop()
		defer context.AfterFunc(until, stop)()
		sharing.Wait()
		return there
	}
}
