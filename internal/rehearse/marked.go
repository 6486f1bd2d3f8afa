package rehearse

import (
	"bytes"
	"fmt"
	"iter"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
)

const (
	// MostMark is how long the text of a mark may be, in bytes.
	MostMark = 100
	// markUnit is the length of what is repeated, in bytes: the text, line by line, begins anew in each.
	markUnit = 512
	// markStep is how long the pieces are that are nothing but marks, in bytes.
	markStep = 1 << 20
)

// marked is a source with a text in places that it couldn't give when it was captured. Its pieces have no names there.
type marked struct {
	disk.Mapped
	places span.Set
	unit   []byte
}

// Mark puts a text into places of a source. The text has 1 to MostMark printable ASCII characters.
func Mark(source disk.Mapped, places span.Set, text string) (disk.Mapped, error) {
	odd := func(r rune) bool { return r < ' ' || r > '~' }
	if text == "" || len(text) > MostMark || strings.ContainsFunc(text, odd) {
		return nil, fmt.Errorf("%q can't stand in gaps: write 1 to %d plain letters, digits and signs", text, MostMark)
	}
	if d, ok := source.(*shelf.Disk); ok {
		source = enduring{d}
	}
	return &marked{source, places, markOf(text)}, nil
}

func markOf(text string) []byte {
	line := text + "\n"
	return []byte(strings.Repeat(line, markUnit/len(line)+1)[:markUnit])
}

// MarkIn is the text that Mark put into a place, which begins with b; empty where none was.
func MarkIn(b []byte) string {
	text, _, ok := bytes.Cut(b, []byte("\n"))
	if !ok || len(text) == 0 || len(text) > MostMark || len(b) < markUnit ||
		!bytes.Equal(b[:markUnit], markOf(string(text))) {
		return ""
	}
	return string(text)
}

func (m *marked) ReadAt(b []byte, off int64) (int, error) {
	n, err := m.Mapped.ReadAt(b, off)
	for sp := range m.places.Clip(span.At(off, int64(n))).All() {
		for at := sp.Start; at < sp.End; {
			at += int64(copy(b[at-off:sp.End-off], m.unit[at%markUnit:]))
		}
	}
	return n, err
}

func (m *marked) Pieces() iter.Seq2[disk.Piece, error] { return m.PiecesIn(span.Span{End: m.Size()}) }

func (m *marked) PiecesIn(sp span.Span) iter.Seq2[disk.Piece, error] {
	return func(yield func(disk.Piece, error) bool) {
		pieces := m.Mapped.Pieces()
		if r, ok := m.Mapped.(disk.RangeMapped); ok {
			pieces = r.PiecesIn(sp)
		}
		for p, err := range pieces {
			if err == nil && p.Overlaps(sp) && m.places.Overlaps(p.Span) {
				if !m.cut(p, yield) {
					return
				}
			} else if !yield(p, err) {
				return
			}
		}
	}
}

// cut yields a piece with marks in it.
func (m *marked) cut(p disk.Piece, yield func(disk.Piece, error) bool) bool {
	if p.Kind == disk.Data {
		return yield(disk.Piece{Span: p.Span, Kind: disk.Data}, nil)
	}
	at := p.Start
	for hit := range m.places.Clip(p.Span).All() {
		if at < hit.Start && !yield(disk.Piece{Span: span.Span{Start: at, End: hit.Start}, Kind: p.Kind}, nil) {
			return false
		}
		for part := range disk.Chunks(hit, markStep) {
			if !yield(disk.Piece{Span: part, Kind: disk.Data}, nil) {
				return false
			}
		}
		at = hit.End
	}
	return at == p.End || yield(disk.Piece{Span: span.Span{Start: at, End: p.End}, Kind: p.Kind}, nil)
}

// ReadPiece and NameOf are the source's: a piece with marks has no name.
func (m *marked) ReadPiece(p disk.Piece, dst []byte) ([]byte, error) {
	r, ok := m.Mapped.(PieceReader)
	if !ok {
		return nil, fmt.Errorf("the source has no piece %s", p.Name)
	}
	return r.ReadPiece(p, dst)
}

func (m *marked) NameOf(plain []byte) string {
	if n, ok := m.Mapped.(Namer); ok {
		return n.NameOf(plain)
	}
	return ""
}

// Examined is what the source says; see fit.Examined.
func (m *marked) Examined(part int) (why string, known bool) {
	if e, ok := m.Mapped.(interface {
		Examined(part int) (why string, known bool)
	}); ok {
		return e.Examined(part)
	}
	return "", false
}
