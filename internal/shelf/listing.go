package shelf

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
)

// Listing says where the index of names of a twin's files stands: in blocks of the shelf. It is derived from the twin, so a
// listing that is lost or hurt is no damage; it is made again.
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
func (s *Shelf) Listing(twin string) (*Listing, error) {
	if !validID(twin) {
		return nil, fmt.Errorf("%w: %q", ErrNoTwin, twin)
	}
	l := new(Listing)
	if ok, err := s.readNote(listingPath(twin), l); !ok || err != nil {
		return nil, err
	}
	return l, nil
}

// Listed gives the names of the blocks of a part's index.
func (s *Shelf) Listed(p ListedPart) ([]string, error) {
	var out []string
	for _, text := range p.Lists {
		names, err := s.listBlock(text)
		if err != nil {
			return nil, err
		}
		for _, n := range names {
			out = append(out, n.String())
		}
	}
	return out, nil
}

func (s *Shelf) listBlock(text string) ([]Name, error) {
	n, err := ParseName(text)
	if err != nil {
		return nil, err
	}
	b, err := s.Block(n, nil)
	if err != nil {
		return nil, err
	}
	if len(b)%len(n) != 0 {
		return nil, fmt.Errorf("block %s is no list of blocks: it has %d bytes", n, len(b))
	}
	out := make([]Name, len(b)/len(n))
	for i := range out {
		copy(out[i][:], b[i*len(n):])
	}
	return out, nil
}

// PutList stores the names of blocks, and gives the blocks that hold them.
func (c *Session) PutList(names []string) (lists []string, err error) {
	per := c.s.head.BlockSize / len(Name{})
	for len(names) > 0 {
		k := min(per, len(names))
		b := make([]byte, 0, k*len(Name{}))
		for _, text := range names[:k] {
			n, err := ParseName(text)
			if err != nil {
				return nil, err
			}
			b = append(b, n[:]...)
		}
		n, _, err := c.Put(b)
		if err != nil {
			return nil, err
		}
		lists, names = append(lists, n.String()), names[k:]
	}
	return lists, nil
}

// Attach has the listing of a twin kept when the session ends well. Its blocks must have been put by then.
func (c *Session) Attach(l *Listing) { c.listing = l }

// keepListing writes the listing down; blocks count as needed from then on.
func (c *Session) keepListing() error {
	if c.listing == nil {
		return nil
	}
	return c.s.writeNote(listingPath(c.listing.Twin), c.listing)
}

// dropListing removes the listing of a twin.
func (s *Shelf) dropListing(twin string) {
	if err := s.b.Remove(listingPath(twin)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		s.mu.Lock()
		s.notes = append(s.notes, err.Error())
		s.mu.Unlock()
	}
}

// listing marks the blocks of a twin's listing. One that can't be followed is left alone: it is made again when it is wanted.
func (m *marking) listing(twin string) error {
	l, err := m.s.Listing(twin)
	if l == nil || err != nil {
		return nil
	}
	for _, p := range l.Parts {
		var lists []Name
		for _, text := range p.Lists {
			if n, err := ParseName(text); err == nil {
				lists = append(lists, n)
			}
		}
		fresh, err := m.setDerived(lists)
		if err != nil {
			return err
		}
		for _, n := range fresh {
			if names, err := m.s.listBlock(n.String()); err == nil {
				m.derived = append(m.derived, names...)
			}
		}
	}
	if len(m.derived) < markBatch {
		return nil
	}
	return m.flushDerived()
}

// setDerived marks names of which none is missed when it isn't there.
func (m *marking) setDerived(names []Name) (fresh []Name, err error) {
	m.lenient = true
	defer func() { m.lenient = false }()
	return m.set(names)
}

func (m *marking) flushDerived() error {
	_, err := m.setDerived(m.derived)
	m.derived = m.derived[:0]
	return err
}

// dropOrphans removes the listings of twins that are gone.
func (s *Shelf) dropOrphans(twins []*Twin) {
	names, _ := s.b.List("names")
	for _, n := range names {
		id, ok := strings.CutSuffix(n, ".note")
		if ok && validID(id) && !slices.ContainsFunc(twins, func(t *Twin) bool { return t.ID == id }) {
			s.dropListing(id)
		}
	}
}

// carryListing copies the listing of a twin that is being carried.
func carryListing(from *Shelf, session *Session, twin string) error {
	l, err := from.Listing(twin)
	if l == nil || err != nil {
		return nil // it is made again there
	}
	buf := make([]byte, 0, from.head.BlockSize)
	for i := range l.Parts {
		names, err := from.Listed(l.Parts[i])
		for j := 0; err == nil && j < len(names); j++ {
			var n Name
			if n, err = ParseName(names[j]); err != nil {
				break
			}
			if buf, err = from.Block(n, buf); err != nil {
				break
			}
			put, _, putErr := session.Put(buf)
			if putErr != nil {
				return putErr
			}
			names[j] = put.String()
		}
		if err != nil {
			return nil
		}
		if l.Parts[i].Lists, err = session.PutList(names); err != nil {
			return err
		}
	}
	session.Attach(l)
	return nil
}
