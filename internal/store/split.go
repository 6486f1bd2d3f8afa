package store

import (
	"context"
	"encoding/hex"
	"fmt"
	"slices"

	"twinshelf/internal/store/backend"
)

// A split document has two payloads: a description that can be read alone, and after it a tail that is needed less
// often. The description says what proves the tail. docs/shelf-format.md, "Twins".

// TailProof is what a description has to say of the tail after it.
type TailProof struct {
	Sum string // hash of the tail as it stands in the file
	Tag string // what authenticates it in a sealed store; otherwise empty
}

// EncodeSplit frames a split document; both payloads are used up. describe makes the description, with the proof in it.
func (f *files) EncodeSplit(kind Kind, tail []byte, describe func(TailProof) ([]byte, error)) ([]byte, error) {
	k := f.ring
	nonce := k.freshNonce()
	var proof TailProof
	if k.sealed() {
		var tag [tagRoom]byte
		k.sealWith(numbered(nonce, 0), tail, nil, &tag)
		proof.Tag = hex.EncodeToString(tag[:])
	}
	proof.Sum = Checksum(tail).String()
	p, err := describe(proof)
	if err != nil {
		return nil, err
	}
	h := header{kind: kind, suite: k.suite(), length: int64(len(p) + len(tail)), nonce: nonce, dir: int64(len(p))}
	if k.sealed() {
		k.sealWith(nonce, p, h.bound(), &h.tag)
	}
	h.sum = Checksum(p)
	return slices.Concat(h.encode(), p, tail), nil
}

// Split is an open split document.
type Split struct {
	Description []byte
	TailLen     int64 // bytes

	file string
	head header
	r    *backend.Handle
	ring *keyring
}

// firstRead is how much of a split document is read at once: most descriptions fit.
const firstRead = 16 << 10

// OpenSplit opens the split document of a file at its place, or at that of its copy. Errors are *HurtError, ErrNewer or
// the medium's.
func (f *files) OpenSplit(ctx context.Context, at, file string, kind Kind, limit int64) (*Split, error) {
	r, err := backend.Open(ctx, f.b, at)
	if err != nil {
		return nil, fmt.Errorf("%s can't be read: %w", file, err)
	}
	d := &Split{file: file, r: r, ring: f.ring}
	if err := d.readDescription(ctx, kind, limit); err != nil {
		r.Close()
		return nil, err
	}
	return d, nil
}

func (d *Split) readDescription(ctx context.Context, kind Kind, limit int64) (err error) {
	b := make([]byte, min(d.r.Size(), firstRead))
	if n, _ := d.r.ReadAt(ctx, b, 0); n < len(b) {
		return orCancelled(ctx, &HurtError{d.file, 0, "it can't be read"})
	}
	h, err := decodeHeader(d.file, b, kind)
	if err != nil {
		return err
	}
	if err := d.ring.fits(d.file, h); err != nil {
		return err
	}
	if h.length != d.r.Size()-headerLen || h.dir > h.length || h.dir < 0 || h.length > limit {
		what := fmt.Sprintf("it has %d bytes and describes %d", d.r.Size(), h.length+headerLen)
		return &HurtError{d.file, headerLen, what}
	}
	p := make([]byte, h.dir, h.dir+tagRoom)
	if n := copy(p, b[headerLen:]); n < len(p) {
		if k, _ := d.r.ReadAt(ctx, p[n:], headerLen+int64(n)); k < len(p)-n {
			return orCancelled(ctx, &HurtError{d.file, headerLen, "its description can't be read"})
		}
	}
	if Checksum(p) != h.sum {
		return &HurtError{d.file, headerLen, "its checksum is wrong"}
	}
	if !d.ring.unseal(h.nonce, h.tag, p, h.bound()) {
		return &HurtError{d.file, headerLen, "it isn't what this shelf sealed"}
	}
	d.Description, d.head, d.TailLen = p, h, h.length-h.dir
	return nil
}

// orCancelled gives the context's error where it has ended: what couldn't be read then isn't hurt.
func orCancelled(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

// Hurt is the error of a description that makes no sense.
func (d *Split) Hurt(what string) error { return &HurtError{d.file, headerLen, what} }

// Tail reads the tail.
func (d *Split) Tail(ctx context.Context, proof TailProof) ([]byte, error) {
	from := headerLen + d.head.dir
	tail := make([]byte, d.TailLen, d.TailLen+tagRoom)
	if n, _ := d.r.ReadAt(ctx, tail, from); n < len(tail) || Checksum(tail).String() != proof.Sum {
		return nil, orCancelled(ctx, &HurtError{d.file, from, "the names of its block map aren't what was written"})
	}
	if d.ring.sealed() {
		tag, err := hex.DecodeString(proof.Tag)
		if err != nil || len(tag) != tagRoom ||
			!d.ring.unseal(numbered(d.head.nonce, 0), [tagRoom]byte(tag), tail, nil) {
			return nil, &HurtError{d.file, from, "the names of its block map aren't what this shelf sealed"}
		}
	}
	return tail, nil
}

// Close closes the document's file.
func (d *Split) Close() error { return d.r.Close() }
