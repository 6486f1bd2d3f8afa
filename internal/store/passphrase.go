package store

import (
	"context"
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

	"twinshelf/internal/store/backend"
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
		return fmt.Errorf("a passphrase has at least %d characters; several words are easier to keep than one strange "+
			"one", leastPhrase)
	}
	return nil
}

func (k WrappedKey) bound() []byte { return []byte("twinshelf master key 1") }

func (k WrappedKey) derive(passphrase []byte) ([]byte, error) {
	if k.KDF != kdfArgon2id {
		return nil, fmt.Errorf("the key %q is derived by %q: %w", k.Name, k.KDF, ErrNewer)
	}
	if c := k.Cost; c.Passes < 1 || c.Passes > mostPasses || c.Memory < 8 || c.Memory > mostMemory || c.Threads < 1 {
		return nil, &HurtError{"head", headerLen,
			fmt.Sprintf("the key %q asks for %d passes over %d KiB", k.Name, c.Passes, c.Memory)}
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
	k := WrappedKey{Name: name, Created: time.Now().UTC(), KDF: kdfArgon2id, Cost: cost, Salt: make([]byte, saltLen),
		Nonce: make([]byte, nonceRoom)}
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
		return nil, &HurtError{"head", headerLen,
			fmt.Sprintf("the key %q has a nonce of %d bytes", k.Name, len(k.Nonce))}
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
		return nil, "", &HurtError{"head", headerLen, fmt.Sprintf("it names %d keys", len(h.Keys))}
	}
	err = ErrPassphrase
	for _, k := range h.Keys {
		m, e := k.unwrap(passphrase)
		if e == nil {
			if subtle.ConstantTimeCompare([]byte(h.seal(m)), []byte(h.Seal)) != 1 {
				return nil, "", &HurtError{"head", headerLen, "it was changed by somebody who doesn't have the key"}
			}
			return m, k.Name, nil
		}
		if !errors.Is(e, ErrPassphrase) {
			err = e
		}
	}
	return nil, "", err
}

// unlock readies the keyring, and gives the name of the passphrase that answered.
func unlock(at string, head Head, passphrase func() ([]byte, error)) (*keyring, string, error) {
	switch {
	case head.Suite == SuiteOpen:
		return &keyring{}, "", nil
	case head.Suite > SuiteAES:
		return nil, "", fmt.Errorf("the shelf in %s is encrypted by suite %d: %w", at, head.Suite, ErrNewer)
	case passphrase == nil:
		return nil, "", fmt.Errorf("%s: %w", at, ErrSealed)
	}
	p, err := passphrase()
	if err != nil {
		return nil, "", err
	}
	master, name, err := head.master(p)
	if err != nil {
		return nil, "", fmt.Errorf("the shelf in %s stays closed: %w", at, err)
	}
	ring, err := ringOf(head.Suite, master)
	return ring, name, err
}

// IsSealed says whether the store in a place needs a passphrase.
func IsSealed(ctx context.Context, b backend.Backend) (bool, error) {
	h, _, err := readHead(ctx, b)
	return h.Suite != SuiteOpen, err
}

// IDOf is the identity of the store in a place, which needs no key.
func IDOf(ctx context.Context, b backend.Backend) (string, error) {
	h, _, err := readHead(ctx, b)
	return h.ID, err
}

// ErrExchanged means that a shelf which was sealed claims to be open: whoever can write to its folder may have
// exchanged its head, to have the next capture written in the clear.
var ErrExchanged = errors.New("the head says that the shelf is open, but it was sealed: somebody may have exchanged it")

// lookedAt is how many files of a folder are looked at for the suite they were written with.
const lookedAt = 3

// sealedAsSaid refuses an open head over files that are sealed. A few of every kind are looked at.
func sealedAsSaid(ctx context.Context, b backend.Backend, head Head) error {
	if head.Suite != SuiteOpen {
		return nil // what isn't sealed is refused where it is read
	}
	few := func(folder string) ([]string, error) {
		names, err := b.List(ctx, folder)
		var out []string
		for _, n := range names[:min(len(names), lookedAt)] {
			out = append(out, folder+"/"+n)
		}
		return out, err
	}
	folders := []string{packFolder, indexFolder, "journal", "marks", parityFolder, "names", "unlocking", "tried"}
	all := func(folders []string) ([][]string, error) {
		in, errs := make([][]string, len(folders)), make([]error, len(folders))
		backend.Each(b, len(folders), func(i int) { in[i], errs[i] = few(folders[i]) })
		return in, errors.Join(errs...)
	}
	in, err := all(append(folders, "twins")) // asked for together: the shelf may be far
	if err != nil {
		return err
	}
	twins, err := all(in[len(folders)])
	if err != nil {
		return err
	}
	files := append(slices.Concat(slices.Concat(in[:len(folders)]...), slices.Concat(twins...)), RulesFile, checkedFile)
	suites := make([]uint16, len(files))
	backend.Each(b, len(files), func(i int) {
		if suite, ok := suiteOf(ctx, b, files[i]); ok {
			suites[i] = suite
		}
	})
	for i, suite := range suites {
		if suite != SuiteOpen {
			return fmt.Errorf("%w (%s has suite %d); don't use it, and take the copy of head from elsewhere",
				ErrExchanged, files[i], suite)
		}
	}
	return nil
}

// suiteOf reads the suite in a file's header; false where there is none that is whole.
func suiteOf(ctx context.Context, b backend.Backend, file string) (uint16, bool) {
	r, err := backend.Open(ctx, b, file)
	if err != nil {
		return 0, false
	}
	defer r.Close()
	p := make([]byte, headerLen)
	if n, _ := r.ReadAt(ctx, p, 0); n < headerLen || string(p[:len(fileMagic)]) != fileMagic ||
		crc32.Checksum(p[:offCRC], castagnoli) != binary.LittleEndian.Uint32(p[offCRC:]) {
		return 0, false
	}
	return binary.LittleEndian.Uint16(p[offSuite:]), true
}

// ErrLastKey means that the only passphrase can't be withdrawn.
var ErrLastKey = errors.New("it is the only passphrase: without it nobody could open the shelf any more; add another " +
	"one first")

// keyChange gives the keys as they are to be.
type keyChange func(master []byte, keys []WrappedKey) ([]WrappedKey, error)

// changeKeys reads the head again under the lock, has the keys changed, and writes it.
func (k *heads) changeKeys(ctx context.Context, passphrase []byte, change keyChange) error {
	if k.get().Suite == SuiteOpen {
		return errors.New("the shelf is open: it has no passphrases; carry its twins to a sealed one")
	}
	return k.changeHead(ctx, "change of the passphrases", func(h *Head) error {
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
func (k *heads) AddKey(ctx context.Context, one, added []byte, name string, cost Cost) error {
	if err := CheckPassphrase(added); err != nil {
		return err
	}
	return k.changeKeys(ctx, one, func(master []byte, keys []WrappedKey) ([]WrappedKey, error) {
		if name == "" || findKey(keys, name) >= 0 || len(keys) == mostKeys {
			return nil, fmt.Errorf("a passphrase called %q can't be added: each needs a name of its own, and there "+
				"can be %d", name, mostKeys)
		}
		k, err := wrap(master, added, name, cost)
		return append(keys, k), err
	})
}

// ChangeKey replaces the passphrase with a name.
func (k *heads) ChangeKey(ctx context.Context, one, to []byte, name string, cost Cost) error {
	if err := CheckPassphrase(to); err != nil {
		return err
	}
	return k.changeKeys(ctx, one, func(master []byte, keys []WrappedKey) ([]WrappedKey, error) {
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
func (k *heads) WithdrawKey(ctx context.Context, one []byte, name string) error {
	return k.changeKeys(ctx, one, func(_ []byte, keys []WrappedKey) ([]WrappedKey, error) {
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
