package shelf

import (
	"context"
	"errors"
	"io/fs"

	"twinshelf/internal/container/bitlocker"
)

// ErrOpenShelf means that a shelf keeps no keys, since everybody can read it.
var ErrOpenShelf = errors.New("the shelf isn't sealed, so it keeps no keys")

// ErrNothingUnlocked means that there is no key to keep.
var ErrNothingUnlocked = errors.New("no volume of it is unlocked: unlock it first")

// unlocking is the note with the keys of a twin's encrypted volumes. Only sealed shelves have such notes.
type unlocking struct {
	Volumes []unlockedVolume `json:"volumes"`
}

// unlockedVolume is a volume, by its ID, and its master key.
type unlockedVolume struct {
	ID  string `json:"id"`
	Key []byte `json:"key"`
}

func (u unlocking) wipe() {
	for _, v := range u.Volumes {
		clear(v.Key)
	}
}

func unlockingPath(twin string) string { return "unlocking/" + twin + ".note" }

// Unlocked are the keys of those volumes of a twin that are unlocked. They are the keyring's.
func Unlocked(ctx context.Context, t *Twin) []*bitlocker.Key {
	ring := bitlocker.From(ctx)
	var out []*bitlocker.Key
	for _, d := range t.Disks {
		for _, r := range d.Regions {
			if k := ring.Of(r.ID); r.ID != "" && k != nil {
				out = append(out, k)
			}
		}
	}
	return out
}

// KeepUnlocking keeps the keys of a twin's volumes with it, so that looking inside needs none. The error is
// ErrOpenShelf for a shelf that isn't sealed, and ErrNothingUnlocked where no key is known.
func (s *Shelf) KeepUnlocking(ctx context.Context, t *Twin) error {
	if !s.Sealed() {
		return ErrOpenShelf
	}
	keys := Unlocked(ctx, t)
	if len(keys) == 0 {
		return ErrNothingUnlocked
	}
	var u unlocking
	defer func() { u.wipe() }()
	for _, k := range keys {
		u.Volumes = append(u.Volumes, unlockedVolume{k.Volume(), k.Bytes()})
	}
	return s.PutNote(ctx, nil, unlockingPath(t.ID), u)
}

// ForgetUnlocking takes the keys away that are kept with a twin. It is no error where there are none.
func (s *Shelf) ForgetUnlocking(ctx context.Context, twin string) error {
	err := s.Backend().Delete(ctx, unlockingPath(twin))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// KeepsUnlocking says whether keys are kept with a twin.
func (s *Shelf) KeepsUnlocking(ctx context.Context, twin string) bool {
	_, err := s.Backend().Stat(ctx, unlockingPath(twin))
	return err == nil
}

// unlock puts the keys that are kept with a twin on the context's keyring. Keys that can't be read are asked for again.
func (s *Shelf) unlock(ctx context.Context, twin string) {
	ring := bitlocker.From(ctx)
	if ring == nil || !s.Sealed() {
		return
	}
	var u unlocking
	if ok, err := s.GetNote(ctx, unlockingPath(twin), &u); err != nil || !ok {
		return
	}
	defer u.wipe()
	for _, v := range u.Volumes {
		if k := bitlocker.KeyOf(v.ID, v.Key); k != nil {
			ring.AddNew(k)
		}
	}
}

// CarryUnlocking copies the keys that are kept with a twin to another shelf that is sealed too. left says that there
// are some and that they stay behind, since the other shelf is open.
func (s *Shelf) CarryUnlocking(ctx context.Context, twin string, to *Shelf) (left bool, err error) {
	if !s.Sealed() || !s.KeepsUnlocking(ctx, twin) {
		return false, nil
	}
	if !to.Sealed() {
		return true, nil
	}
	var u unlocking
	if ok, err := s.GetNote(ctx, unlockingPath(twin), &u); err != nil || !ok {
		return false, nil // a hurt one tells nothing anywhere
	}
	defer u.wipe()
	return false, to.PutNote(ctx, nil, unlockingPath(twin), u)
}
