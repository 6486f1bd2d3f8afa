package store

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"

	"github.com/zeebo/blake3"
)

// Version is the format version that this package writes and the highest it reads.
const Version = 1

// HeaderLen is the length of the header that every file of a store but locks begins with, in bytes.
const HeaderLen = headerLen

const (
	fileMagic  = "TWINSHLF"
	headerLen  = 128
	nonceRoom  = 24
	tagRoom    = 16
	offVersion = 8
	offKind    = 10
	offSuite   = 12
	offHdrLen  = 14
	offLength  = 16
	offNonce   = 24
	offTag     = offNonce + nonceRoom
	offSum     = offTag + tagRoom
	offDir     = offSum + 32
	offCRC     = 124
)

// Kind says what a file of the store holds.
type Kind uint16

// The kinds of files; docs/shelf-format.md has their layouts.
const (
	kindHead Kind = iota + 1
	kindPack
	KindTwin
	kindIndex
	KindProof
	KindNote // rules, marks, the journal and what checks found
	kindParity
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Name is the name of a block: in an open shelf the BLAKE3 hash of its plain bytes.
type Name [32]byte

func (n Name) String() string { return hex.EncodeToString(n[:]) }

// ParseName reads the hex form of a name.
func ParseName(s string) (n Name, err error) {
	b, err := hex.DecodeString(s)
	if err != nil || len(b) != len(n) {
		return n, fmt.Errorf("%q is not the name of a block", s)
	}
	copy(n[:], b)
	return n, nil
}

// Checksum is the hash of bytes as they stand in a file.
func Checksum(b []byte) Name { return blake3.Sum256(b) }

// ErrNewer means that a shelf was written by a newer version of the format.
var ErrNewer = errors.New("written by a newer version of Twin Shelf")

// HurtError is a file of the store whose bytes aren't what was written.
type HurtError struct {
	File   string // relative to the store
	Offset int64  // bytes
	What   string
}

func (h *HurtError) Error() string {
	return fmt.Sprintf("%s is damaged at byte %d: %s", h.File, h.Offset, h.What)
}

// header is the 128 bytes that every file of a store but locks begins with.
type header struct {
	kind   Kind
	suite  uint16
	length int64 // of the payload in bytes; 0 for packs
	nonce  [nonceRoom]byte
	tag    [tagRoom]byte
	sum    Name  // of the payload as it stands, or of an index file's directory; zero for packs
	dir    int64 // length of an index file's directory in bytes
}

func (h header) encode() []byte {
	b := make([]byte, headerLen)
	le := binary.LittleEndian
	copy(b, fileMagic)
	le.PutUint16(b[offVersion:], Version)
	le.PutUint16(b[offKind:], uint16(h.kind))
	le.PutUint16(b[offSuite:], h.suite)
	le.PutUint16(b[offHdrLen:], headerLen)
	le.PutUint64(b[offLength:], uint64(h.length))
	copy(b[offNonce:], h.nonce[:])
	copy(b[offTag:], h.tag[:])
	copy(b[offSum:], h.sum[:])
	le.PutUint64(b[offDir:], uint64(h.dir))
	le.PutUint32(b[offCRC:], crc32.Checksum(b[:offCRC], castagnoli))
	return b
}

// bound is what the tag of a file covers beside its payload.
func (h header) bound() []byte { return h.encode()[:offNonce] }

func decodeHeader(file string, b []byte, want Kind) (h header, err error) {
	if len(b) < headerLen || string(b[:8]) != fileMagic {
		return h, &HurtError{file, 0, "it doesn't begin like a file of a shelf"}
	}
	le := binary.LittleEndian
	// of every version, so that a flipped bit isn't taken for a newer one
	if crc32.Checksum(b[:offCRC], castagnoli) != le.Uint32(b[offCRC:]) {
		return h, &HurtError{file, 0, "the checksum of its header is wrong"}
	}
	if v := le.Uint16(b[offVersion:]); v > Version {
		return h, fmt.Errorf("%s has format %d, this program reads up to %d: %w; use that version to open it", file, v,
			Version, ErrNewer)
	}
	h = header{kind: Kind(le.Uint16(b[offKind:])), suite: le.Uint16(b[offSuite:]),
		length: int64(le.Uint64(b[offLength:])),
		nonce:  [nonceRoom]byte(b[offNonce:]), tag: [tagRoom]byte(b[offTag:]), sum: Name(b[offSum : offSum+32]),
		dir: int64(le.Uint64(b[offDir:]))}
	if h.suite > SuiteAES {
		return h, fmt.Errorf("%s is encrypted by suite %d, which this version doesn't know: %w", file, h.suite,
			ErrNewer)
	}
	if h.kind != want {
		return h, &HurtError{file, offKind, fmt.Sprintf("it is a file of kind %d, not %d", h.kind, want)}
	}
	return h, nil
}

// document frames a payload as a whole file, sealed where the shelf is. The payload's
// bytes are used up.
func (k *keyring) document(kind Kind, payload []byte) []byte {
	h := header{kind: kind, suite: k.suite(), length: int64(len(payload))}
	h.nonce, h.tag = k.seal(payload, h.bound())
	h.sum = Checksum(payload)
	return append(h.encode(), payload...)
}

// payload checks a whole file and gives its payload.
func (k *keyring) payload(file string, b []byte, kind Kind) ([]byte, error) {
	h, p, err := framed(file, b, kind)
	if err != nil {
		return nil, err
	}
	if err := k.fits(file, h); err != nil {
		return nil, err
	}
	if !k.unseal(h.nonce, h.tag, p, h.bound()) {
		return nil, &HurtError{file, headerLen, "it isn't what this shelf sealed"}
	}
	return p, nil
}

// fits says whether a file was written with the shelf's suite.
func (k *keyring) fits(file string, h header) error {
	if h.suite != k.suite() {
		return &HurtError{file, offSuite, fmt.Sprintf("it has suite %d and the shelf has %d", h.suite, k.suite())}
	}
	return nil
}

// framed checks a whole file as it stands, without any key.
func framed(file string, b []byte, kind Kind) (header, []byte, error) {
	h, err := decodeHeader(file, b, kind)
	if err != nil {
		return h, nil, err
	}
	p := b[headerLen:]
	if int64(len(p)) != h.length {
		return h, nil, &HurtError{file, headerLen, fmt.Sprintf("it has %d bytes of %d", len(p), h.length)}
	}
	if Checksum(p) != h.sum {
		return h, nil, &HurtError{file, headerLen, "its checksum is wrong"}
	}
	return h, p, nil
}

// plainDocument frames a payload that is readable without a key: the head.
func plainDocument(kind Kind, suite uint16, payload []byte) []byte {
	return append(header{kind: kind, suite: suite, length: int64(len(payload)), sum: Checksum(payload)}.encode(),
		payload...)
}
