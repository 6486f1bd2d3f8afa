package store

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"slices"
	"sync"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"

	"twinshelf/internal/store/backend"
)

const (
	packFolder = "packs"
	openPacks  = 16
)

// packs reads blocks out of packs, a few of which are kept open, and looks whether packs are as they were written.
type packs struct {
	b       backend.Backend
	ring    *keyring
	files   *files
	heads   *heads
	locks   *locks
	index   *index
	decoder *zstd.Decoder

	mu    sync.Mutex
	open  map[string]*backend.Handle
	order []string // of opening
}

func newPacks(s *Store) (*packs, error) {
	d, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(MaxBlock), zstd.WithDecoderMaxWindow(MaxBlock),
		zstd.IgnoreChecksum(true))
	if err != nil {
		return nil, err
	}
	return &packs{b: s.b, ring: s.ring, files: s.files, heads: s.heads, locks: s.locks, index: s.index, decoder: d,
		open: map[string]*backend.Handle{}}, nil
}

func (p *packs) close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, h := range p.open {
		h.Close()
	}
	p.open, p.order = map[string]*backend.Handle{}, nil
	p.decoder.Close()
}

// handle gives an open pack.
func (p *packs) handle(ctx context.Context, id string) (*backend.Handle, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if h, ok := p.open[id]; ok {
		return h, nil
	}
	h, err := backend.Open(ctx, p.b, packPath(id))
	if err != nil {
		return nil, fmt.Errorf("%s can't be opened: %w", packPath(id), err)
	}
	// Handles in use elsewhere keep working: a file is closed by the runtime once nobody refers to it.
	if len(p.order) >= openPacks {
		delete(p.open, p.order[0])
		p.order = p.order[1:]
	}
	p.open[id] = h
	p.order = append(p.order, id)
	return h, nil
}

// letGo forgets an open pack.
func (p *packs) letGo(id string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.open, id)
	p.order = slices.DeleteFunc(p.order, func(o string) bool { return o == id })
}

// remove removes a pack with its parity.
func (p *packs) remove(ctx context.Context, id string) {
	p.letGo(id)
	_ = p.b.Delete(ctx, packPath(id))
	_ = p.b.Delete(ctx, parityPath(id))
}

// read reads the block at a place, and checks that it is that of the name.
func (p *packs) read(ctx context.Context, at place, n Name, dst []byte) ([]byte, error) {
	file := packPath(at.pack)
	if at.stored > 2*MaxBlock {
		return nil, &HurtError{file, at.offset, "a block of impossible size"}
	}
	h, err := p.handle(ctx, at.pack)
	if err != nil {
		return nil, err
	}
	buf := getBuffer(entryLen + int(at.stored) + tagRoom)
	defer putBuffer(buf)
	b := buf.b[:entryLen+int(at.stored)]
	if k, err := h.ReadAt(ctx, b, at.offset); k < len(b) {
		if errors.Is(err, fs.ErrNotExist) { // given back since it was opened
			p.letGo(at.pack)
			return nil, fmt.Errorf("%s isn't there any more: %w", file, err)
		}
		return nil, orCancelled(ctx, &HurtError{file, at.offset, fmt.Sprintf("a block can't be read (%v)", err)})
	}
	e, err := decodeEntry(file, at.offset, b)
	if err != nil {
		return nil, err
	}
	if e.name != n || e.stored != at.stored || int(e.plain) > p.heads.now.BlockSize {
		return nil, &HurtError{file, at.offset, "another block lies where the index says this one is"}
	}
	return p.unpack(file, at.offset, e, b, dst)
}

// unpack gives the plain bytes of an entry, whose stored bytes are used up.
func (p *packs) unpack(file string, off int64, e entryHeader, b, dst []byte) ([]byte, error) {
	if !p.ring.unseal(e.nonce, e.tag, b[entryLen:], b[:entryBound]) {
		return nil, &HurtError{file, off, "a block isn't what this shelf sealed"}
	}
	dst, err := p.decompress(e.codec, b[entryLen:], dst, int(e.plain))
	if errors.Is(err, ErrNewer) {
		return nil, fmt.Errorf("%s: a block is packed by %w", file, err)
	}
	if err != nil {
		return nil, &HurtError{file, off, "a block can't be decompressed (" + err.Error() + ")"}
	}
	if len(dst) != int(e.plain) || p.ring.nameOf(dst) != e.name {
		return nil, &HurtError{file, off, "a block's bytes don't hash to its name"}
	}
	return dst, nil
}

// decompress appends the plain bytes to dst[:0]; they may be at most limit.
func (p *packs) decompress(codec byte, stored, dst []byte, limit int) ([]byte, error) {
	switch codec {
	case codecRaw:
		return append(dst[:0], stored...), nil
	case codecZstd:
		return p.decoder.DecodeAll(stored, dst[:0])
	case codecS2:
		if n, err := s2.DecodedLen(stored); err != nil || n > limit {
			return nil, fmt.Errorf("its length of %d bytes is impossible", n)
		}
		return s2.Decode(dst[:cap(dst)], stored)
	}
	return nil, fmt.Errorf("method %d: %w", codec, ErrNewer)
}

// raw reads an entry as it stands, after checking its checksums.
func (p *packs) raw(ctx context.Context, r indexRecord) (entry []byte, plain int, err error) {
	file := packPath(r.pack)
	h, err := p.handle(ctx, r.pack)
	if err != nil {
		return nil, 0, err
	}
	b := make([]byte, entryLen+int(r.stored))
	if n, err := h.ReadAt(ctx, b, r.offset); n < len(b) {
		return nil, 0, orCancelled(ctx, &HurtError{file, r.offset, fmt.Sprintf("a block can't be read (%v)", err)})
	}
	e, err := decodeEntry(file, r.offset, b)
	if err != nil {
		return nil, 0, err
	}
	if e.name != r.name || e.stored != r.stored || crc32.Checksum(b[entryLen:], castagnoli) != e.dataCRC {
		return nil, 0, &HurtError{file, r.offset,
			"a needed block is damaged; nothing was removed: check and heal the shelf first"}
	}
	return b, int(e.plain), nil
}

// packRecords are the entries of a pack as its own table names them.
func packRecords(ctx context.Context, b backend.Backend, id string) ([]indexRecord, error) {
	h, err := backend.Open(ctx, b, packPath(id))
	if err != nil {
		return nil, err
	}
	defer h.Close()
	entries, err := readTable(h.At(ctx), h.Size(), packPath(id))
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return nil, err
	}
	records := make([]indexRecord, len(entries))
	for i, e := range entries {
		records[i] = indexRecord{e.name, place{id, e.offset, e.stored}}
	}
	return records, nil
}
