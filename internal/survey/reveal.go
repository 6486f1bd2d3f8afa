package survey

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
)

// ErrNothingUnlocked means that no encrypted part of a disk is unlocked.
var ErrNothingUnlocked = errors.New("no encrypted part of it is unlocked: unlock it first")

// Revealed is a disk as it would be without the encryption of those parts that are unlocked: their bytes are what their
// volumes hold. All others are as they are on the disk that it is made of.
type Revealed struct {
	disk.Device
	// Parts are the revealed ones, by number, and what each was.
	Parts []RevealedPart

	src   disk.Mapped
	plain *Mapped // of what is revealed
}

// RevealedPart is an encrypted part whose contents are shown.
type RevealedPart struct {
	Number int
	Title  string
	At     span.Span
}

var (
	_ disk.Mapped      = (*Revealed)(nil)
	_ disk.RangeMapped = (*Revealed)(nil)
)

// Reveal shows a disk without the encryption of what is unlocked on it.
func Reveal(ctx context.Context, src disk.Mapped) (*Revealed, error) {
	s, err := Of(ctx, src, nil)
	if err != nil {
		return nil, err
	}
	r := &Revealed{src: src}
	shown := &shown{Device: src}
	for i := range s.Areas {
		a := &s.Areas[i]
		l, ok := a.Content.Volume.(fsys.Layered)
		if a.Part == nil || !ok || !families.Encrypted(a.Content.Volume) {
			continue
		}
		in := l.Inner()
		if len(in) != 1 || in[0].Fixed == "" || in[0].Device == nil { // encrypted volumes in something else
			continue
		}
		if in[0].Doubt != "" {
			return nil, fmt.Errorf("%s can't be written without its encryption: %s", a.Title(), in[0].Doubt)
		}
		r.Parts = append(r.Parts, RevealedPart{a.Part.Number, a.Title(), a.Span})
		shown.at, shown.inner = append(shown.at, a.Span), append(shown.inner, in[0].Device)
	}
	if len(r.Parts) == 0 {
		return nil, ErrNothingUnlocked
	}
	r.Device = shown
	plain, err := Of(ctx, shown, nil)
	if err != nil {
		return nil, err
	}
	for i := range plain.Areas {
		a := &plain.Areas[i]
		p := r.part(a.Span.Start)
		if p == nil || a.Part == nil {
			continue
		}
		if err := a.tellUsed(ctx, shown); err != nil {
			return nil, fmt.Errorf("what is used in %s can't be told once it is unlocked: %w", p.Title, err)
		}
	}
	r.plain = plain.Mapped()
	return r, nil
}

// tellUsed says why what is used of the area can't be told. Of a volume that was cut off it is what is kept as after a
// power cut; one whose system sleeps is left alone.
func (a *Area) tellUsed(ctx context.Context, d disk.Device) error {
	if a.Content.Maps {
		return nil
	}
	if rest, ok := a.Content.Rest(); !ok || rest.Quiet() || rest.Asleep() {
		return errors.New(a.Content.Why)
	}
	c := a.Content
	if err := c.AsCut(ctx); err != nil {
		return err
	}
	a.take(d, c)
	return nil
}

// part is the revealed part that holds a byte of the disk; nil for none.
func (r *Revealed) part(off int64) *RevealedPart {
	for i := range r.Parts {
		if p := &r.Parts[i]; off >= p.At.Start && off < p.At.End {
			return p
		}
	}
	return nil
}

// Examined says why the accounts of a part aren't believed; see fit.Examined.
func (r *Revealed) Examined(part int) (why string, known bool) {
	for _, p := range r.Parts {
		if p.Number == part {
			return r.plain.Examined(part)
		}
	}
	if e, ok := r.src.(interface {
		Examined(part int) (why string, known bool)
	}); ok {
		return e.Examined(part)
	}
	return "", false
}

// Pieces are those of the disk, and in the revealed parts what their volumes use.
func (r *Revealed) Pieces() iter.Seq2[disk.Piece, error] { return r.PiecesIn(span.Span{End: r.Size()}) }

// PiecesIn yields the pieces that touch sp.
func (r *Revealed) PiecesIn(sp span.Span) iter.Seq2[disk.Piece, error] {
	return func(yield func(disk.Piece, error) bool) {
		at := sp.Start
		for at < sp.End {
			end, pieces := r.until(at, sp.End)
			for p, err := range pieces(span.Span{Start: at, End: end}) {
				if err == nil {
					p = within(p, span.Span{Start: at, End: end})
				}
				if err == nil && p.Empty() {
					continue
				}
				if !yield(p, err) || err != nil {
					return
				}
			}
			at = end
		}
	}
}

// until is how far from a byte on the pieces are of one kind, and which.
func (r *Revealed) until(at, end int64) (int64, func(span.Span) iter.Seq2[disk.Piece, error]) {
	if p := r.part(at); p != nil {
		return min(end, p.At.End), r.plain.PiecesIn
	}
	for _, p := range r.Parts {
		if p.At.Start > at {
			end = min(end, p.At.Start)
		}
	}
	if m, ok := r.src.(disk.RangeMapped); ok {
		return end, m.PiecesIn
	}
	return end, func(span.Span) iter.Seq2[disk.Piece, error] { return r.src.Pieces() }
}

// within cuts a piece to a span; what is cut has no name any more.
func within(p disk.Piece, sp span.Span) disk.Piece {
	if sp.Covers(p.Span) {
		return p
	}
	return disk.Piece{Span: p.Span.Intersect(sp), Kind: p.Kind}
}

// shown is a device with other bytes in some places.
type shown struct {
	disk.Device
	at    []span.Span
	inner []disk.Device
}

// ReadAt reads from the device, and in the places from what is shown there. Beyond the end of that zeros are read.
func (s *shown) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		here := off + int64(done)
		end := off + int64(len(p))
		from, base := disk.Device(s.Device), int64(0)
		for i, at := range s.at {
			switch {
			case here >= at.Start && here < at.End:
				from, base, end = s.inner[i], at.Start, min(end, at.End)
			case at.Start > here:
				end = min(end, at.Start)
			}
		}
		to := p[done : done+int(end-here)]
		n, err := from.ReadAt(to, here-base)
		if errors.Is(err, io.EOF) && base > 0 && n < len(to) && here-base+int64(n) >= from.Size() {
			clear(to[n:])
			n, err = len(to), nil
		}
		if done += n; err != nil && n < len(to) {
			return done, err
		}
	}
	return done, nil
}
