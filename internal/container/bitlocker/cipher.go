package bitlocker

import (
	"crypto/aes"
	"crypto/cipher"
	"fmt"
	"math/bits"

	"golang.org/x/crypto/xts"
)

// Cipher is how sectors are enciphered.
type Cipher uint16

// The ciphers.
const (
	CBC128Diffuser Cipher = 0x8000
	CBC256Diffuser Cipher = 0x8001
	CBC128         Cipher = 0x8002
	CBC256         Cipher = 0x8003
	XTS128         Cipher = 0x8004
	XTS256         Cipher = 0x8005
)

// ciphers are what each takes: its words, the bytes of its key, and of those what is used of each half.
var ciphers = map[Cipher]struct {
	words string
	key   int // bytes of the entry that are needed
	part  int // of one key
}{
	CBC128Diffuser: {"AES-CBC 128 with diffuser", 64, 16}, CBC256Diffuser: {"AES-CBC 256 with diffuser", 64, 32},
	CBC128: {"AES-CBC 128", 16, 16}, CBC256: {"AES-CBC 256", 32, 32},
	XTS128: {"XTS-AES 128", 32, 16}, XTS256: {"XTS-AES 256", 64, 32},
}

func (c Cipher) String() string {
	if x, known := ciphers[c]; known {
		return x.words
	}
	return fmt.Sprintf("cipher 0x%04x, which isn't known here", uint16(c))
}

func (c Cipher) keyLen() int { return ciphers[c].key }

// Known says whether the cipher can be read here.
func (c Cipher) Known() bool { return ciphers[c].key > 0 }

// sectors enciphers and deciphers sectors. It may be used by several at once.
type sectors struct {
	size  int64
	block cipher.Block
	tweak cipher.Block // of the diffuser; nil without it
	xts   *xts.Cipher  // nil with CBC
}

func newSectors(c Cipher, fvek []byte, size int64) (*sectors, error) {
	x, known := ciphers[c]
	if !known || len(fvek) < x.key {
		return nil, fmt.Errorf("%s with a key of %d bytes", c, len(fvek))
	}
	s := &sectors{size: size}
	var err error
	switch c {
	case XTS128, XTS256:
		s.xts, err = xts.NewCipher(aes.NewCipher, fvek[:x.key])
		return s, err
	case CBC128Diffuser, CBC256Diffuser:
		if s.tweak, err = aes.NewCipher(fvek[32 : 32+x.part]); err != nil {
			return nil, err
		}
	}
	s.block, err = aes.NewCipher(fvek[:x.part])
	return s, err
}

// open deciphers whole sectors that lie at a byte of the volume, in place.
func (s *sectors) open(b []byte, off int64) {
	for ; int64(len(b)) >= s.size; b, off = b[s.size:], off+s.size {
		p := b[:s.size]
		if s.xts != nil {
			s.xts.Decrypt(p, p, uint64(off/s.size))
			continue
		}
		iv, mask := s.vectors(off)
		cipher.NewCBCDecrypter(s.block, iv[:]).CryptBlocks(p, p)
		if s.tweak != nil {
			s.undiffuse(p, mask)
		}
	}
}

// seal enciphers whole sectors; see open.
func (s *sectors) seal(b []byte, off int64) {
	for ; int64(len(b)) >= s.size; b, off = b[s.size:], off+s.size {
		p := b[:s.size]
		if s.xts != nil {
			s.xts.Encrypt(p, p, uint64(off/s.size))
			continue
		}
		iv, mask := s.vectors(off)
		if s.tweak != nil {
			s.diffuse(p, mask)
		}
		cipher.NewCBCEncrypter(s.block, iv[:]).CryptBlocks(p, p)
	}
}

// vectors are the initial vector of a sector, and the mask of the diffuser.
func (s *sectors) vectors(off int64) (iv [16]byte, mask [32]byte) {
	le.PutUint64(iv[:], uint64(off))
	if s.tweak != nil {
		s.tweak.Encrypt(mask[:16], iv[:])
		last := iv
		last[15] = 0x80
		s.tweak.Encrypt(mask[16:], last[:])
	}
	s.block.Encrypt(iv[:], iv[:])
	return iv, mask
}

var turnsA, turnsB = [4]int{9, 0, 13, 0}, [4]int{0, 10, 0, 25}

// words reads a sector as numbers of 32 bits, and store writes it back.
func words(b []byte) []uint32 {
	out := make([]uint32, len(b)/4)
	for i := range out {
		out[i] = le.Uint32(b[4*i:])
	}
	return out
}

func store(b []byte, w []uint32, mask [32]byte) {
	for i, x := range w {
		le.PutUint32(b[4*i:], x^le.Uint32(mask[i*4%32:]))
	}
}

// undiffuse takes away diffuser B, then A, then the mask.
func (s *sectors) undiffuse(b []byte, mask [32]byte) {
	d := words(b)
	n := len(d)
	for range 3 {
		for i := range d {
			d[i] += d[(i+2)%n] ^ bits.RotateLeft32(d[(i+5)%n], turnsB[i%4])
		}
	}
	for range 5 {
		for i := range d {
			d[i] += d[(i-2+n)%n] ^ bits.RotateLeft32(d[(i-5+n)%n], turnsA[i%4])
		}
	}
	store(b, d, mask)
}

// diffuse is the opposite of undiffuse.
func (s *sectors) diffuse(b []byte, mask [32]byte) {
	store(b, words(b), mask)
	d := words(b)
	n := len(d)
	for range 5 {
		for i := n - 1; i >= 0; i-- {
			d[i] -= d[(i-2+n)%n] ^ bits.RotateLeft32(d[(i-5+n)%n], turnsA[i%4])
		}
	}
	for range 3 {
		for i := n - 1; i >= 0; i-- {
			d[i] -= d[(i+2)%n] ^ bits.RotateLeft32(d[(i+5)%n], turnsB[i%4])
		}
	}
	store(b, d, [32]byte{})
}
