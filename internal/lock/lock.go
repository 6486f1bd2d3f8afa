// Package lock has what opens encrypted volumes, whatever family they are of: what they ask for, the secrets that
// people give, and the keys that come of these, on a ring that goes along with the context.
package lock

import (
	"bytes"
	"context"
	"errors"
)

// Errors of unlocking.
var (
	// ErrWrongKey means that a key doesn't open the volume.
	ErrWrongKey = errors.New("this key doesn't open the volume")
	// ErrNoProtector means that nothing on the volume asks for such a key.
	ErrNoProtector = errors.New("the volume has no protector of this kind")
)

// Volume is an encrypted volume that a person can unlock.
type Volume interface {
	// Name is the ID that its key is kept under, and what it is called.
	Name() (id, label string)
	// Words say how it is protected.
	Words() string
	// Asks are the ways to unlock it that a person can go, the likeliest first.
	Asks() []Way
	// Unlock gives the key that a secret leads to. A wrong one is ErrWrongKey, one of a kind that nothing asks for
	// ErrNoProtector.
	Unlock(ctx context.Context, s Secret) (*Key, error)
	// Opens says why a key doesn't open the volume as it lies there; nil where it does.
	Opens(k *Key) error
}

// Kind is what a person gives to unlock a volume.
type Kind int

// The kinds.
const (
	Recovery Kind = iota
	Password
	File
)

// Way is one way to unlock a volume.
type Way struct {
	Kind  Kind
	Words string // such as recovery key
	ID    string // by which the key is looked up; empty where it has none
	Form  string // of a recovery key, such as eight groups of six digits
	// Check reads a recovery key as far as it is typed: how many groups are there, of how many. The error says which
	// group can't be right. It is nil for other kinds.
	Check func(typed string) (groups, of int, err error)
	// Proves says that a group has something by which a mistake in it shows.
	Proves bool
}

// Secret is what opens a locked volume: a recovery key or a password, or a start-up key file.
type Secret struct {
	Text []byte
	File string
}

// Key is the master key of a volume: it opens the key of its sectors, or is that. It is wiped by Wipe.
type Key struct {
	volume, part string
	b            []byte
}

// maxKey bounds the bytes of a key.
const maxKey = 64

// KeyOf is the key of a volume by its ID, on a part whose contents have an ID too; nil where it can't be one. It has a
// copy of the bytes.
func KeyOf(volume, part string, b []byte) *Key {
	if len(b) == 0 || len(b) > maxKey || volume == "" {
		return nil
	}
	return &Key{volume, part, bytes.Clone(b)}
}

// Volume is the ID of the volume that the key belongs to, and Part that of the contents of its part.
func (k *Key) Volume() string { return k.volume }

// Part is the ID of the part's contents: those of several volumes may lie on one part.
func (k *Key) Part() string { return k.part }

// Bytes is the key itself; the caller mustn't change it.
func (k *Key) Bytes() []byte { return k.b }

// Wipe overwrites the key in memory.
func (k *Key) Wipe() { clear(k.b) }
