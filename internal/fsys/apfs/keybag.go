package apfs

import (
	"crypto/aes"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/crypto/xts"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// bagEntry is one of a bag of keys.
type bagEntry struct {
	uuid [16]byte
	tag  uint16
	data []byte
}

const (
	mostBag  = 64 // blocks
	mostKeys = 1024
)

// bag reads a bag of keys, which is sealed with a UUID.
func (c *Container) bag(where extent, uuid []byte, kind uint32) ([]bagEntry, error) {
	if where.count < 1 || where.count > mostBag || where.first <= 0 || !c.within(where) {
		return nil, fsys.Contradiction(superKeys, "keys should lie in %d blocks from block %d "+
			"on", where.count, where.first)
	}
	b := make([]byte, where.count*c.unit)
	if err := disk.ReadFull(c.r, b, where.first*c.unit); err != nil {
		return nil, err
	}
	x, err := xts.NewCipher(aes.NewCipher, slices.Concat(uuid, uuid))
	if err != nil {
		return nil, err
	}
	decipher(x, b, where.first*c.unit/cipherSector)
	le := binary.LittleEndian
	if !sound(b) || le.Uint32(b[objType:]) != kind {
		return nil, fsys.Contradiction(where.first*c.unit, "there are no keys where they should be")
	}
	n, at := int(le.Uint16(b[bagKeys:])), bagEntries
	if n > mostKeys {
		return nil, fsys.Contradiction(where.first*c.unit, "%d keys in a bag", n)
	}
	var out []bagEntry
	for range n {
		if at+entryData > len(b) || at+entryData+int(le.Uint16(b[at+entryLen:])) > len(b) {
			return nil, fsys.Contradiction(where.first*c.unit, "a bag of keys ends within one")
		}
		e := bagEntry{uuid: [16]byte(b[at:]), tag: le.Uint16(b[at+entryTag:])}
		e.data = b[at+entryData : at+entryData+int(le.Uint16(b[at+entryLen:]))]
		out = append(out, e)
		at += (entryData + len(e.data) + entryAlign - 1) / entryAlign * entryAlign
	}
	return out, nil
}

// decipher deciphers whole sectors, the first of which has a number, in place.
func decipher(x *xts.Cipher, b []byte, first int64) {
	for ; len(b) >= cipherSector; b, first = b[cipherSector:], first+1 {
		x.Decrypt(b[:cipherSector], b[:cipherSector], uint64(first))
	}
}

// sealedKey is a key as a bag has it: wrapped in another one, which for those that secrets open is made of the secret.
type sealedKey struct {
	uuid       []byte
	half       bool // it is made of 128 bits
	wrapped    []byte
	iterations int
	salt       []byte
}

var errNoKey = errors.New("a key isn't written as it is known")

// readKey reads a key of a bag.
func readKey(b []byte) (k sealedKey, err error) {
	whole, err := values(b)
	if err != nil {
		return k, err
	}
	inner, err := values(whole[derSequence])
	if err != nil {
		return k, err
	}
	all, err := values(inner[derBlob])
	if err != nil {
		return k, err
	}
	k = sealedKey{uuid: all[derUUID], wrapped: all[derWrapped], salt: all[derSalt]}
	if len(k.uuid) != 16 || len(k.wrapped) < 24 || len(k.wrapped)%8 != 0 {
		return k, errNoKey
	}
	if f := all[derFlags]; len(f) > 0 {
		k.half = f[0]&flagHalfKey != 0
	}
	for _, c := range all[derIterations] {
		if k.iterations = k.iterations<<8 | int(c); k.iterations > mostIterations {
			return k, fmt.Errorf("a secret would be stretched over %d times", mostIterations)
		}
	}
	return k, nil
}

// values takes apart what stands after tags and lengths; of a tag that comes twice the last counts.
func values(b []byte) (map[byte][]byte, error) {
	out := map[byte][]byte{}
	for len(b) > 0 {
		if len(b) < 2 {
			return nil, errNoKey
		}
		tag, n, head := b[0], int(b[1]), 2
		if more := n - 0x80; more > 0 { // the length stands in so many bytes after it
			if more > 2 || len(b) < 2+more {
				return nil, errNoKey
			}
			n, head = 0, 2+more
			for _, c := range b[2:head] {
				n = n<<8 | int(c)
			}
		}
		if n == 0x80 && head == 2 || head+n > len(b) {
			return nil, errNoKey
		}
		out[tag], b = b[head:head+n], b[head+n:]
	}
	return out, nil
}

// mostIterations bounds how often a secret is stretched.
const mostIterations = 1 << 24

// keyLen is how many bytes the key has that this one is wrapped in, and this one itself.
func (k sealedKey) keyLen() int {
	if k.half {
		return 16
	}
	return 32
}

// unwrap gives the key by the one that it is wrapped in (RFC 3394, section 2.2.2).
func (k sealedKey) unwrap(by []byte) ([]byte, bool) {
	const first, half = 0xA6A6A6A6A6A6A6A6, 8
	wrapped := k.wrapped[:min(len(k.wrapped), k.keyLen()+half)]
	if len(by) < k.keyLen() || len(wrapped) != k.keyLen()+half {
		return nil, false
	}
	c, err := aes.NewCipher(by[:k.keyLen()])
	if err != nil {
		return nil, false
	}
	be := binary.BigEndian
	var b [16]byte
	r := slices.Clone(wrapped)
	n := len(r)/half - 1
	for j := 5; j >= 0; j-- {
		for i := n; i >= 1; i-- {
			copy(b[:half], r[:half])
			be.PutUint64(b[:], be.Uint64(b[:])^uint64(n*j+i))
			copy(b[half:], r[half*i:])
			c.Decrypt(b[:], b[:])
			copy(r[:half], b[:half])
			copy(r[half*i:half*i+half], b[half:])
		}
	}
	want := be.AppendUint64(nil, first)
	if subtle.ConstantTimeCompare(r[:half], want) != 1 {
		clear(r)
		return nil, false
	}
	return r[half:], true
}

// sectorKey is the key of a volume's sectors, by the key that it is wrapped in: two keys of 128 bits, of which those of
// an older system have the second as a hash of the first.
func (k sealedKey) sectorKey(by []byte) ([]byte, bool) {
	out, ok := k.unwrap(by)
	if !ok || !k.half {
		return out, ok
	}
	h := sha256.Sum256(slices.Concat(out, k.uuid))
	return append(out, h[:16]...), true
}
