package shelf

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"twinshelf/internal/store"
)

// Listing says where the index of names of a twin's files stands: in blocks of the shelf. It is derived from the twin,
// so a listing that is lost or hurt is no damage; it is made again.
type Listing struct {
	Twin  string       `json:"twin"`
	Tool  string       `json:"tool"`
	Parts []ListedPart `json:"parts"`
}

// ListedPart is the index of one part.
type ListedPart struct {
	Disk int `json:"disk"` // from 0
	Part int `json:"part"` // number in the table; 0 where a whole disk is one volume
	// Lists are blocks that hold nothing but the names of the index's blocks, 32 bytes each, in order.
	Lists []string `json:"lists"`
	Items int64    `json:"items"`
	// Lost is how many items couldn't be read, Problems the first of them in words.
	Lost     int      `json:"lost,omitempty"`
	Problems []string `json:"problems,omitempty"`
	// Why says why there is no index of this part.
	Why string `json:"why,omitempty"`
}

func listingPath(twin string) string { return "names/" + twin + ".note" }

// Listing gives a twin's listing; nil when there is none.
func (s *Shelf) Listing(ctx context.Context, twin string) (*Listing, error) {
	if !validID(twin) {
		return nil, fmt.Errorf("%w: %q", ErrNoTwin, twin)
	}
	l := new(Listing)
	if ok, err := s.GetNote(ctx, listingPath(twin), l); !ok || err != nil {
		return nil, err
	}
	return l, nil
}

// Listed gives the names of the blocks of a part's index.
func (s *Shelf) Listed(ctx context.Context, p ListedPart) ([]string, error) {
	var out []string
	for _, text := range p.Lists {
		names, err := s.ListBlock(ctx, text)
		if err != nil {
			return nil, err
		}
		for _, n := range names {
			out = append(out, n.String())
		}
	}
	return out, nil
}

// ListBlock reads a block that holds nothing but names of blocks.
func (s *Shelf) ListBlock(ctx context.Context, text string) ([]store.Name, error) {
	n, err := store.ParseName(text)
	if err != nil {
		return nil, err
	}
	b, err := s.Block(ctx, n, nil)
	if err != nil {
		return nil, err
	}
	if len(b)%len(n) != 0 {
		return nil, fmt.Errorf("block %s is no list of blocks: it has %d bytes", n, len(b))
	}
	out := make([]store.Name, len(b)/len(n))
	for i := range out {
		copy(out[i][:], b[i*len(n):])
	}
	return out, nil
}

// dropListing removes the listing of a twin.
func (s *Shelf) dropListing(ctx context.Context, twin string) {
	if err := s.Backend().Delete(ctx, listingPath(twin)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		s.Note(err.Error())
	}
}

// DropOrphans removes the listings of twins that are gone.
func (s *Shelf) DropOrphans(ctx context.Context, twins []*Twin) {
	names, err := s.Backend().List(ctx, "names")
	if err != nil { // they stay, and cost only room
		s.Note(err.Error())
	}
	for _, n := range names {
		id, ok := strings.CutSuffix(n, ".note")
		if ok && validID(id) && !slices.ContainsFunc(twins, func(t *Twin) bool { return t.ID == id }) {
			s.dropListing(ctx, id)
		}
	}
}
