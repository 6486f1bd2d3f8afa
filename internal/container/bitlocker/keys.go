package bitlocker

import (
	"context"
	"crypto/aes"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"strings"
	"unicode/utf16"

	"twinshelf/internal/lock"
)

// GroupError says which group of a recovery key can't be right.
type GroupError struct {
	Group int // counted from 1
	Text  string
	Why   string
}

func (e *GroupError) Error() string {
	return fmt.Sprintf("group %d of the recovery key, %q, %s", e.Group, e.Text, e.Why)
}

const (
	groups     = 8
	groupLen   = 6
	groupBase  = 11
	recoverLen = 16
	keyLen     = 32
)

// Groups reads a recovery key as far as it is typed: digits in groups of six, with anything but digits between them.
// The first group that can't be right is a *GroupError; whole says that all eight are there.
func Groups(typed string) (key []byte, whole bool, err error) {
	digits := strings.FieldsFunc(typed, func(r rune) bool { return r < '0' || r > '9' })
	if all := strings.Join(digits, ""); len(digits) == 1 { // without anything between them
		digits = nil
		for ; len(all) > groupLen && len(digits) < 2*groups; all = all[groupLen:] {
			digits = append(digits, all[:groupLen])
		}
		digits = append(digits, all)
	}
	for i, g := range digits {
		n := 0
		for _, d := range g[:min(len(g), groupLen)] {
			n = n*10 + int(d-'0')
		}
		why := ""
		switch {
		case i >= groups:
			why = "is more than the eight that there are"
		case len(g) > groupLen:
			why = "has more than six digits"
		case len(g) < groupLen && i < len(digits)-1:
			why = "has fewer than six digits"
		case len(g) < groupLen:
			continue // it is being typed
		case n%groupBase != 0:
			why = "can't be right: one of its digits is wrong"
		case n/groupBase > 0xFFFF:
			why = "is too large to be right"
		}
		if why != "" {
			return nil, false, &GroupError{i + 1, g, why}
		}
		key = le.AppendUint16(key, uint16(n/groupBase))
	}
	return key, len(key) == recoverLen, nil
}

// UnlockRecovery opens the volume by a recovery key of 48 digits.
func (v *Volume) UnlockRecovery(ctx context.Context, typed string) (*lock.Key, error) {
	key, whole, err := Groups(typed)
	if err == nil && !whole {
		err = errors.New("a recovery key has eight groups of six digits")
	}
	if err != nil {
		return nil, err
	}
	defer clear(key)
	h := sha256.Sum256(key)
	return v.typed(ctx, RecoveryKey, h)
}

// UnlockPassword opens the volume by a password.
func (v *Volume) UnlockPassword(ctx context.Context, password []byte) (*lock.Key, error) {
	var b []byte
	for _, u := range utf16.Encode([]rune(string(password))) {
		b = le.AppendUint16(b, u)
	}
	defer clear(b)
	h := sha256.Sum256(b)
	return v.typed(ctx, Password, sha256.Sum256(h[:]))
}

// typed tries all protectors of a kind with a hash of what was typed.
func (v *Volume) typed(ctx context.Context, kind Kind, h [sha256.Size]byte) (*lock.Key, error) {
	err := lock.ErrNoProtector
	for _, p := range v.Protectors {
		if p.Kind != kind || len(p.salt) != saltLen {
			continue
		}
		key, failed := stretched(ctx, h, p.salt)
		if failed != nil {
			return nil, failed
		}
		k, failed := v.byMaster(p, key)
		clear(key)
		if failed == nil {
			return k, nil
		}
		err = failed
	}
	return nil, err
}

// stretched makes a key of a hash by hashing it a million times with the salt.
func stretched(ctx context.Context, h [sha256.Size]byte, salt []byte) ([]byte, error) {
	var s [2*sha256.Size + saltLen + 8]byte // last, first, salt, count
	defer clear(s[:])
	copy(s[sha256.Size:], h[:])
	copy(s[2*sha256.Size:], salt)
	for n := range uint64(stretches) {
		if n%(1<<16) == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		le.PutUint64(s[2*sha256.Size+saltLen:], n)
		last := sha256.Sum256(s[:])
		copy(s[:], last[:])
	}
	return append([]byte{}, s[:sha256.Size]...), nil
}

// maxKeyFile is how large a key file may be, in bytes.
const maxKeyFile = 64 << 10

// UnlockFile opens the volume by a start-up key file (.BEK).
func (v *Volume) UnlockFile(file string) (*lock.Key, error) {
	st, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if st.Size() > maxKeyFile || !st.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no start-up key file", file)
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	defer clear(b)
	id, key, err := keyFile(b)
	if err != nil {
		return nil, fmt.Errorf("%s is no start-up key file: %w", file, err)
	}
	defer clear(key)
	for _, p := range v.Protectors {
		if p.ID == id {
			return v.byMaster(p, key)
		}
	}
	return nil, fmt.Errorf("%w: the file is of the protector %s, which the volume hasn't", lock.ErrWrongKey, id)
}

// keyFile reads a start-up key file.
func keyFile(b []byte) (id string, key []byte, err error) {
	if len(b) < setLen || int64(le.Uint32(b[setSize:])) != int64(len(b)) {
		return "", nil, errors.New("its head doesn't say how long it is")
	}
	all, err := entries(b[setLen:])
	if err != nil {
		return "", nil, err
	}
	ext, ok := first(all, valueExternal, extNested)
	if !ok {
		return "", nil, errors.New("it holds no key")
	}
	k, ok := first(ext.nested(extNested), valueKey, keyBytes+keyLen)
	if !ok {
		return "", nil, errors.New("it holds no key")
	}
	return guid(ext.raw[extGUID:]), append([]byte{}, k.raw[keyBytes:keyBytes+keyLen]...), nil
}

// UnlockOpen opens a volume whose protection is suspended: its key lies open.
func (v *Volume) UnlockOpen() (*lock.Key, error) {
	for _, p := range v.Protectors {
		if p.Kind == ClearKey && len(p.open) == keyLen {
			return v.byMaster(p, p.open)
		}
	}
	return nil, lock.ErrNoProtector
}

// byMaster opens the master key of a protector, and looks whether the key of the sectors opens by that.
func (v *Volume) byMaster(p Protector, key []byte) (*lock.Key, error) {
	vmk, err := openSealed(p.sealed, key)
	if err != nil {
		return nil, lock.ErrWrongKey
	}
	fvek, err := v.sectorKey(vmk)
	if err != nil {
		clear(vmk)
		return nil, err
	}
	clear(fvek)
	defer clear(vmk)
	return lock.KeyOf(v.ID, v.ID, vmk), nil
}

// sectorKey opens the key of the sectors.
func (v *Volume) sectorKey(vmk []byte) ([]byte, error) {
	for _, e := range v.entries {
		if e.kind != typeFVEK || e.value != valueSealed {
			continue
		}
		fvek, err := openSealed(e, vmk)
		if err != nil {
			return nil, fmt.Errorf("the key of its sectors can't be opened: %w", err)
		}
		if n := v.Cipher.keyLen(); n == 0 || len(fvek) < n {
			clear(fvek)
			return nil, fmt.Errorf("%s needs a key of %d bytes, and it has one of %d", v.Cipher, n, len(fvek))
		}
		return fvek, nil
	}
	return nil, errors.New("it has no key of its sectors")
}

// openSealed opens the key within a sealed value.
func openSealed(e entry, key []byte) ([]byte, error) {
	if len(e.raw) < sealedBytes+keyBytes || len(key) != keyLen {
		return nil, errors.New("no sealed key is there")
	}
	plain, err := ccmOpen(key, e.raw[sealedNonce:sealedMAC], e.raw[sealedMAC:sealedBytes], e.raw[sealedBytes:])
	if err != nil {
		return nil, err
	}
	n := int(le.Uint16(plain[entrySize:]))
	if n <= keyBytes || n > len(plain) || le.Uint16(plain[entryValue:]) != valueKey {
		clear(plain)
		return nil, errors.New("what is sealed is no key")
	}
	out := append([]byte{}, plain[keyBytes:n]...)
	clear(plain)
	return out, nil
}

var errMAC = errors.New("it doesn't open with this key")

// ccmOpen opens what AES-CCM sealed (NIST SP 800-38C), with a nonce of 12 bytes, without additional data. The seal
// itself is enciphered like the first block.
func ccmOpen(key, nonce, mac, sealed []byte) ([]byte, error) {
	plain, sum, err := ccm(key, nonce, sealed, false)
	if err != nil {
		return nil, err
	}
	if subtle.ConstantTimeCompare(sum, mac) != 1 {
		clear(plain)
		return nil, errMAC
	}
	return plain, nil
}

// ccmSeal is the opposite of ccmOpen.
func ccmSeal(key, nonce, plain []byte) (mac, sealed []byte, err error) {
	sealed, mac, err = ccm(key, nonce, plain, true)
	return mac, sealed, err
}

// ccm enciphers or deciphers, and gives the seal of the plain bytes.
func ccm(key, nonce, in []byte, seal bool) (out, mac []byte, err error) {
	c, err := aes.NewCipher(key)
	if err != nil {
		return nil, nil, err
	}
	if len(in) >= 1<<24 {
		return nil, nil, errors.New("too much is sealed at once")
	}
	var count, sum [aes.BlockSize]byte
	count[0] = 2 // bytes of the counter, less one
	copy(count[1:], nonce[:nonceLen])
	sum = count
	sum[0] |= (macLen - 2) / 2 << 3
	binary.BigEndian.PutUint32(sum[12:], uint32(len(in))|uint32(nonce[nonceLen-1])<<24)
	c.Encrypt(sum[:], sum[:])
	var stream [aes.BlockSize]byte
	c.Encrypt(stream[:], count[:])
	first := stream
	out = make([]byte, len(in))
	for at := 0; at < len(in); at += aes.BlockSize {
		n := uint32(at/aes.BlockSize + 1)
		count[13], count[14], count[15] = byte(n>>16), byte(n>>8), byte(n)
		c.Encrypt(stream[:], count[:])
		end := min(at+aes.BlockSize, len(in))
		for i := at; i < end; i++ {
			out[i] = in[i] ^ stream[i-at]
			plain := out[i]
			if seal {
				plain = in[i]
			}
			sum[i-at] ^= plain
		}
		c.Encrypt(sum[:], sum[:])
	}
	subtle.XORBytes(sum[:], sum[:], first[:])
	return out, sum[:macLen], nil
}
