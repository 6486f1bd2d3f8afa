package store

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/subtle"
	"fmt"
)

// xaes is XAES-256-GCM (C2SP, "XAES-256-GCM"): AES-256-GCM with nonces of 24 bytes, long enough to be random. The first
// 12 make a key of their own from the shelf's, the other 12 are the nonce under that one.
type xaes struct {
	block  cipher.Block
	subkey [aes.BlockSize]byte // K1 of CMAC (NIST SP 800-38B, section 6.1)
}

const gcmNonce = 12

// newXAES takes a key of 32 bytes.
func newXAES(key []byte) (cipher.AEAD, error) {
	if len(key) != 32 {
		return nil, fmt.Errorf("a key of %d bytes instead of 32", len(key))
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	x := &xaes{block: block}
	block.Encrypt(x.subkey[:], x.subkey[:])
	carry := byte(0)
	for i := len(x.subkey) - 1; i >= 0; i-- {
		b := x.subkey[i]
		x.subkey[i], carry = b<<1|carry, b>>7
	}
	x.subkey[len(x.subkey)-1] ^= 0x87 & -carry // of the bit that fell out; without a branch, as it is secret
	return x, nil
}

// under is AES-256-GCM with the key for nonces that begin with these 12 bytes.
func (x *xaes) under(nonce []byte) cipher.AEAD {
	var key [2 * aes.BlockSize]byte
	for i := range 2 {
		half := key[i*aes.BlockSize:][:aes.BlockSize]
		copy(half, []byte{0, byte(i + 1), 'X', 0})
		copy(half[4:], nonce[:gcmNonce])
		subtle.XORBytes(half, half, x.subkey[:])
		x.block.Encrypt(half, half)
	}
	block, err := aes.NewCipher(key[:])
	if err != nil {
		panic(err) // only for keys that aren't 32 bytes
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		panic(err) // only for blocks that aren't 16 bytes
	}
	return gcm
}

func (*xaes) NonceSize() int { return nonceRoom }

func (*xaes) Overhead() int { return tagRoom }

func (x *xaes) Seal(dst, nonce, plain, extra []byte) []byte {
	return x.under(nonce).Seal(dst, nonce[gcmNonce:], plain, extra)
}

func (x *xaes) Open(dst, nonce, sealed, extra []byte) ([]byte, error) {
	return x.under(nonce).Open(dst, nonce[gcmNonce:], sealed, extra)
}
