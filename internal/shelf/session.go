package shelf

import (
	"context"
	"fmt"

	"twinshelf/internal/store"
)

// Session adds to a shelf. Put may be called from many goroutines; then exactly one of Commit, Finish and Abort.
type Session struct {
	*store.Session
	s       *Shelf
	listing *Listing // to be kept at the end; nil for none
	listed  bool     // it was kept
}

// Begin takes the lock for the capture of a machine and starts adding. Packs that a killed writer finished are kept:
// their blocks needn't be written again.
func (s *Shelf) Begin(ctx context.Context, machine string) (*Session, error) {
	if err := Takes(ctx, s); err != nil {
		return nil, fmt.Errorf("the shelf in %s can't be written: %w", s.Place(), err)
	}
	c, err := s.Store.Begin(ctx, s.slug(machine))
	if err != nil {
		return nil, err
	}
	return &Session{Session: c, s: s}, nil
}

// Attach has the listing of a twin kept when the session ends well. Its blocks must have been put by then.
func (c *Session) Attach(l *Listing) { c.listing = l }

// Commit makes everything durable, then lets the twin appear, and its listing: one that can't be kept is made when it
// is wanted. When it fails the shelf is as it was before Begin.
func (c *Session) Commit(ctx context.Context, t *Twin) error {
	return c.Session.Commit(ctx, func(ctx context.Context, l *store.Lock) error {
		err := c.s.writeTwin(ctx, l, t)
		if err == nil {
			c.listed = c.listing != nil && c.keepListing(ctx, l) == nil
		}
		return err
	}, func(ctx context.Context) error {
		return c.s.DeleteKept(ctx, c.s.twinPath(t.Machine, t.ID)) // its copy may be there already
	})
}

// Listed says whether Commit kept a listing.
func (c *Session) Listed() bool { return c.listed }

// Finish makes the blocks durable without a twin of their own, and keeps the listing.
func (c *Session) Finish(ctx context.Context) error { return c.Session.Finish(ctx, c.keepListing) }

// keepListing writes the listing down; blocks count as needed from then on.
func (c *Session) keepListing(ctx context.Context, l *store.Lock) error {
	if c.listing == nil {
		return nil
	}
	return c.s.PutNote(ctx, l, listingPath(c.listing.Twin), c.listing)
}

// PutList stores the names of blocks, and gives the blocks that hold them.
func (c *Session) PutList(ctx context.Context, names []string) (lists []string, err error) {
	per := c.s.BlockSize() / len(store.Name{})
	for len(names) > 0 {
		k := min(per, len(names))
		b := make([]byte, 0, k*len(store.Name{}))
		for _, text := range names[:k] {
			n, err := store.ParseName(text)
			if err != nil {
				return nil, err
			}
			b = append(b, n[:]...)
		}
		n, _, err := c.Put(ctx, b)
		if err != nil {
			return nil, err
		}
		lists, names = append(lists, n.String()), names[k:]
	}
	return lists, nil
}
