package ntfs

import (
	"errors"
	"fmt"
	"iter"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

const bitmapChunk = 1 << 20 // bytes of $Bitmap that are read at once

// Used yields what $Bitmap marks, and what it can't mark: the sectors after
// the last whole cluster, where the copy of the boot sector stands. The
// system files' own clusters must be marked in it.
func (v *Volume) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) {
		must, err := v.systemClusters()
		if err != nil {
			yield(span.Span{}, err)
			return
		}
		v.marked(must, span.Set{}, span.Set{})(yield)
	}
}

// marked yields what $Bitmap marks, without what is left out, and with what is added. What it must mark makes it a
// contradiction where it doesn't.
func (v *Volume) marked(must, left, added span.Set) iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) {
		var pending span.Span
		emit := func(sp span.Span) bool { // joins neighbours
			if sp.Start == pending.End {
				pending.End = sp.End
				return true
			}
			ok := pending.Empty() || yield(pending, nil)
			pending = sp
			return ok
		}
		stopped := errors.New("stopped")
		err := eachMarked(v, func(area span.Span, used span.Set) error {
			if missing := must.Clip(area).Subtract(used); !missing.Empty() {
				return fsys.Contradiction(missing.Bounds().Start,
					"$Bitmap calls clusters free that system files lie in")
			}
			for sp := range used.Subtract(left.Clip(area)).Union(added.Clip(area)).All() {
				if !emit(sp) {
					return stopped
				}
			}
			return nil
		})
		end := v.clusters * v.cluster
		switch {
		case errors.Is(err, stopped):
			return
		case err != nil:
			yield(span.Span{}, err)
			return
		case end < v.info.Size && !emit(span.Span{Start: end, End: v.info.Size}):
			return
		}
		if !pending.Empty() {
			yield(pending, nil)
		}
	}
}

// eachMarked calls do for one area of the volume after the other with what $Bitmap marks in it.
func eachMarked(v *Volume, do func(area span.Span, used span.Set) error) error {
	rec, err := v.readRecord(recBitmap)
	if err != nil {
		return fmt.Errorf("$Bitmap: %w", err)
	}
	s, err := v.stream(rec, attrData, "")
	if err != nil {
		return fmt.Errorf("$Bitmap: %w", err)
	}
	if need := (v.clusters + 7) / 8; s.size < need {
		return fsys.Contradiction(rec.at, "$Bitmap has %d bytes, %d clusters need %d", s.size, v.clusters, need)
	}
	buf := make([]byte, bitmapChunk)
	for at := int64(0); at*8 < v.clusters; at += bitmapChunk {
		b := buf[:min(bitmapChunk, (v.clusters+7)/8-at)]
		if s.value != nil {
			copy(b, s.value[at:])
		} else if _, err := v.readRuns(s.runs, b, at); err != nil {
			return fmt.Errorf("$Bitmap: %w", err)
		}
		first := at * 8
		n := min(int64(len(b))*8, v.clusters-first)
		var used span.Set
		for from, to := range fsys.Runs(b, int(n)) {
			used.Add(v.clusterSpan(first+int64(from), int64(to-from)))
		}
		if err := do(v.clusterSpan(first, n), used); err != nil {
			return err
		}
	}
	return nil
}

// systemClusters is where the files that make up the volume itself lie.
func (v *Volume) systemClusters() (span.Set, error) {
	var all []span.Span
	for _, n := range []int64{recMFT, recMirror, recLog, recVolume, recBitmap, recBoot, recUpcase} {
		rec, err := v.readRecord(n)
		if err != nil {
			return span.Set{}, err
		}
		s, err := v.stream(rec, attrData, "")
		if err != nil {
			return span.Set{}, fmt.Errorf("file record %d: %w", n, err)
		}
		for _, r := range s.runs {
			if !r.sparse {
				all = append(all, v.clusterSpan(r.lcn, r.n))
			}
		}
	}
	return span.Of(all...), nil
}
