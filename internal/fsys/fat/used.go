package fat

import (
	"bytes"
	"fmt"
	"iter"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// Used yields the reserved sectors, the tables, the fixed root directory, every
// cluster with an entry that isn't zero, and the sectors after the last
// cluster. Both copies of the table must agree where they are kept alike.
func (v *Volume) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) {
		fail := func(err error) { yield(span.Span{}, err) }
		if err := v.compareTables(); err != nil {
			fail(err)
			return
		}
		bad := uint32(1)<<min(v.bits, 28) - 9
		pending := span.Span{End: v.dataAt}
		add := func(sp span.Span) bool {
			if sp.Start == pending.End {
				pending.End = sp.End
				return true
			}
			ok := yield(pending, nil)
			pending = sp
			return ok
		}
		end := v.count + 2
		for from := int64(2); from < end; from += tableChunk {
			to := min(from+tableChunk, end)
			entries, err := v.entries(v.active, from, to)
			if err != nil {
				fail(err)
				return
			}
			for i, e := range entries {
				if e == 0 || e == bad { // a bad cluster holds nothing and may not be readable
					continue
				}
				if e == 1 || int64(e) >= end && e < bad {
					fail(fsys.Contradiction(v.fatAt, "the entry of cluster %d points to cluster %d of %d",
						from+int64(i), e, end))
					return
				}
				if !add(span.At(v.dataAt+(from+int64(i)-2)*v.cluster, v.cluster)) {
					return
				}
			}
			if v.bits == 32 && from <= int64(v.rootClus) && int64(v.rootClus) < to &&
				entries[int64(v.rootClus)-from] == 0 {
				fail(fsys.Contradiction(v.fatAt, "the root directory's cluster %d is called free", v.rootClus))
				return
			}
		}
		if tail := (span.Span{Start: v.dataAt + v.count*v.cluster, End: v.info.Size}); !tail.Empty() && !add(tail) {
			return
		}
		yield(pending, nil)
	}
}

func (v *Volume) compareTables() error {
	if v.fats < 2 || !v.mirrored {
		return nil
	}
	const chunk = 1 << 20
	n := (v.count + 2) * int64(v.bits) / 8
	a, b := make([]byte, chunk), make([]byte, chunk)
	for off := int64(0); off < n; off += chunk {
		k := min(chunk, n-off)
		for i, p := range [][]byte{a[:k], b[:k]} {
			if err := disk.ReadFull(v.r, p, v.fatAt+int64(i)*v.fatSize+off); err != nil {
				return fmt.Errorf("allocation table %d: %w", i+1, err)
			}
		}
		if !bytes.Equal(a[:k], b[:k]) {
			return fsys.Contradiction(v.fatAt+off, "the two allocation tables differ")
		}
	}
	return nil
}
