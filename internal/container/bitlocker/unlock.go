package bitlocker

import (
	"context"

	"twinshelf/internal/lock"
)

var _ lock.Volume = (*Volume)(nil)

// Name is the volume's ID and its label.
func (v *Volume) Name() (id, label string) { return v.ID, v.Label }

// Asks are the protectors that a person can answer, the recovery keys first.
func (v *Volume) Asks() []lock.Way {
	var out []lock.Way
	for _, k := range []Kind{RecoveryKey, Password, StartupKey} {
		for _, p := range v.Protectors {
			if p.Kind != k {
				continue
			}
			w := lock.Way{Kind: lock.Password, Words: k.String(), ID: p.ID}
			switch k {
			case RecoveryKey:
				w.Kind, w.Check, w.Form, w.Proves = lock.Recovery, check, "8 groups of 6 digits", true
			case StartupKey:
				w.Kind = lock.File
			}
			out = append(out, w)
		}
	}
	return out
}

// check reads a recovery key as far as it is typed.
func check(typed string) (have, of int, err error) {
	key, _, err := Groups(typed)
	clear(key)
	return len(key) / 2, groups, err
}

// Unlock tries a secret: a key file, and of what is typed a recovery key where it can be one, else a password.
func (v *Volume) Unlock(ctx context.Context, s lock.Secret) (*lock.Key, error) {
	if s.File != "" {
		return v.UnlockFile(s.File)
	}
	if key, whole, err := Groups(string(s.Text)); err == nil && whole {
		clear(key)
		return v.UnlockRecovery(ctx, string(s.Text))
	}
	return v.UnlockPassword(ctx, s.Text)
}

// Opens says why a key doesn't open the volume: one that fits isn't enough, what lies there must be certain, too.
func (v *Volume) Opens(k *lock.Key) error {
	_, err := v.Open(k)
	return err
}
