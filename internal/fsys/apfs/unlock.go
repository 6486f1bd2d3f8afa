package apfs

import (
	"cmp"
	"context"
	"crypto/aes"
	"crypto/pbkdf2"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"
	"unicode"

	"golang.org/x/crypto/xts"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/lock"
	"twinshelf/internal/span"
)

// Lock is an encrypted volume of a container.
type Lock struct {
	v     *volume
	keys  []sealedKey // each opens the next one, by a secret
	key   sealedKey   // of the volume
	hint  string
	noKey error // why there are none
}

var (
	_ lock.Volume   = (*Lock)(nil)
	_ fsys.Lockable = (*Container)(nil)
)

// Locked are the volumes that are encrypted and whose key isn't known.
func (c *Container) Locked() []lock.Volume {
	var out []lock.Volume
	for _, v := range c.volumes {
		if v.locked {
			out = append(out, v.lock())
		}
	}
	return out
}

// Encrypted says whether files of a volume can be read that is encrypted.
func (c *Container) Encrypted() bool {
	for _, v := range c.volumes {
		if v.cipher != nil {
			return true
		}
	}
	return false
}

// Use reads volumes with the keys of a ring, as far as they open them.
func (c *Container) Use(ring *lock.Keyring) {
	for _, v := range c.volumes {
		k := ring.Of(v.uuid())
		if k == nil || !v.locked {
			continue
		}
		if x, err := v.tried(k); err == nil {
			v.cipher, v.locked = x, false
		}
	}
}

func (v *volume) uuid() string { return uuidOf(v.super[volUUID : volUUID+16]) }

func uuidOf(b []byte) string {
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:16])
}

// lock reads what would open a volume.
func (v *volume) lock() *Lock {
	l := &Lock{v: v}
	if binary.LittleEndian.Uint64(v.super[volFlags:])&volOneKey == 0 {
		l.noKey = errors.New("each of its files has a key of its own, which only the machine itself knows")
		return l
	}
	l.noKey = l.read()
	return l
}

func (l *Lock) read() error {
	c, le := l.v.c, binary.LittleEndian
	at := extent{c.address(le.Uint64(c.super[superKeys:])), int64(min(le.Uint64(c.super[superKeys+8:]), 1<<40))}
	if at.first == 0 {
		return errors.New("its keys aren't on the disk: only the machine itself knows them")
	}
	all, err := c.bag(at, c.super[superUUID:superUUID+16], bagOfContainer)
	if err != nil {
		return fmt.Errorf("keys of the container: %w", err)
	}
	own := [16]byte(l.v.super[volUUID:])
	var more extent
	for _, e := range all {
		switch {
		case e.uuid != own:
		case e.tag == tagVolumeKey:
			if l.key, err = readKey(e.data); err != nil {
				return fmt.Errorf("key of the volume: %w", err)
			}
		case e.tag == tagUnlocking && len(e.data) >= 16:
			more = extent{c.address(le.Uint64(e.data)), int64(min(le.Uint64(e.data[8:]), 1<<40))}
		}
	}
	if l.key.wrapped == nil || more.count == 0 {
		return errors.New("its keys aren't on the disk: only the machine itself knows them")
	}
	if all, err = c.bag(more, own[:], bagOfVolume); err != nil {
		return fmt.Errorf("keys of the volume: %w", err)
	}
	for _, e := range all {
		switch e.tag {
		case tagUnlocking:
			if k, err := readKey(e.data); err == nil && len(k.salt) > 0 { // others are for other ways
				l.keys = append(l.keys, k)
			}
		case tagHint:
			l.hint = strings.Map(func(r rune) rune {
				if unicode.IsPrint(r) {
					return r
				}
				return -1
			}, string(e.data))
		}
	}
	if len(l.keys) == 0 {
		return errors.New("no password opens it")
	}
	return nil
}

// Name is the volume's UUID and its name.
func (l *Lock) Name() (id, label string) { return l.v.uuid(), l.v.name }

// Words say how the volume is protected.
func (l *Lock) Words() string {
	if l.noKey != nil {
		return "XTS-AES 128; " + l.noKey.Error()
	}
	words := "XTS-AES 128, protected by passwords and recovery keys"
	if l.hint != "" {
		words += fmt.Sprintf("; the hint is %q", l.hint)
	}
	return words
}

// Asks are a password and a recovery key. Which of the keys in the bag are for which isn't written there for sure, so
// each is tried on all of them.
func (l *Lock) Asks() []lock.Way {
	if l.noKey != nil {
		return nil
	}
	return []lock.Way{{Kind: lock.Password, Words: "password"},
		{Kind: lock.Recovery, Words: "recovery key", Form: "6 groups of 4 letters and digits", Check: check}}
}

// The form of a recovery key.
const (
	groups   = 6
	groupLen = 4
)

// groupsOf are the groups of a recovery key as it was typed.
func groupsOf(typed string) []string {
	return strings.FieldsFunc(typed, func(r rune) bool { return r == '-' || unicode.IsSpace(r) })
}

// check reads a recovery key as far as it is typed.
func check(typed string) (have, of int, err error) {
	for i, g := range groupsOf(typed) {
		wrong := strings.ContainsFunc(g, func(r rune) bool {
			return !unicode.IsDigit(r) && (r < 'A' || r > 'Z') &&
				(r < 'a' || r > 'z')
		})
		switch {
		case i >= groups:
			return have, groups, fmt.Errorf("a recovery key has %d groups", groups)
		case wrong || len(g) > groupLen:
			return have, groups, fmt.Errorf("group %d of the recovery key, %q, isn't %d letters and "+
				"digits", i+1, g, groupLen)
		case len(g) == groupLen:
			have++
		}
	}
	return have, groups, nil
}

// Unlock tries a secret on all keys of the volume's bag; a recovery key also with its groups as they are written.
func (l *Lock) Unlock(ctx context.Context, s lock.Secret) (*lock.Key, error) {
	if l.noKey != nil {
		return nil, l.noKey
	}
	if s.File != "" {
		return nil, lock.ErrNoProtector
	}
	texts := []string{string(s.Text)}
	if n, of, err := check(texts[0]); err == nil && n == of {
		texts = append(texts, strings.ToUpper(strings.Join(groupsOf(texts[0]), "-")))
	}
	for _, text := range texts {
		for _, k := range l.keys {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			if b, ok := l.by(k, text); ok {
				defer clear(b)
				return lock.KeyOf(l.v.uuid(), l.v.c.info.ID, b), nil
			}
		}
	}
	if binary.LittleEndian.Uint64(l.v.c.super[superFlags:])&softwareCrypto == 0 {
		return nil, fmt.Errorf("%w, or only the Mac that it was in does: its hardware takes part in the encryption",
			lock.ErrWrongKey)
	}
	return nil, lock.ErrWrongKey
}

// by gives the key of the volume's sectors by a secret that opens one of the bag's keys.
func (l *Lock) by(k sealedKey, text string) ([]byte, bool) {
	if k.iterations < 1 {
		return nil, false
	}
	typed, err := pbkdf2.Key(sha256.New, text, k.salt, k.iterations, k.keyLen())
	if err != nil {
		return nil, false
	}
	defer clear(typed)
	own, ok := k.unwrap(typed)
	if !ok {
		return nil, false
	}
	defer clear(own)
	return l.key.sectorKey(own)
}

// Opens says why a key doesn't open the volume.
func (l *Lock) Opens(k *lock.Key) error {
	_, err := l.v.tried(k)
	return err
}

// tried gives the cipher of a key by which the root of the volume's files can be read.
func (v *volume) tried(k *lock.Key) (*xts.Cipher, error) {
	x, err := xts.NewCipher(aes.NewCipher, k.Bytes())
	if err != nil {
		return nil, lock.ErrWrongKey
	}
	p, err := v.objects.find(binary.LittleEndian.Uint64(v.super[volRoot:]), v.xid)
	if err != nil {
		return nil, err
	}
	b, err := v.c.block(p.at)
	if err != nil {
		return nil, err
	}
	if decipher(x, b, p.at*v.c.unit/cipherSector); !sound(b) || kindOf(b) != typeRoot {
		return nil, lock.ErrWrongKey
	}
	return x, nil
}

// node reads a node of the volume's files.
func (v *volume) node(at int64) ([]byte, error) {
	b, err := v.c.block(at)
	if err != nil {
		return nil, err
	}
	if !sound(b) {
		decipher(v.cipher, b, at*v.c.unit/cipherSector)
	}
	if !sound(b) || kindOf(b) != typeRoot && kindOf(b) != typeNode {
		return nil, fsys.Contradiction(at*v.c.unit, "the checksum of an object is wrong")
	}
	return b, nil
}

// plainly reads sectors of files where they lie on the part, deciphered. Offsets are in bytes of the part.
type plainly struct {
	r    io.ReaderAt
	x    *xts.Cipher
	runs []enciphered // ascending
}

// enciphered is where bytes lie, and what is added to the number of a sector there to have its tweak.
type enciphered struct {
	span.Span
	shift int64
}

// add tells of an extent whose tweak is counted in blocks.
func (p *plainly) add(at span.Span, tweak, unit int64) {
	p.runs = append(p.runs, enciphered{at, tweak*(unit/cipherSector) - at.Start/cipherSector})
}

// sort makes what was told ready for being read.
func (p *plainly) sort() {
	slices.SortFunc(p.runs, func(a, b enciphered) int { return cmp.Compare(a.Start, b.Start) })
}

const mostAtOnce = 128 << 10 // bytes

func (p *plainly) ReadAt(b []byte, off int64) (int, error) {
	done := 0
	for done < len(b) {
		at := off + int64(done)
		i := sort.Search(len(p.runs), func(i int) bool { return p.runs[i].End > at })
		if i == len(p.runs) || p.runs[i].Start > at {
			return done, fmt.Errorf("byte %d belongs to no file", at)
		}
		run := p.runs[i]
		from := at / cipherSector * cipherSector
		to := min(run.End, from+mostAtOnce, (off+int64(len(b))+cipherSector-1)/cipherSector*cipherSector)
		buf := make([]byte, to-from)
		if err := disk.ReadFull(p.r, buf, from); err != nil {
			return done, err
		}
		decipher(p.x, buf, from/cipherSector+run.shift)
		done += copy(b[done:], buf[at-from:])
	}
	return done, nil
}
