package shelf

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"runtime/debug"
	"slices"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/chacha20poly1305"
)

// WrappedKey is the master key of a sealed shelf, wrapped by one passphrase (Argon2id,
// RFC 9106; XChaCha20-Poly1305).
type WrappedKey struct {
	Name    string    `json:"name"`
	Created time.Time `json:"created"`
	KDF     string    `json:"kdf"`
	Cost    Cost      `json:"cost"`
	Salt    []byte    `json:"salt"`
	Nonce   []byte    `json:"nonce"`
	Wrapped []byte    `json:"wrapped"`
}

// Cost is what one try of a passphrase costs.
type Cost struct {
	Passes  uint32 `json:"passes"`
	Memory  uint32 `json:"memory_kib"`
	Threads uint8  `json:"threads"`
}

const (
	kdfArgon2id = "argon2id"
	saltLen     = 16
	// memory stays within what the whole program may take.
	usualMemory = 96 << 10 // KiB
	mostMemory  = 1 << 20
	mostPasses  = 1000
	// leastPasses is the floor of the cost, however busy the machine is that makes the key.
	leastPasses = 3
	mostKeys    = 64
	leastPhrase = 8
)

// TuneCost finds the cost that makes one try take about a second here.
func TuneCost() Cost {
	c := Cost{Passes: 1, Memory: usualMemory, Threads: 2}
	start := time.Now()
	argon2.IDKey([]byte("tuning"), make([]byte, saltLen), c.Passes, c.Memory, c.Threads, masterLen)
	one := max(time.Since(start), time.Millisecond)
	debug.FreeOSMemory()
	c.Passes = uint32(max(leastPasses, min(mostPasses, time.Second/one)))
	return c
}

// ErrSealed means that a passphrase is needed.
var ErrSealed = errors.New("the shelf is sealed: it needs its passphrase")

// ErrPassphrase means that no key of the shelf answers to a passphrase.
var ErrPassphrase = errors.New("the passphrase is not one of this shelf's")

// CheckPassphrase refuses passphrases that protect nothing.
func CheckPassphrase(p []byte) error {
	if !utf8.Valid(p) || utf8.RuneCount(p) < leastPhrase {
		return fmt.Errorf("a passphrase has at least %d characters; several words are easier to keep than one strange one", leastPhrase)
	}
	return nil
}

func (k WrappedKey) bound() []byte { return []byte("twinshelf master key 1") }

func (k WrappedKey) derive(passphrase []byte) ([]byte, error) {
	if k.KDF != kdfArgon2id {
		return nil, fmt.Errorf("the key %q is derived by %q: %w", k.Name, k.KDF, ErrNewer)
	}
	if c := k.Cost; c.Passes < 1 || c.Passes > mostPasses || c.Memory < 8 || c.Memory > mostMemory || c.Threads < 1 {
		return nil, &Hurt{"head", headerLen, fmt.Sprintf("the key %q asks for %d passes over %d KiB", k.Name, c.Passes, c.Memory)}
	}
	b := argon2.IDKey(passphrase, k.Salt, k.Cost.Passes, k.Cost.Memory, k.Cost.Threads, chacha20poly1305.KeySize)
	debug.FreeOSMemory() // it is the largest thing that is ever held
	return b, nil
}

// wrap wraps a master key by a passphrase.
func wrap(master, passphrase []byte, name string, cost Cost) (WrappedKey, error) {
	if cost == (Cost{}) {
		cost = TuneCost()
	}
	k := WrappedKey{Name: name, Created: time.Now().UTC(), KDF: kdfArgon2id, Cost: cost, Salt: make([]byte, saltLen), Nonce: make([]byte, nonceRoom)}
	_, _ = rand.Read(k.Salt)
	_, _ = rand.Read(k.Nonce)
	key, err := k.derive(passphrase)
	if err != nil {
		return k, err
	}
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return k, err
	}
	k.Wrapped = aead.Seal(nil, k.Nonce, master, k.bound())
	return k, nil
}

// unwrap gives the master key; ErrPassphrase when the passphrase is another one.
func (k WrappedKey) unwrap(passphrase []byte) ([]byte, error) {
	key, err := k.derive(passphrase)
	if err != nil {
		return nil, err
	}
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	if len(k.Nonce) != nonceRoom {
		return nil, &Hurt{"head", headerLen, fmt.Sprintf("the key %q has a nonce of %d bytes", k.Name, len(k.Nonce))}
	}
	master, err := aead.Open(nil, k.Nonce, k.Wrapped, k.bound())
	if err != nil || len(master) != masterLen {
		return nil, ErrPassphrase
	}
	return master, nil
}

// seal binds what mustn't be changed in a head to the master key.
func (h Head) seal(master []byte) string {
	n := keyed((*[32]byte)(master), fmt.Appendf(nil, "head %s %d %d", h.ID, h.BlockSize, h.Suite))
	return hex.EncodeToString(n[:])
}

// master finds the master key by a passphrase, and which key answered.
func (h Head) master(passphrase []byte) (master []byte, name string, err error) {
	if len(h.Keys) > mostKeys {
		return nil, "", &Hurt{"head", headerLen, fmt.Sprintf("it names %d keys", len(h.Keys))}
	}
	err = ErrPassphrase
	for _, k := range h.Keys {
		m, e := k.unwrap(passphrase)
		if e == nil {
			if subtle.ConstantTimeCompare([]byte(h.seal(m)), []byte(h.Seal)) != 1 {
				return nil, "", &Hurt{"head", headerLen, "it was changed by somebody who doesn't have the key"}
			}
			return m, k.Name, nil
		}
		if !errors.Is(e, ErrPassphrase) {
			err = e
		}
	}
	return nil, "", err
}

// unlock readies the keyring.
func (s *Shelf) unlock(passphrase func() ([]byte, error)) error {
	s.ring = &keyring{}
	switch {
	case s.head.Suite == SuiteOpen:
		return nil
	case s.head.Suite > SuiteAES:
		return fmt.Errorf("the shelf in %s is encrypted by suite %d: %w", s.b.Place(), s.head.Suite, ErrNewer)
	case passphrase == nil:
		return fmt.Errorf("%s: %w", s.b.Place(), ErrSealed)
	}
	p, err := passphrase()
	if err != nil {
		return err
	}
	master, name, err := s.head.master(p)
	if err != nil {
		return fmt.Errorf("the shelf in %s stays closed: %w", s.b.Place(), err)
	}
	s.key = name
	s.ring, err = ringOf(s.head.Suite, master)
	return err
}

// IsSealed says whether the shelf in a folder needs a passphrase.
func IsSealed(dir string) (bool, error) {
	s := &Shelf{b: Folder(dir)}
	err := s.readHead()
	return s.head.Suite != SuiteOpen, err
}

// IDOf is the identity of the shelf in a folder, which needs no key.
func IDOf(dir string) (string, error) {
	s := &Shelf{b: Folder(dir)}
	err := s.readHead()
	return s.head.ID, err
}

// ErrExchanged means that a shelf which was sealed claims to be open: whoever can write to its folder may have exchanged its
// head, to have the next capture written in the clear.
var ErrExchanged = errors.New("the head says that the shelf is open, but it was sealed: somebody may have exchanged it")

// suiteOfFiles refuses an open head over files that are sealed. A few of every kind are looked at.
func (s *Shelf) suiteOfFiles() error {
	if s.head.Suite != SuiteOpen {
		return nil // what isn't sealed is refused where it is read
	}
	twins, _ := s.twinFiles()
	files := twins[:min(len(twins), 3)]
	for _, dir := range []string{"packs", "index", "journal", "marks", "parity", "names"} {
		names, err := s.b.List(dir)
		if err != nil {
			return err
		}
		for _, n := range names[:min(len(names), 3)] {
			files = append(files, dir+"/"+n)
		}
	}
	for _, f := range append(files, rulesFile, checkedFile) {
		if suite, ok := s.suiteOf(f); ok && suite != SuiteOpen {
			return fmt.Errorf("%w (%s has suite %d); don't use it, and take the copy of head from elsewhere", ErrExchanged, f, suite)
		}
	}
	return nil
}

// suiteOf reads the suite in a file's header; false where there is none that is whole.
func (s *Shelf) suiteOf(file string) (uint16, bool) {
	r, err := s.b.Open(file)
	if err != nil {
		return 0, false
	}
	defer r.Close()
	b := make([]byte, headerLen)
	if n, _ := r.ReadAt(b, 0); n < headerLen || string(b[:len(fileMagic)]) != fileMagic || crc32.Checksum(b[:offCRC], castagnoli) != binary.LittleEndian.Uint32(b[offCRC:]) {
		return 0, false
	}
	return binary.LittleEndian.Uint16(b[offSuite:]), true
}

// Sealed says whether the shelf is sealed.
func (s *Shelf) Sealed() bool { return s.ring.sealed() }

// Key is the name of the passphrase that opened the shelf; empty for an open one.
func (s *Shelf) Key() string { return s.key }

// ErrLastKey means that the only passphrase can't be withdrawn.
var ErrLastKey = errors.New("it is the only passphrase: without it nobody could open the shelf any more; add another one first")

// changeKeys reads the head again under the lock, has the keys changed, and writes it.
func (s *Shelf) changeKeys(passphrase []byte, change func(master []byte, keys []WrappedKey) ([]WrappedKey, error)) error {
	if !s.Sealed() {
		return errors.New("the shelf is open: it has no passphrases; carry its twins to a sealed one")
	}
	return s.changeHead("change of the passphrases", func(h *Head) error {
		master, _, err := h.master(passphrase)
		if err == nil {
			h.Keys, err = change(master, slices.Clone(h.Keys))
		}
		return err
	})
}

func findKey(keys []WrappedKey, name string) int {
	return slices.IndexFunc(keys, func(k WrappedKey) bool { return k.Name == name })
}

// AddKey adds a passphrase under a name; nothing else is rewritten. one is a passphrase the shelf has.
func (s *Shelf) AddKey(one, added []byte, name string, cost Cost) error {
	if err := CheckPassphrase(added); err != nil {
		return err
	}
	return s.changeKeys(one, func(master []byte, keys []WrappedKey) ([]WrappedKey, error) {
		if name == "" || findKey(keys, name) >= 0 || len(keys) == mostKeys {
			return nil, fmt.Errorf("a passphrase called %q can't be added: each needs a name of its own, and there can be %d", name, mostKeys)
		}
		k, err := wrap(master, added, name, cost)
		return append(keys, k), err
	})
}

// ChangeKey replaces the passphrase with a name.
func (s *Shelf) ChangeKey(one, to []byte, name string, cost Cost) error {
	if err := CheckPassphrase(to); err != nil {
		return err
	}
	return s.changeKeys(one, func(master []byte, keys []WrappedKey) ([]WrappedKey, error) {
		i := findKey(keys, name)
		if i < 0 {
			return nil, fmt.Errorf("there is no passphrase called %q", name)
		}
		k, err := wrap(master, to, name, cost)
		keys[i] = k
		return keys, err
	})
}

// WithdrawKey takes a passphrase away; never the last one.
func (s *Shelf) WithdrawKey(one []byte, name string) error {
	return s.changeKeys(one, func(_ []byte, keys []WrappedKey) ([]WrappedKey, error) {
		i := findKey(keys, name)
		switch {
		case i < 0:
			return nil, fmt.Errorf("there is no passphrase called %q", name)
		case len(keys) == 1:
			return nil, ErrLastKey
		}
		return slices.Delete(keys, i, i+1), nil
	})
}
