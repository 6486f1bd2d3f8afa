// Package decmpfs reads files whose contents macOS keeps packed, in an attribute or in pieces in the resource fork
// (Darwin's sys/decmpfs.h; all of it is little-endian but the head of a resource fork). HFS Plus and APFS share it.
package decmpfs

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/lzfse"
	"twinshelf/internal/span"
)

// Name is the attribute that says how the contents of a file are packed. Such files are marked by Flag among the flags
// that their owner set.
const (
	Name = "com.apple.decmpfs"
	Flag = 1 << 5
)

const (
	packedMagic  = "fpmc"
	packedKind   = 4
	packedSize   = 8
	packedHead   = 16
	packedPiece  = 64 << 10 // of the contents, bytes
	mostInHead   = 1 << 20
	mostPiecesOf = 1 << 24

	resourceData = 0 // where the head of a resource fork says where its data begin
	resourceHead = 16
)

// How contents are packed, and where they are.
const (
	plainHere, zlibHere, zlibThere   = 1, 3, 4
	lzvnHere, lzvnThere              = 7, 8
	plainToo, plainThere             = 9, 10
	lzfseHere, lzfseThere            = 11, 12
	elsewhere, rawLZVN, rawLZFSE     = 5, 0x06, 0xFF
	rawZlib, rawZlibMask, rawPlain   = 0x0F, 0x0F, 0xCC
	zlibTable, offsetWidth, pairSize = 4, 4, 8
)

// Packing is what a file says of its packed contents.
type Packing struct {
	Size int64 // of the contents, bytes
	kind uint32
	here []byte // what stands in the attribute
}

// Parse takes the value of the attribute apart.
func Parse(b []byte) (Packing, error) {
	if len(b) < packedHead || string(b[:len(packedMagic)]) != packedMagic || len(b) > mostInHead {
		return Packing{}, fmt.Errorf("what is said of its packed contents isn't known (%d bytes)", len(b))
	}
	le := binary.LittleEndian
	return Packing{kind: le.Uint32(b[packedKind:]), Size: int64(min(le.Uint64(b[packedSize:]), 1<<62)),
		here: b[packedHead:]}, nil
}

// Open gives the contents. resource gives the resource fork, where they are there.
func (p Packing) Open(resource func() (fsys.Contents, error)) (fsys.Contents, error) {
	switch p.kind {
	case plainHere, zlibHere, lzvnHere, plainToo, lzfseHere:
		b, err := unpackPiece(p.kind, p.here, p.Size)
		if err != nil {
			return nil, err
		}
		return &fsys.Resident{Bytes: b}, nil
	case zlibThere, lzvnThere, plainThere, lzfseThere:
		res, err := resource()
		if err != nil {
			return nil, fmt.Errorf("its packed pieces: %w", err)
		}
		return p.pieces(res)
	case elsewhere:
		return nil, &fsys.Unreadable{Why: "its contents are kept elsewhere by its system"}
	}
	return nil, &fsys.Unreadable{Why: fmt.Sprintf("its contents are packed in a way that isn't known here "+
		"(%d)", p.kind)}
}

// unpackPiece unpacks what gives size bytes.
func unpackPiece(kind uint32, b []byte, size int64) ([]byte, error) {
	if size > mostInHead {
		return nil, fmt.Errorf("a piece of %d bytes can't be packed in one", size)
	}
	if len(b) == 0 {
		if size == 0 {
			return nil, nil
		}
		return nil, errors.New("a packed piece is empty")
	}
	var out []byte
	var err error
	switch first := b[0]; {
	case kind == plainHere:
		out = b
	case kind == zlibHere || kind == zlibThere:
		if first&rawZlibMask == rawZlib {
			out = b[1:]
			break
		}
		out, err = inflate(b, size)
	case kind == lzvnHere || kind == lzvnThere:
		if first == rawLZVN {
			out = b[1:]
			break
		}
		out, err = lzfse.LZVN(b, int(size))
	case kind == plainToo || kind == plainThere:
		out = b[1:]
	default:
		if first == rawLZFSE {
			out = b[1:]
			break
		}
		out, err = lzfse.Decode(b, int(size))
	}
	if err == nil && int64(len(out)) < size {
		err = fmt.Errorf("a packed piece ends after %d of %d bytes", len(out), size)
	}
	if err != nil {
		return nil, err
	}
	return out[:size], nil
}

func inflate(b []byte, size int64) ([]byte, error) {
	z, err := zlib.NewReader(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(z, size))
}

// pieces is the contents of a file that is packed piece by piece into its resource fork.
func (p Packing) pieces(res fsys.Contents) (fsys.Contents, error) {
	n := (p.Size + packedPiece - 1) / packedPiece
	if n > mostPiecesOf || n*offsetWidth > res.Size() {
		return nil, fmt.Errorf("%d packed pieces are claimed in %d bytes", n, res.Size())
	}
	c := &packedFile{p: p, res: res, held: -1}
	var err error
	if p.kind == zlibThere {
		err = c.readPairs(int(n))
	} else {
		err = c.readOffsets(int(n))
	}
	if err != nil {
		return nil, fmt.Errorf("its packed pieces: %w", err)
	}
	return c, nil
}

// packedFile is contents in pieces.
type packedFile struct {
	p      Packing
	res    fsys.Contents
	places []span.Span // of the pieces in the resource fork

	mu    sync.Mutex // guards what follows
	held  int        // the piece that was unpacked last
	piece []byte
}

// readPairs reads a table of pairs: where a piece begins, counted from the table's start, and how long it is.
func (c *packedFile) readPairs(n int) error {
	head := make([]byte, resourceHead)
	if err := disk.ReadFull(c.res, head, 0); err != nil {
		return err
	}
	at := int64(binary.BigEndian.Uint32(head[resourceData:])) + zlibTable
	b := make([]byte, zlibTable+n*pairSize)
	if err := disk.ReadFull(c.res, b, at); err != nil {
		return err
	}
	le := binary.LittleEndian
	if have := le.Uint32(b); have != uint32(n) {
		return fmt.Errorf("there are %d, and %d should be", have, n)
	}
	for e := b[zlibTable:]; len(e) >= pairSize; e = e[pairSize:] {
		if err := c.add(span.At(at+int64(le.Uint32(e)), int64(le.Uint32(e[4:])))); err != nil {
			return err
		}
	}
	return nil
}

// readOffsets reads a table of where pieces begin and the last one ends.
func (c *packedFile) readOffsets(n int) error {
	b := make([]byte, (n+1)*offsetWidth)
	if err := disk.ReadFull(c.res, b, 0); err != nil {
		return err
	}
	for i := range n {
		from, to := binary.LittleEndian.Uint32(b[4*i:]), binary.LittleEndian.Uint32(b[4*i+4:])
		if err := c.add(span.Span{Start: int64(from), End: int64(to)}); err != nil {
			return err
		}
	}
	return nil
}

// add takes a piece; none is packed into more than what it holds and a little.
func (c *packedFile) add(sp span.Span) error {
	if sp.Len() <= 0 || sp.Len() > packedPiece+packedPiece/8 || sp.End > c.res.Size() {
		return fmt.Errorf("a piece lies at %s of %d bytes", sp, c.res.Size())
	}
	c.places = append(c.places, sp)
	return nil
}

func (c *packedFile) Size() int64 { return c.p.Size }

// Data is all of it: packed files have no holes.
func (c *packedFile) Data() span.Set { return span.Of(span.Span{End: c.p.Size}) }

// Spans is where the pieces lie.
func (c *packedFile) Spans() []span.Span { return c.res.Spans() }

// Plain is nowhere.
func (c *packedFile) Plain() []span.Span { return nil }

// ReadAt fills b from byte off of the contents.
func (c *packedFile) ReadAt(b []byte, off int64) (n int, err error) {
	if off < 0 || off >= c.p.Size {
		return 0, io.EOF
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for n < len(b) && off < c.p.Size {
		if err := c.hold(int(off / packedPiece)); err != nil {
			return n, err
		}
		k := copy(b[n:], c.piece[off%packedPiece:])
		n, off = n+k, off+int64(k)
	}
	if n < len(b) {
		err = io.EOF
	}
	return n, err
}

// hold unpacks a piece.
func (c *packedFile) hold(i int) error {
	if i == c.held {
		return nil
	}
	sp := c.places[i]
	b := make([]byte, sp.Len())
	if err := disk.ReadFull(c.res, b, sp.Start); err != nil {
		return err
	}
	piece, err := unpackPiece(c.p.kind, b, min(packedPiece, c.p.Size-int64(i)*packedPiece))
	if err != nil {
		return fmt.Errorf("piece %d: %w", i, err)
	}
	c.held, c.piece = i, piece
	return nil
}
