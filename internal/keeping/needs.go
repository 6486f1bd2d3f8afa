package keeping

import (
	"context"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
)

// markTwin marks everything that a twin needs. Nodes that were marked before were walked before.
func markTwin(ctx context.Context, s *shelf.Shelf, m *store.Marking, t *shelf.Twin) error {
	t, err := s.Whole(ctx, t)
	if err != nil {
		return err
	}
	for i := range t.Disks {
		for j := range t.Disks[i].Regions {
			r := &t.Disks[i].Regions[j]
			if err := markRegion(ctx, s, m, r); err != nil {
				return fmt.Errorf("twin %s of %s, part %d: %w", t.ID, t.Machine, r.Part, err)
			}
		}
	}
	return nil
}

func markRegion(ctx context.Context, s *shelf.Shelf, m *store.Marking, r *shelf.Region) error {
	at := map[store.Name]int{}
	var nodes []store.Name
	for k, text := range r.Nodes {
		if text == "" {
			continue
		}
		n, err := store.ParseName(text)
		if err != nil {
			return err
		}
		nodes, at[n] = append(nodes, n), k
	}
	fresh, err := m.Set(ctx, nodes)
	if err != nil {
		return err
	}
	for _, n := range fresh {
		blocks := shelf.NodeLen(r.Span.Len(), int64(s.BlockSize()), at[n])
		if err := markNode(ctx, s, m, n, blocks); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

func markNode(ctx context.Context, s *shelf.Shelf, m *store.Marking, n store.Name, blocks int) error {
	b, err := s.Block(ctx, n, nil)
	if err != nil {
		return err
	}
	refs, err := shelf.DecodeNode(b, blocks)
	if err != nil {
		return err
	}
	var names []store.Name
	for _, r := range refs {
		if r.Kind == disk.Data {
			names = append(names, r.Name)
		}
	}
	return m.Add(ctx, names...)
}

// markListing marks the blocks of a twin's listing. One that can't be followed is left alone: it is made again when it
// is wanted.
func markListing(ctx context.Context, s *shelf.Shelf, m *store.Marking, twin string) error {
	l, err := s.Listing(ctx, twin)
	if l == nil || err != nil {
		return nil
	}
	for _, p := range l.Parts {
		var lists []store.Name
		for _, text := range p.Lists {
			if n, err := store.ParseName(text); err == nil {
				lists = append(lists, n)
			}
		}
		fresh, err := m.SetDerived(ctx, lists)
		if err != nil {
			return err
		}
		for _, n := range fresh {
			names, err := s.ListBlock(ctx, n.String())
			if err != nil {
				continue
			}
			if err := m.AddDerived(ctx, names...); err != nil {
				return err
			}
		}
	}
	return nil
}

// markAll marks what several twins need.
func markAll(ctx context.Context, s *shelf.Shelf, m *store.Marking, twins []*shelf.Twin) error {
	for _, t := range twins {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := markTwin(ctx, s, m, t); err != nil {
			return err
		}
		if err := markListing(ctx, s, m, t.ID); err != nil {
			return err
		}
	}
	return m.Flush(ctx)
}
