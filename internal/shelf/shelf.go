package shelf

import (
	"context"
	"io/fs"

	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
)

// Shelf is an open shelf: a store with twins in it. Its methods may be called from many goroutines.
type Shelf struct {
	*store.Store
	described described
	latest    sharedLatest
}

// Create makes a shelf in a folder, which must not hold one already; it is made when missing, and must otherwise be
// empty.
func Create(ctx context.Context, dir string, n store.New) (*Shelf, error) {
	s, err := store.Create(ctx, dir, n)
	if err != nil {
		return nil, err
	}
	return &Shelf{Store: s}, nil
}

// CreateAt makes a shelf in an empty place; see Create.
func CreateAt(ctx context.Context, b backend.Backend, n store.New) (*Shelf, error) {
	s, err := store.CreateAt(ctx, b, n)
	if err != nil {
		return nil, err
	}
	return &Shelf{Store: s}, nil
}

// Open opens the shelf in a folder for reading; Begin makes it writable. The passphrase is only asked for when it is
// sealed; without one that is store.ErrSealed.
func Open(ctx context.Context, dir string, passphrase func() ([]byte, error)) (*Shelf, error) {
	return OpenAt(ctx, backend.InFolder(dir), passphrase)
}

// OpenAt opens a shelf wherever its objects lie; see Open.
func OpenAt(ctx context.Context, b backend.Backend, passphrase func() ([]byte, error)) (*Shelf, error) {
	s, err := store.Open(ctx, b, passphrase)
	if err != nil {
		return nil, err
	}
	return &Shelf{Store: s}, nil
}

// IsSealed says whether the shelf in a folder needs a passphrase.
func IsSealed(ctx context.Context, dir string) (bool, error) {
	return store.IsSealed(ctx, backend.InFolder(dir))
}

// IDOf is the identity of the shelf in a folder, which needs no key.
func IDOf(ctx context.Context, dir string) (string, error) {
	return store.IDOf(ctx, backend.InFolder(dir))
}

// LooksLike says whether a folder of a tree has what a shelf has; only opening it tells more.
func LooksLike(tree fs.FS, dir string) bool { return store.LooksLike(tree, dir) }
