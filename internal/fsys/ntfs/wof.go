package ntfs

import (
	"encoding/binary"
	"fmt"
	"io"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/lzx"
	"twinshelf/internal/span"
	"twinshelf/internal/xpress"
)

// What is said of a file that its system packed ([MS-FSCC] 2.1.2, IO_REPARSE_TAG_WOF; the structures are those of the
// Windows SDK's wofapi.h): which provider has its contents, and how that packed them. They are in a stream of their
// own, in pieces, after a table of where all but the first begin.
const (
	wofProvider  = 12
	wofVersion   = 16
	wofAlgorithm = 20
	wofLen       = 24
	wofByFile    = 2
	wofVersion1  = 1
	wofStream    = "WofCompressedData"
	// Of files from here on the table has entries of eight bytes, and of four before.
	wofLarge  = 1 << 32
	mostPiece = lzx.Window
)

// wofAlgorithms are how pieces are packed, by number.
var wofAlgorithms = map[uint32]struct {
	piece  int64 // bytes
	name   string
	decode func(dst, src []byte) error
}{
	0: {4 << 10, "XPRESS, 4 KiB", xpress.Decode},
	1: {lzx.Window, "LZX, 32 KiB", lzx.Decode},
	2: {8 << 10, "XPRESS, 8 KiB", xpress.Decode},
	3: {16 << 10, "XPRESS, 16 KiB", xpress.Decode},
}

// wof is a file that its system packed.
type wof struct {
	size   int64 // bytes
	piece  int64
	decode func(dst, src []byte) error
	stored fsys.Contents // the stream with the pieces

	mu   sync.Mutex // guards what follows
	held int64      // the piece in buf; -1 for none
	buf  []byte
}

// packedBySystem says how a file's contents are packed, in words; empty where they aren't.
func packedBySystem(v *Volume, rec *record) string {
	if flags, _ := standardOf(rec); flags&fileReparse == 0 {
		return ""
	}
	tag, b := v.reparseOf(rec)
	if tag != tagWOF || len(b) < wofLen {
		return ""
	}
	le := binary.LittleEndian
	if how, known := wofAlgorithms[le.Uint32(b[wofAlgorithm:])]; known && le.Uint32(b[wofProvider:]) == wofByFile &&
		le.Uint32(b[wofVersion:]) == wofVersion1 {
		return "packed by its system (" + how.name + ")"
	}
	return ""
}

// unpacked gives the contents of a file that its system packed, of so many bytes.
func unpacked(v *Volume, rec *record, size int64) (fsys.Contents, error) {
	_, b := v.reparseOf(rec)
	how := wofAlgorithms[binary.LittleEndian.Uint32(b[wofAlgorithm:])]
	s, err := v.stream(rec, attrData, wofStream)
	if err != nil {
		return nil, err
	}
	if !s.found {
		return nil, fsys.Contradiction(rec.at, "a file that its system packed lacks what was packed")
	}
	stored, err := v.contents(s, rec.at)
	if err != nil {
		return nil, err
	}
	w := &wof{size: size, piece: how.piece, decode: how.decode, stored: stored, held: -1}
	if size < 0 || size > 0 && w.table() > stored.Size() {
		return nil, fsys.Contradiction(rec.at, "a file of %d bytes is packed into %d", size, stored.Size())
	}
	return w, nil
}

// entry is how long an entry of the table is, in bytes; table how long it is.
func (w *wof) entry() int64 {
	if w.size >= wofLarge {
		return 8
	}
	return 4
}

func (w *wof) table() int64 { return ((w.size+w.piece-1)/w.piece - 1) * w.entry() }

// place is where a piece lies in the stream.
func (w *wof) place(n int64) (span.Span, error) {
	out := span.Span{Start: w.table(), End: w.stored.Size()}
	base := out.Start
	for i, to := range []*int64{&out.Start, &out.End} {
		at := (n - 1 + int64(i)) * w.entry()
		if at < 0 || at >= base {
			continue
		}
		b := make([]byte, 8)
		if err := disk.ReadFull(w.stored, b[:w.entry()], at); err != nil {
			return out, err
		}
		*to = base + int64(min(binary.LittleEndian.Uint64(b), 1<<60))
	}
	if out.Empty() || out.End > w.stored.Size() || out.Len() > mostPiece {
		return out, fmt.Errorf("piece %d would lie at %s of what is packed", n, out)
	}
	return out, nil
}

// Size is in bytes.
func (w *wof) Size() int64 { return w.size }

// ReadAt unpacks what is asked for.
func (w *wof) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off >= w.size {
		return 0, io.EOF
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	want := b[:min(int64(len(b)), w.size-off)]
	for done := 0; done < len(want); {
		at := off + int64(done)
		if err := w.hold(at / w.piece); err != nil {
			return done, fmt.Errorf("at byte %d of the file: %w", at, err)
		}
		done += copy(want[done:], w.buf[at%w.piece:])
	}
	if len(want) < len(b) {
		return len(want), io.EOF
	}
	return len(want), nil
}

// hold unpacks a piece.
func (w *wof) hold(n int64) error {
	if w.held == n {
		return nil
	}
	at, err := w.place(n)
	if err != nil {
		return err
	}
	src := make([]byte, at.Len())
	if err := disk.ReadFull(w.stored, src, at.Start); err != nil {
		return err
	}
	w.held, w.buf = -1, make([]byte, min(w.piece, w.size-n*w.piece))
	if len(src) > len(w.buf) {
		return fmt.Errorf("piece %d of %d bytes is packed into %d", n, len(w.buf), len(src))
	}
	if len(src) == len(w.buf) { // it isn't packed
		copy(w.buf, src)
	} else if err := w.decode(w.buf, src); err != nil {
		return err
	}
	w.held = n
	return nil
}

// Data is all of it.
func (w *wof) Data() span.Set { return span.Of(span.Span{End: w.size}) }

// Spans is where the packed pieces lie.
func (w *wof) Spans() []span.Span { return w.stored.Spans() }
