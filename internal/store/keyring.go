package store

import (
	"crypto/cipher"
	"crypto/rand"
	"encoding/binary"

	"github.com/zeebo/blake3"
	"golang.org/x/crypto/chacha20poly1305"
	"golang.org/x/sys/cpu"
)

// Suites of a shelf. docs/shelf-format.md, "Suites".
const (
	// SuiteOpen: nothing is encrypted, names are plain hashes.
	SuiteOpen = 0
	// SuiteChaCha: XChaCha20-Poly1305, names are keyed hashes.
	SuiteChaCha = 1
	// SuiteAES: XAES-256-GCM, names are keyed hashes. Twice as fast where the processor knows AES, and slow elsewhere.
	SuiteAES = 2
)

// sealingSuite is the suite of new sealed shelves on this machine.
func sealingSuite() uint16 {
	if cpu.X86.HasAES && cpu.X86.HasPCLMULQDQ || cpu.ARM64.HasAES && cpu.ARM64.HasPMULL {
		return SuiteAES
	}
	return SuiteChaCha
}

// keyring names blocks and seals what a shelf keeps. The zero value is that of an open shelf.
type keyring struct {
	names  *[32]byte // key of block names; nil in an open shelf
	hidden *[32]byte // key of folder names
	aead   cipher.AEAD
	number uint16 // of the suite
}

const masterLen = 32

// ringOf derives the keys of a sealed shelf from its master key.
func ringOf(suite uint16, master []byte) (*keyring, error) {
	derive := func(context string) *[32]byte {
		var k [32]byte
		blake3.DeriveKey("twinshelf 2026 shelf format 1 "+context, master, k[:])
		return &k
	}
	var aead cipher.AEAD
	var err error
	switch suite {
	case SuiteChaCha:
		aead, err = chacha20poly1305.NewX(derive("contents")[:])
	case SuiteAES:
		aead, err = newXAES(derive("contents by AES")[:])
	default:
		err = ErrNewer
	}
	if err != nil {
		return nil, err
	}
	return &keyring{derive("block names"), derive("folder names"), aead, suite}, nil
}

func (k *keyring) sealed() bool { return k != nil && k.aead != nil }

func (k *keyring) suite() uint16 {
	if k.sealed() {
		return k.number
	}
	return SuiteOpen
}

func keyed(key *[32]byte, b []byte) (n Name) {
	h, err := blake3.NewKeyed(key[:])
	if err != nil {
		panic(err) // only for keys that aren't 32 bytes
	}
	_, _ = h.Write(b)
	h.Sum(n[:0])
	return n
}

// nameOf is the name of the block with these bytes.
func (k *keyring) nameOf(plain []byte) Name {
	if !k.sealed() {
		return blake3.Sum256(plain)
	}
	return keyed(k.names, plain)
}

// seal encrypts b in place and gives the nonce and the tag. In an open shelf nothing happens. What lies after b in its
// array is overwritten; without room for a tag there the work is done in a copy.
func (k *keyring) seal(b, extra []byte) (nonce [nonceRoom]byte, tag [tagRoom]byte) {
	if !k.sealed() {
		return
	}
	_, _ = rand.Read(nonce[:])
	k.sealWith(nonce, b, extra, &tag)
	return
}

func (k *keyring) sealWith(nonce [nonceRoom]byte, b, extra []byte, tag *[tagRoom]byte) {
	out := k.aead.Seal(b[:0], nonce[:], b, extra)
	if len(b) > 0 && &out[0] != &b[0] {
		copy(b, out[:len(b)])
	}
	copy(tag[:], out[len(b):])
}

// unseal decrypts b in place; false when it isn't what was sealed.
func (k *keyring) unseal(nonce [nonceRoom]byte, tag [tagRoom]byte, b, extra []byte) bool {
	if !k.sealed() {
		return true
	}
	whole := append(b, tag[:]...) // in place where there is room
	out, err := k.aead.Open(whole[:0], nonce[:], whole, extra)
	if err != nil {
		return false
	}
	copy(b, out)
	return true
}

// numbered is the nonce of piece n of a file: no two pieces of one file share one.
func numbered(nonce [nonceRoom]byte, n uint32) [nonceRoom]byte {
	at := nonce[nonceRoom-4:]
	binary.BigEndian.PutUint32(at, binary.BigEndian.Uint32(at)^(n+1))
	return nonce
}
