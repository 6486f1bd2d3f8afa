package disk

import (
	"bytes"
	"errors"
	"io"
	"iter"

	"twinshelf/internal/span"
)

var zeros = make([]byte, 1<<20)

// WriteZeros makes a stretch read as zeros. Where the device knows that it does
// already nothing is written. step, which may be nil, hears of each stretch and
// whether it was written, and stops the work with its error.
func WriteZeros(w Writable, sp span.Span, step func(sp span.Span, written bool) error) error {
	for at := sp.Start; at < sp.End; {
		piece, written := HoleFrom(w, at).Intersect(sp), false
		if piece.Empty() {
			piece, written = dataFrom(w, at).Intersect(sp).Intersect(span.At(at, int64(len(zeros)))), true
			if _, err := w.WriteAt(zeros[:piece.Len()], at); err != nil {
				return err
			}
		}
		if step != nil {
			if err := step(piece, written); err != nil {
				return err
			}
		}
		at = piece.End
	}
	return nil
}

// dataFrom is the stretch from off on up to the next hole that the device knows; to its end when it knows none.
func dataFrom(d Device, off int64) span.Span {
	if sparse, ok := d.(Sparse); ok {
		if data, err := sparse.NextData(off); err == nil && data.Start == off && !data.Empty() {
			return data
		}
	}
	return span.Span{Start: off, End: d.Size()}
}

// HoleFrom is the stretch from off on that a device knows to be zeros without
// reading; empty when there is none, or when it can't be told.
func HoleFrom(d Device, off int64) span.Span {
	sparse, ok := d.(Sparse)
	if !ok {
		return span.Span{}
	}
	data, err := sparse.NextData(off)
	switch {
	case errors.Is(err, io.EOF): // nothing but zeros to the end
		return span.Span{Start: off, End: d.Size()}
	case err != nil:
		return span.Span{}
	}
	return span.Span{Start: off, End: data.Start}
}

// Chunks cuts a stretch at multiples of n bytes.
func Chunks(sp span.Span, n int64) iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		for at := sp.Start; at < sp.End; {
			c := span.Span{Start: at, End: min(sp.End, at/n*n+n)}
			if !yield(c) {
				return
			}
			at = c.End
		}
	}
}

// IsZero says whether bytes are all zeros.
func IsZero(b []byte) bool {
	for len(b) > 0 {
		n := min(len(b), len(zeros))
		if !bytes.Equal(b[:n], zeros[:n]) {
			return false
		}
		b = b[n:]
	}
	return true
}
