package fsys

import (
	"io"

	"twinshelf/internal/span"
)

// Mirror is a structure of which a volume keeps a copy. Both are stretches of the part, of one length. The copy may be
// older than what it is of.
type Mirror struct{ Of, At span.Span }

// Mirrors are where the families that may have a volume on a part keep copies of what can't be done without. They are
// guessed from whatever can be read, also where the first sector can't; nothing of them is proven.
func (f Families) Mirrors(r io.ReaderAt, size int64, sector int) []Mirror {
	var out []Mirror
	whole := span.Span{End: size}
	for _, x := range f {
		if x.Mirrors == nil {
			continue
		}
		for _, m := range x.Mirrors(r, size, int64(sector)) {
			if whole.Covers(m.Of) && whole.Covers(m.At) && m.Of.Len() == m.At.Len() && !m.Of.Empty() {
				out = append(out, m)
			}
		}
	}
	return out
}
