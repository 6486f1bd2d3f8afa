package workshop

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"unicode/utf16"

	"twinshelf/internal/bench"
	"twinshelf/internal/lock"
	"twinshelf/internal/shelf"
	"twinshelf/internal/survey"
)

// maxSecretFile is how large a file with a key may be, in bytes.
const maxSecretFile = 64 << 10

// recoveryIn finds recovery keys in a text: those of Windows, and those of macOS.
var recoveryIn = regexp.MustCompile(`\b(?:\d{6}(?:-\d{6}){7}|[0-9A-Z]{4}(?:-[0-9A-Z]{4}){5})\b`)

// ReadSecret reads a file that opens locked volumes: a start-up key file, a text with a recovery key in it as it is
// printed and saved, or a password in its first line.
func ReadSecret(file string) (lock.Secret, error) {
	if strings.HasSuffix(strings.ToLower(file), ".bek") {
		return lock.Secret{File: file}, nil
	}
	f, err := os.Open(file)
	if err != nil {
		return lock.Secret{}, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, maxSecretFile+1))
	switch {
	case err != nil:
		return lock.Secret{}, err
	case len(b) > maxSecretFile:
		return lock.Secret{}, fmt.Errorf("%s is too large for a key", file)
	}
	text := string(b)
	if len(b) >= 2 && b[0] == 0xFF && b[1] == 0xFE { // as Windows saves it
		var u []uint16
		for i := 2; i+1 < len(b); i += 2 {
			u = append(u, uint16(b[i])|uint16(b[i+1])<<8)
		}
		text = string(utf16.Decode(u))
	}
	if key := recoveryIn.FindString(text); key != "" {
		return lock.Secret{Text: []byte(key)}, nil
	}
	line, _, _ := strings.Cut(text, "\n")
	if line = strings.TrimRight(line, "\r"); line == "" {
		return lock.Secret{}, fmt.Errorf("%s holds no key", file)
	}
	return lock.Secret{Text: []byte(line)}, nil
}

// ErrNoKeyring means that keys can't be held.
var ErrNoKeyring = errors.New("this work has no place for keys")

// Unlock tries secrets on locked volumes; the keys are held by the context's keyring. opened is how many it opened; err
// is why the last one that stays locked does.
func Unlock(ctx context.Context, locked []lock.Volume, secrets ...lock.Secret) (opened int, err error) {
	ring := lock.From(ctx)
	if ring == nil {
		return 0, ErrNoKeyring
	}
	for _, v := range locked {
		id, label := v.Name()
		if k := ring.Of(id); k != nil && v.Opens(k) == nil {
			opened++
			continue
		}
		k, why := tried(ctx, v, secrets)
		if ctx.Err() != nil {
			return opened, ctx.Err()
		}
		if why != nil {
			err = fmt.Errorf("the volume %s stays locked: %w", label, why)
			continue
		}
		ring.Add(k)
		opened++
	}
	return opened, err
}

// tried gives the key that one of the secrets leads to.
func tried(ctx context.Context, v lock.Volume, secrets []lock.Secret) (k *lock.Key, err error) {
	err = lock.ErrNoProtector
	for _, s := range secrets {
		if k, err = v.Unlock(ctx, s); err == nil {
			if err = v.Opens(k); err == nil {
				return k, nil
			}
			k.Wipe()
		}
		if ctx.Err() != nil {
			break
		}
	}
	return nil, err
}

// LockedOn are the locked volumes of an attached disk.
func LockedOn(d *bench.Disk) []lock.Volume {
	if d == nil || d.Survey == nil {
		return nil
	}
	return d.Survey.Locked()
}

// LockedIn are the locked volumes of a twin.
func (w *looking) LockedIn(ctx context.Context, t *shelf.Twin) ([]lock.Volume, error) {
	var out []lock.Volume
	for i := range t.Disks {
		d, err := w.shelf().OpenDisk(ctx, t, i)
		if err != nil {
			return out, err
		}
		s, err := survey.Of(ctx, d, nil)
		if err != nil {
			return out, err
		}
		out = append(out, s.Locked()...)
	}
	return out, nil
}
