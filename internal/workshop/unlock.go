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
	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/shelf"
	"twinshelf/internal/survey"
)

// Secret is what opens a locked volume: a recovery key or a password, or a start-up key file.
type Secret struct {
	Text []byte
	File string
}

// maxSecretFile is how large a file with a key may be, in bytes.
const maxSecretFile = 64 << 10

var recoveryIn = regexp.MustCompile(`\d{6}(?:-\d{6}){7}`)

// ReadSecret reads a file that opens locked volumes: a start-up key file, a text with a recovery key in it as Windows
// prints and saves it, or a password in its first line.
func ReadSecret(file string) (Secret, error) {
	if strings.HasSuffix(strings.ToLower(file), ".bek") {
		return Secret{File: file}, nil
	}
	f, err := os.Open(file)
	if err != nil {
		return Secret{}, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, maxSecretFile+1))
	switch {
	case err != nil:
		return Secret{}, err
	case len(b) > maxSecretFile:
		return Secret{}, fmt.Errorf("%s is too large for a key", file)
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
		return Secret{Text: []byte(key)}, nil
	}
	line, _, _ := strings.Cut(text, "\n")
	if line = strings.TrimRight(line, "\r"); line == "" {
		return Secret{}, fmt.Errorf("%s holds no key", file)
	}
	return Secret{Text: []byte(line)}, nil
}

// open tries a secret on a volume.
func (s Secret) open(ctx context.Context, v *bitlocker.Volume) (*bitlocker.Key, error) {
	if s.File != "" {
		return v.UnlockFile(s.File)
	}
	if _, whole, err := bitlocker.Groups(string(s.Text)); err == nil && whole {
		return v.UnlockRecovery(ctx, string(s.Text))
	}
	return v.UnlockPassword(ctx, s.Text)
}

// ErrNoKeyring means that keys can't be held.
var ErrNoKeyring = errors.New("this work has no place for keys")

// Unlock tries secrets on locked volumes; the keys are held by the context's keyring. opened is how many it opened; err
// is why the last one that stays locked does.
func Unlock(ctx context.Context, locked []*bitlocker.Volume, secrets ...Secret) (opened int, err error) {
	ring := bitlocker.From(ctx)
	if ring == nil {
		return 0, ErrNoKeyring
	}
	for _, v := range locked {
		if k := ring.Of(v.ID); k != nil {
			if _, failed := v.Open(k); failed == nil {
				opened++
				continue
			}
		}
		why := error(bitlocker.ErrNoProtector)
		for _, s := range secrets {
			k, failed := s.open(ctx, v)
			if ctx.Err() != nil {
				return opened, ctx.Err()
			}
			if failed == nil { // a key that fits isn't enough: what lies there must be certain, too
				if _, failed = v.Open(k); failed != nil {
					k.Wipe()
				}
			}
			if why = failed; failed == nil {
				ring.Add(k)
				opened++
				break
			}
		}
		if why != nil {
			err = fmt.Errorf("the volume %s stays locked: %w", v.Label, why)
		}
	}
	return opened, err
}

// LockedOn are the locked volumes of an attached disk.
func LockedOn(d *bench.Disk) []*bitlocker.Volume {
	if d == nil || d.Survey == nil {
		return nil
	}
	return d.Survey.Locked()
}

// LockedIn are the locked volumes of a twin.
func (w *looking) LockedIn(ctx context.Context, t *shelf.Twin) ([]*bitlocker.Volume, error) {
	var out []*bitlocker.Volume
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
