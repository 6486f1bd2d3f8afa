package lock

import (
	"context"
	"slices"
	"strings"
	"sync"
)

// Keyring holds the keys of the volumes that were unlocked, until they are wiped. It may be used by several at once. A
// nil one holds none.
type Keyring struct {
	mu   sync.Mutex
	keys map[string]*Key
}

// Add takes a key over; what is there for the volume is wiped.
func (r *Keyring) Add(k *Key) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.keys == nil {
		r.keys = map[string]*Key{}
	}
	if old := r.keys[k.volume]; old != nil && old != k {
		old.Wipe()
	}
	r.keys[k.volume] = k
}

// AddNew takes a key over where there is none of its volume yet, and wipes it otherwise.
func (r *Keyring) AddNew(k *Key) {
	if r.Of(k.volume) != nil {
		k.Wipe()
		return
	}
	r.Add(k)
}

// Of is the key of a volume, by its ID; nil where it isn't unlocked.
func (r *Keyring) Of(volume string) *Key {
	if r == nil {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.keys[volume]
}

// OnPart are the keys of the volumes on a part, by the ID of its contents.
func (r *Keyring) OnPart(id string) (out []*Key) {
	if r == nil || id == "" {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, k := range r.keys {
		if k.part == id {
			out = append(out, k)
		}
	}
	slices.SortFunc(out, func(a, b *Key) int { return strings.Compare(a.volume, b.volume) })
	return out
}

// Holds says whether it holds any key.
func (r *Keyring) Holds() bool {
	if r == nil {
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.keys) > 0
}

// Lock wipes the key of a volume, and says whether there was one.
func (r *Keyring) Lock(volume string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	k := r.keys[volume]
	if k != nil {
		k.Wipe()
		delete(r.keys, volume)
	}
	return k != nil
}

// Wipe wipes all keys.
func (r *Keyring) Wipe() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, k := range r.keys {
		k.Wipe()
	}
	clear(r.keys)
}

type keyringKey struct{}

// With gives work that is done under a context the keys of a keyring.
func With(ctx context.Context, r *Keyring) context.Context {
	return context.WithValue(ctx, keyringKey{}, r)
}

// From is the keyring of a context; nil without one.
func From(ctx context.Context) *Keyring {
	r, _ := ctx.Value(keyringKey{}).(*Keyring)
	return r
}
