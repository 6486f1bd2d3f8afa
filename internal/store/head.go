package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"sync"
	"time"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/units"
)

// DefaultBlock is the size of a block in bytes: large enough that names and maps stay small (a 16 TB disk has 16
// million blocks), small enough that a change costs little.
const DefaultBlock = 1 << 20

const (
	headFile = "head"
	headCopy = "head.copy"
	maxHead  = 1 << 20
	// MinBlock and MaxBlock are the least and the largest size of a block, in bytes.
	MinBlock = 64 << 10
	MaxBlock = 4 << 20
)

// Head describes a shelf. It is readable without a key.
type Head struct {
	ID        string    `json:"id"`
	Name      string    `json:"name"`
	Created   time.Time `json:"created"`
	BlockSize int       `json:"block_size"` // bytes
	// Parity is the share of parity that new packs get, in percent; 0 stands for DefaultParity.
	Parity int          `json:"parity,omitempty"`
	Suite  uint16       `json:"suite"`
	Keys   []WrappedKey `json:"keys"`
	// Seal is a keyed hash of what mustn't be changed; empty in an open shelf.
	Seal string `json:"seal,omitempty"`
}

// ErrNoShelf means that a folder holds no shelf.
var ErrNoShelf = errors.New("there is no shelf")

// heads is the head of an open store, which stands in two files.
type heads struct {
	files *files
	locks *locks

	mu  sync.Mutex // guards what of the head can change: the passphrases, the share of parity
	now Head
}

// readHead reads the head from the first of its files that is whole; note says that it isn't the usual one.
func readHead(ctx context.Context, b backend.Backend) (head Head, note string, err error) {
	p, note, err := headPayload(ctx, b)
	switch {
	case errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrInvalid):
		return head, "",
			fmt.Errorf("%w in %s: no head file; make one with \"twinshelf shelf new\", or name the folder of an "+
				"existing shelf", ErrNoShelf, b.Place())
	case err != nil:
		return head, "", fmt.Errorf("the shelf in %s can't be opened: %w", b.Place(), err)
	}
	if err := json.Unmarshal(units.VisibleJSON(p), &head); err != nil {
		return head, "", fmt.Errorf("the head of the shelf in %s can't be understood: %w", b.Place(), err)
	}
	if n := head.BlockSize; !possibleBlock(n) {
		return head, "", fmt.Errorf("the head of the shelf in %s claims blocks of %d bytes", b.Place(), n)
	}
	return head, note, nil
}

// LooksLike says whether a folder of a tree has a whole head; it needs no key.
func LooksLike(tree fs.FS, dir string) bool {
	for _, file := range []string{headFile, headCopy} {
		f, err := tree.Open(path.Join(dir, file))
		if err != nil {
			continue
		}
		raw, err := io.ReadAll(io.LimitReader(f, maxHead))
		f.Close()
		if err == nil {
			if _, _, err = framed(file, raw, kindHead); err == nil {
				return true
			}
		}
	}
	return false
}

func headPayload(ctx context.Context, b backend.Backend) (p []byte, note string, err error) {
	for _, file := range []string{headFile, headCopy} {
		var raw []byte
		if raw, err = getWhole(ctx, b, file, maxHead); err == nil {
			_, p, err = framed(file, raw, kindHead)
		}
		if err == nil || errors.Is(err, ErrNewer) {
			break
		}
		note = "the file head is missing or damaged; its copy was read"
	}
	return p, note, err
}

func possibleBlock(n int) bool { return n >= MinBlock && n <= MaxBlock && n&(n-1) == 0 }

func (h Head) encode() ([]byte, error) {
	p, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	return plainDocument(kindHead, h.Suite, p), nil
}

// write puts both files of a head.
func (k *heads) write(ctx context.Context, l *Lock, h Head) error {
	b, err := h.encode()
	if err != nil {
		return err
	}
	for _, file := range []string{headCopy, headFile} {
		if err := k.files.put(ctx, l, file, b); err != nil {
			return err
		}
	}
	return nil
}

// get gives the head as it is known here.
func (k *heads) get() Head {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.now
}

// change changes the head as it stands on the medium: somebody else may have changed it meanwhile.
func (k *heads) change(ctx context.Context, l *Lock, change func(*Head) error) error {
	fresh, _, err := readHead(ctx, k.files.b)
	if err != nil {
		return err
	}
	if err := change(&fresh); err != nil {
		return err
	}
	if err := k.write(ctx, l, fresh); err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.now.Keys, k.now.Parity = fresh.Keys, fresh.Parity
	return nil
}

// changeHead takes the lock and changes the head.
func (k *heads) changeHead(ctx context.Context, what string, change func(*Head) error) error {
	l, err := k.locks.Exclusive(ctx, what)
	if err != nil {
		return err
	}
	defer l.Release()
	return k.change(ctx, l, change)
}

// CheckHead reads both files of the head, and gives for each what is wrong with it; nil for none.
func (k *heads) CheckHead(ctx context.Context) map[string]error {
	out := map[string]error{}
	for _, f := range []string{headFile, headCopy} {
		raw, err := getWhole(ctx, k.files.b, f, maxHead)
		if err == nil {
			_, _, err = framed(f, raw, kindHead)
		}
		if err != nil {
			out[f] = err
		}
	}
	return out
}

// MendHead writes both files of the head from the one that is whole; without any from what was read when the store was
// opened.
func (k *heads) MendHead(ctx context.Context, l *Lock) error {
	fresh, _, err := readHead(ctx, k.files.b)
	if err != nil {
		fresh = k.Head()
	}
	return k.write(ctx, l, fresh)
}

// Head describes the store.
func (k *heads) Head() Head { return k.get() }

// BlockSize is the size of a block in bytes.
func (k *heads) BlockSize() int { return k.Head().BlockSize }

// ParityShare is the share of parity that new packs get, in percent.
func (k *heads) ParityShare() int {
	if p := k.Head().Parity; p > 0 && p <= MostParity {
		return p
	}
	return DefaultParity
}

// SetParity chooses the share of parity that packs get from now on, in percent.
func (k *heads) SetParity(ctx context.Context, percent int) error {
	if percent < 1 || percent > MostParity {
		return fmt.Errorf("a parity of %d %% is not possible: choose from 1 to %d", percent, MostParity)
	}
	return k.changeHead(ctx, "choosing the parity", func(h *Head) error {
		h.Parity = percent
		return nil
	})
}
