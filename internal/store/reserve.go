package store

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"

	"twinshelf/internal/store/backend"
)

// A store keeps some room aside in a file of its own, so that a full drive can be relieved: what thinning, discarding
// and giving back space write is small, and when there is no room for it the file goes. docs/shelf-format.md,
// "Reserve".

// ReserveFile is the file that keeps room aside.
const ReserveFile = "reserve"

const (
	leastReserve = 512 << 10 // bytes; beside it the index has to fit once more
	mostReserve  = 64 << 20
	spareRoom    = 8 // a reserve is only made where so many times its size are free
)

// withRoom runs what writes something small; where the drive is full the reserve makes room, once.
func (f *files) withRoom(ctx context.Context, write func() error) error {
	err := write()
	if backend.IsFull(err) && f.b.Delete(ctx, ReserveFile) == nil && f.b.Settle(ctx, "") == nil {
		err = write()
	}
	return err
}

// KeepReserve makes the reserve where it is missing or much too small, and there is room for it. It is a comfort: where
// it can't be made everything else goes on.
func (f *files) KeepReserve(ctx context.Context) {
	want := int64(leastReserve)
	parts, err := backend.Entries(ctx, f.b, indexFolder)
	if err != nil {
		return
	}
	for _, p := range parts {
		want += p.Size * 5 / 4
	}
	if info, err := f.b.Stat(ctx, ReserveFile); err == nil && info.Size >= min(want, mostReserve)/2 {
		return
	}
	if free, err := f.b.Free(ctx); err != nil || free < spareRoom*want {
		return
	}
	b := make([]byte, min(want, mostReserve))
	_, _ = rand.Read(b) // what no file system packs or leaves out
	_ = f.try(ctx, nil, ReserveFile, f.ring.document(KindNote, b), false)
}

// CheckReserve looks whether the reserve is as it was written: nothing is lost by a damaged one, but the drive has
// changed it. With mend a damaged one is made anew.
func (f *files) CheckReserve(ctx context.Context, mend bool) (mended bool, err error) {
	_, err = f.GetDocument(ctx, ReserveFile, KindNote, mostReserve+headerLen)
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if mend && f.b.Delete(ctx, ReserveFile) == nil {
		f.KeepReserve(ctx)
		return true, nil
	}
	return false, err
}
