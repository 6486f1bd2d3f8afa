package store

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/units"
)

// Store is an open store. Its methods may be called from many goroutines.
type Store struct {
	b    backend.Backend
	ring *keyring
	key  string // the passphrase's name that opened it
	*heads
	*files
	*locks
	*index
	*packs
	// packLimit is when a pack ends, in bytes.
	packLimit int64

	notesMu sync.Mutex
	notes   []string
}

// New says how a store is made.
type New struct {
	Name      string
	BlockSize int // bytes; 0 takes the default
	// Passphrase seals it; nil makes an open one. Cost is what one try of it costs; zero is tuned to about a second.
	Passphrase []byte
	Cost       Cost
	suite      uint16 // SuiteOpen takes the one that suits this machine
}

// Create makes a store in a folder, which must not hold one already; it is made when missing, and must otherwise be
// empty.
func Create(ctx context.Context, dir string, n New) (*Store, error) {
	if scheme, _, far := strings.Cut(dir, "://"); far {
		return nil, fmt.Errorf("%s: a shelf lies in a folder; %s isn't one", dir, scheme)
	}
	if err := n.check(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the folder for the shelf can't be made: %w", err)
	}
	return CreateAt(ctx, backend.InFolder(dir), n)
}

// CreateAt makes a store in an empty place.
func CreateAt(ctx context.Context, b backend.Backend, n New) (*Store, error) {
	if err := n.check(); err != nil {
		return nil, err
	}
	if err := vacant(ctx, b); err != nil {
		return nil, err
	}
	head, err := n.describe()
	if err != nil {
		return nil, err
	}
	if err := begin(ctx, b, head); err != nil {
		return nil, err
	}
	return Open(ctx, b, func() ([]byte, error) { return n.Passphrase, nil })
}

// check refuses what can't be made.
func (n New) check() error {
	if units.Visible(n.Name) != n.Name {
		return fmt.Errorf("%q can't be the name of a shelf: it holds characters that can't be shown", n.Name)
	}
	if n.BlockSize != 0 && !possibleBlock(n.BlockSize) {
		return fmt.Errorf("blocks of %d bytes are not possible: choose a power of two from %d to %d",
			n.BlockSize, MinBlock, MaxBlock)
	}
	if n.Passphrase != nil {
		return CheckPassphrase(n.Passphrase)
	}
	return nil
}

// vacant refuses a place where something lies.
func vacant(ctx context.Context, b backend.Backend) error {
	entries, err := b.List(ctx, "")
	if err != nil {
		return fmt.Errorf("%s can't be read: %w", b.Place(), err)
	}
	for _, e := range entries {
		if e == headFile {
			return fmt.Errorf("%s already holds a shelf; nothing was changed", b.Place())
		}
		if e != "lost+found" {
			return fmt.Errorf("%s is not empty (%s): a shelf needs a folder of its own; nothing was changed",
				b.Place(), e)
		}
	}
	return nil
}

// describe makes the head of a new store, with its first key.
func (n New) describe() (Head, error) {
	if n.BlockSize == 0 {
		n.BlockSize = DefaultBlock
	}
	h := Head{ID: newID() + newID(), Name: n.Name, Created: time.Now().UTC(), BlockSize: n.BlockSize,
		Keys: []WrappedKey{}}
	if n.Passphrase == nil {
		return h, nil
	}
	if h.Suite = n.suite; h.Suite == SuiteOpen {
		h.Suite = sealingSuite()
	}
	master := make([]byte, masterLen)
	_, _ = rand.Read(master)
	h.Seal = h.seal(master)
	k, err := wrap(master, n.Passphrase, "first", n.Cost)
	h.Keys = append(h.Keys, k)
	return h, err
}

// begin puts the head of a new store, and its copy. Of two who come at once one is refused.
func begin(ctx context.Context, b backend.Backend, head Head) error {
	content, err := head.encode()
	if err != nil {
		return err
	}
	f := &files{b: b}
	err = f.try(ctx, nil, headFile, content, true)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s already holds a shelf; nothing was changed", b.Place())
	}
	if err == nil {
		err = f.try(ctx, nil, headCopy, content, false)
	}
	if err != nil {
		return fmt.Errorf("the shelf can't be made: %w", err)
	}
	return nil
}

// Open opens a store wherever its objects lie. The passphrase is only asked for when it is sealed; without one that is
// ErrSealed.
func Open(ctx context.Context, b backend.Backend, passphrase func() ([]byte, error)) (*Store, error) {
	head, note, err := readHead(ctx, b)
	if err != nil {
		return nil, err
	}
	s := &Store{b: b, packLimit: DefaultPack}
	if note != "" {
		s.Note(note)
	}
	if err := sealedAsSaid(ctx, b, head); err != nil {
		return nil, fmt.Errorf("the shelf in %s can't be opened: %w", b.Place(), err)
	}
	if s.ring, s.key, err = unlock(b.Place(), head, passphrase); err != nil {
		return nil, err
	}
	s.files = &files{b: b, ring: s.ring}
	s.locks = &locks{b: b, files: s.files, boot: sinceBoot}
	s.heads = &heads{files: s.files, locks: s.locks, now: head}
	s.index = &index{b: b, ring: s.ring, files: s.files, locks: s.locks, note: s.Note}
	if err := s.index.load(ctx); err != nil {
		return nil, err
	}
	if s.packs, err = newPacks(s); err != nil {
		s.index.close()
		return nil, err
	}
	return s, nil
}

// Close closes the files of the store.
func (s *Store) Close() {
	s.index.close()
	s.packs.close()
	if c, open := s.b.(io.Closer); open {
		_ = c.Close() // everything that matters was committed
	}
}

// Backend is where the store's objects lie.
func (s *Store) Backend() backend.Backend { return s.b }

// Place is the folder of the store.
func (s *Store) Place() string { return s.b.Place() }

// Concerns are what makes the store less private than it should be, in words.
func (s *Store) Concerns(ctx context.Context) []string {
	if e, ok := s.b.(backend.Exposed); ok {
		return e.Concerns(ctx, s.Sealed())
	}
	return nil
}

// Sealed says whether the store is sealed.
func (s *Store) Sealed() bool { return s.ring.sealed() }

// Key is the name of the passphrase that opened the store; empty for an open one.
func (s *Store) Key() string { return s.key }

// Hide gives a name that tells nothing of a text, 20 hex digits; false in an open store, which hides nothing.
func (s *Store) Hide(text string) (string, bool) {
	if !s.Sealed() {
		return "", false
	}
	n := keyed(s.ring.hidden, []byte(text))
	return hex.EncodeToString(n[:10]), true
}

// LimitPacks has packs end at about n bytes instead of DefaultPack, as measurements and tests ask for.
func (s *Store) LimitPacks(n int64) { s.packLimit = n }

// PackLimit is at about how many bytes a pack ends.
func (s *Store) PackLimit() int64 { return s.packLimit }

// Notes are what was found amiss when the store was opened, and since, in words.
func (s *Store) Notes() []string {
	s.notesMu.Lock()
	defer s.notesMu.Unlock()
	return slices.Clone(s.notes)
}

// Note adds to the notes what isn't among them yet.
func (s *Store) Note(text string) {
	s.notesMu.Lock()
	defer s.notesMu.Unlock()
	if !slices.Contains(s.notes, text) {
		s.notes = append(s.notes, text)
	}
}

// Stats are the number of blocks and packs, and the bytes in packs.
type Stats struct {
	Blocks int   `json:"blocks"`
	Packs  int   `json:"packs"`
	Bytes  int64 `json:"bytes"`
}

// Stats counts what is in the store.
func (s *Store) Stats(ctx context.Context) (Stats, error) {
	st := Stats{Blocks: s.index.count()}
	packs, err := backend.Entries(ctx, s.b, packFolder)
	for _, p := range packs {
		st.Bytes += p.Size
		st.Packs++
	}
	return st, err
}

// newID is a random name of 16 hex digits.
func newID() string {
	var b [packIDLen]byte
	_, _ = rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// NewID is a random ID of 16 hex digits.
func NewID() string { return newID() }

// IsHurt says whether an error means damage of the store, and not, say, a missing permission.
func IsHurt(err error) bool {
	var h *HurtError
	return errors.As(err, &h) || errors.Is(err, ErrMissing)
}
