package ntfs

import (
	"bytes"
	"encoding/binary"
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
		fail := func(err error) { yield(span.Span{}, err) }
		rec, err := v.readRecord(recBitmap)
		if err != nil {
			fail(fmt.Errorf("$Bitmap: %w", err))
			return
		}
		s, err := v.stream(rec, attrData, "")
		if err != nil {
			fail(fmt.Errorf("$Bitmap: %w", err))
			return
		}
		if need := (v.clusters + 7) / 8; s.size < need {
			fail(fsys.Contradiction(rec.at, "$Bitmap has %d bytes, %d clusters need %d", s.size, v.clusters, need))
			return
		}
		must, err := v.systemClusters()
		if err != nil {
			fail(err)
			return
		}
		buf := make([]byte, bitmapChunk)
		var pending span.Span
		for at := int64(0); at*8 < v.clusters; at += bitmapChunk {
			b := buf[:min(bitmapChunk, (v.clusters+7)/8-at)]
			if s.value != nil {
				copy(b, s.value[at:])
			} else if _, err := v.readRuns(s.runs, b, at); err != nil {
				fail(fmt.Errorf("$Bitmap: %w", err))
				return
			}
			first := at * 8
			n := min(int64(len(b))*8, v.clusters-first)
			var used span.Set
			for from, to := range fsys.Runs(b, int(n)) {
				used.Add(v.clusterSpan(first+int64(from), int64(to-from)))
			}
			area := v.clusterSpan(first, n)
			if missing := must.Clip(area).Subtract(used); !missing.Empty() {
				fail(fsys.Contradiction(missing.Bounds().Start, "$Bitmap calls clusters free that system files lie in"))
				return
			}
			for sp := range used.All() {
				if sp.Start == pending.End {
					pending.End = sp.End
					continue
				}
				if !pending.Empty() && !yield(pending, nil) {
					return
				}
				pending = sp
			}
		}
		if end := v.clusters * v.cluster; end < v.info.Size {
			if pending.End == end {
				pending.End = v.info.Size
			} else {
				if !pending.Empty() && !yield(pending, nil) {
					return
				}
				pending = span.Span{Start: end, End: v.info.Size}
			}
		}
		if !pending.Empty() {
			yield(pending, nil)
		}
	}
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

// logClean says whether $LogFile holds nothing to replay ("LFS restart area"):
// it was emptied (all 0xFF), or no client has it open, or it is flagged clean. Of the two
// restart pages, which are written in turns, the one with the larger sequence number is true.
func (v *Volume) logClean() (bool, error) {
	rec, err := v.readRecord(recLog)
	if err != nil {
		return false, err
	}
	s, err := v.stream(rec, attrData, "")
	if err != nil {
		return false, err
	}
	emptied, clean := true, false
	latest, found := uint64(0), false
	le := binary.LittleEndian
	for page := range int64(2) {
		b := make([]byte, restartLen)
		if _, err := v.readRuns(s.runs, b, page*restartLen); err != nil {
			return false, err
		}
		if bytes.Count(b, []byte{0xFF}) == len(b) {
			continue
		}
		emptied = false
		if unfix(b, "RSTR", 0) != nil {
			continue // the other copy may be good
		}
		area := int(le.Uint16(b[restartArea:]))
		if area+16 > len(b) {
			continue
		}
		lsn := le.Uint64(b[area:])
		if found && lsn <= latest {
			continue
		}
		latest, found = lsn, true
		clean = le.Uint16(b[area+12:]) == noClient || le.Uint16(b[area+14:])&restartClean != 0
	}
	return emptied || clean, nil
}
