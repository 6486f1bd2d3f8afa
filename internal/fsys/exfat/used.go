package exfat

import (
	"fmt"
	"iter"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

const bitmapChunk = 1 << 20

// Used yields everything before the cluster heap (both boot regions and the
// table), what the bitmap marks, and the sectors after the last cluster. The
// clusters of the root, the bitmap and the up-case table must be marked.
func (v *Volume) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) {
		must, bitmap, err := v.systemClusters()
		if err != nil {
			yield(span.Span{}, err)
			return
		}
		pending, stopped := span.Span{End: v.heapAt}, false
		emit := func(sp span.Span) bool {
			if sp.Start == pending.End {
				pending.End = sp.End
				return true
			}
			stopped = !yield(pending, nil)
			pending = sp
			return !stopped
		}
		err = v.usedClusters(bitmap, must, emit)
		if end := v.heapAt + v.count*v.cluster; err == nil && !stopped && end < v.info.Size {
			emit(span.Span{Start: end, End: v.info.Size})
		}
		switch {
		case stopped:
		case err != nil:
			yield(span.Span{}, err)
		default:
			yield(pending, nil)
		}
	}
}

// usedClusters emits what the bitmap calls used, until emit wants no more. It may lie in several places, and is walked
// in whole clusters. What of must it calls free contradicts the volume.
func (v *Volume) usedClusters(bitmap []int64, must span.Set, emit func(span.Span) bool) error {
	buf := make([]byte, min(bitmapChunk, v.cluster))
	done := int64(0) // clusters looked at
	for _, at := range bitmap {
		for off := int64(0); off < v.cluster && done < v.count; off += int64(len(buf)) {
			if err := disk.ReadFull(v.r, buf, at+off); err != nil {
				return fmt.Errorf("allocation bitmap: %w", err)
			}
			n := min(int64(len(buf))*8, v.count-done)
			used := v.usedIn(buf, done, n)
			area := span.At(v.heapAt+done*v.cluster, n*v.cluster)
			if missing := must.Clip(area).Subtract(used); !missing.Empty() {
				return fsys.Contradiction(missing.Bounds().Start,
					"the allocation bitmap calls clusters free that the volume itself needs")
			}
			for sp := range used.All() {
				if !emit(sp) {
					return nil
				}
			}
			done += n
		}
	}
	if done < v.count {
		return fsys.Contradiction(0, "the allocation bitmap ends after %d of %d clusters", done, v.count)
	}
	return nil
}

// usedIn is what n bits of a bitmap, from that of cluster first, call used.
func (v *Volume) usedIn(bitmap []byte, first, n int64) (used span.Set) {
	for from, to := range fsys.Runs(bitmap, int(n)) {
		used.Add(span.At(v.heapAt+(first+int64(from))*v.cluster, int64(to-from)*v.cluster))
	}
	return used
}

// systemClusters is where root, bitmap and up-case table lie, and the bitmap's clusters in order.
func (v *Volume) systemClusters() (must span.Set, bitmap []int64, err error) {
	var all []span.Span
	for _, s := range []struct {
		name  string
		first uint32
		limit int64
	}{
		{"root directory", v.rootAt, maxRootBytes},
		{"up-case table", v.upcase.first, maxRootBytes},
		{"allocation bitmap", v.bitmap.first, (v.count+7)/8 + v.cluster},
	} {
		clusters, err := v.chain(s.first, s.limit)
		if err != nil {
			return span.Set{}, nil, fmt.Errorf("%s: %w", s.name, err)
		}
		for _, at := range clusters {
			all = append(all, span.At(at, v.cluster))
		}
		bitmap = clusters // the last of the three
	}
	return span.Of(all...), bitmap, nil
}
