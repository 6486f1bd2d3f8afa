package shelf

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io/fs"

	"twinshelf/internal/lock"
)

// ErrOpenShelf means that a shelf keeps no keys, since everybody can read it.
var ErrOpenShelf = errors.New("the shelf isn't sealed, so it keeps no keys")

// ErrNothingUnlocked means that there is no key to keep.
var ErrNothingUnlocked = errors.New("no volume of it is unlocked: unlock it first")

// unlocking is the note with the keys of a twin's encrypted volumes. Only sealed shelves have such notes.
type unlocking struct {
	Volumes []unlockedVolume `json:"volumes"`
}

// unlockedVolume is a volume, by its ID, and its master key. Part is the ID of its part's contents, where that is
// another one.
type unlockedVolume struct {
	ID   string `json:"id"`
	Part string `json:"part,omitempty"`
	Key  []byte `json:"key"`
}

func (u unlocking) wipe() {
	for _, v := range u.Volumes {
		clear(v.Key)
	}
}

// Keys are those of encrypted volumes that a sealed shelf keeps with its twins, by choice.
type Keys struct{ s *Shelf }

// KeysOn are the keys that a shelf keeps.
func KeysOn(s *Shelf) Keys { return Keys{s} }

func unlockingPath(twin string) string { return "unlocking/" + twin + ".note" }

// Unlocked are the keys of those volumes of a twin that are unlocked. They are the keyring's.
func Unlocked(ctx context.Context, t *Twin) []*lock.Key {
	ring := lock.From(ctx)
	var out []*lock.Key
	for _, d := range t.Disks {
		for _, r := range d.Regions {
			out = append(out, ring.OnPart(r.ID)...)
		}
	}
	return out
}

// Keep keeps the keys of a twin's volumes with it, so that looking inside needs none. The error is
// ErrOpenShelf for a shelf that isn't sealed, and ErrNothingUnlocked where no key is known.
func (k Keys) Keep(ctx context.Context, t *Twin) error {
	if !k.s.Sealed() {
		return ErrOpenShelf
	}
	keys := Unlocked(ctx, t)
	if len(keys) == 0 {
		return ErrNothingUnlocked
	}
	var u unlocking
	defer func() { u.wipe() }()
	for _, x := range keys {
		v := unlockedVolume{ID: x.Volume(), Key: bytes.Clone(x.Bytes())}
		if x.Part() != v.ID {
			v.Part = x.Part()
		}
		u.Volumes = append(u.Volumes, v)
	}
	return k.s.PutNote(ctx, nil, unlockingPath(t.ID), u)
}

// Forget takes the keys away that are kept with a twin. It is no error where there are none.
func (k Keys) Forget(ctx context.Context, twin string) error {
	err := k.s.Backend().Delete(ctx, unlockingPath(twin))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Are says whether keys are kept with a twin.
func (k Keys) Are(ctx context.Context, twin string) bool {
	_, err := k.s.Backend().Stat(ctx, unlockingPath(twin))
	return err == nil
}

// use puts the keys that are kept with a twin on the context's keyring. Keys that can't be read are asked for again.
func (k Keys) use(ctx context.Context, twin string) {
	ring := lock.From(ctx)
	if ring == nil || !k.s.Sealed() {
		return
	}
	var u unlocking
	if ok, err := k.s.GetNote(ctx, unlockingPath(twin), &u); err != nil || !ok {
		return
	}
	defer u.wipe()
	for _, v := range u.Volumes {
		if x := lock.KeyOf(v.ID, cmp.Or(v.Part, v.ID), v.Key); x != nil {
			ring.AddNew(x)
		}
	}
}

// Carry copies the keys that are kept with a twin to another shelf that is sealed too. left says that there
// are some and that they stay behind, since the other shelf is open.
func (k Keys) Carry(ctx context.Context, twin string, to *Shelf) (left bool, err error) {
	if !k.s.Sealed() || !k.Are(ctx, twin) {
		return false, nil
	}
	if !to.Sealed() {
		return true, nil
	}
	var u unlocking
	if ok, err := k.s.GetNote(ctx, unlockingPath(twin), &u); err != nil || !ok {
		return false, nil // a hurt one tells nothing anywhere
	}
	defer u.wipe()
	return false, to.PutNote(ctx, nil, unlockingPath(twin), u)
}
