package exfat

import (
	"encoding/binary"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// grow gives the volume the clusters of a part of size bytes: a longer table, which may push the heap on, and a longer
// allocation bitmap, for which the first of the new clusters are taken where its own don't suffice (sections 3, 4, 5
// and 7.1).
func (v *Volume) grow(c *fsys.Change, size, place int64) error {
	boot := make([]byte, 512)
	if err := disk.ReadFull(v.r, boot, 0); err != nil {
		return err
	}
	s := int64(1) << boot[bootSector]
	total := size / s
	step := v.cluster // by what the heap moves: it stays as aligned as it was
	if v.heapAt%units.MiB == 0 {
		step = max(step, units.MiB)
	}
	heap, clusters, fat := v.heapAt, int64(0), int64(0)
	for {
		if clusters = min((total*s-heap)/v.cluster, maxClusters); clusters <= v.count {
			c.Notes = append(c.Notes, "it keeps its size: there is too little new room")
			return nil
		}
		fat = max(v.fatLen, ((clusters+firstCluster)*4+s-1)/s*s)
		if v.fatAt+fat <= heap {
			break
		}
		heap += (v.fatAt + fat - heap + step - 1) / step * step
	}
	old, err := v.chain(v.bitmap.first, (v.bitmap.length+v.cluster-1)/v.cluster*v.cluster)
	if err != nil {
		return fmt.Errorf("allocation bitmap: %w", err)
	}
	length := (clusters + 7) / 8
	own := int64(len(old)) // clusters of the bitmap afterwards
	moves := length > own*v.cluster
	if moves { // systems read it as one piece, so all of it goes to the first of the new clusters
		own = (length + v.cluster - 1) / v.cluster
	}
	if moves && v.count+own > clusters {
		c.Notes = append(c.Notes, "it keeps its size: there is too little new room")
		return nil
	}
	le := binary.LittleEndian
	u32 := func(n int64) []byte { return le.AppendUint32(nil, uint32(n)) }
	patch := func(at int64, b []byte, why string) {
		c.Patches = append(c.Patches, disk.Patch{Off: at, Data: b, Why: why})
	}
	zeros := func(at, n int64, why string) {
		if n > 0 {
			c.Patches = append(c.Patches, disk.Patch{Off: at, Zeros: n, Why: why})
		}
	}
	moved := func(at int64) int64 { return at - v.heapAt + heap } // where a byte of the heap will be
	c.Moves = []disk.Move{{From: span.Span{End: v.fatAt + v.fatLen}, To: 0},
		{From: span.Span{Start: v.heapAt, End: v.heapAt + v.count*v.cluster}, To: heap}}
	behind := v.count // the first cluster that is free afterwards
	bits := map[int64]byte{}
	bit := func(cluster int64, set bool) error { // a bit of the bitmap
		at := cluster / 8
		if _, known := bits[at]; !known && at <= (v.count-1)/8 {
			var b [1]byte
			if err := disk.ReadFull(v.r, b[:], old[at/v.cluster]+at%v.cluster); err != nil {
				return fmt.Errorf("allocation bitmap: %w", err)
			}
			if at == v.count/8 {
				b[0] &= 1<<(v.count%8) - 1
			}
			bits[at] = b[0]
		}
		if bits[at] &^= 1 << (cluster % 8); set {
			bits[at] |= 1 << (cluster % 8)
		}
		return nil
	}
	where := func(at int64) int64 { return moved(old[at/v.cluster]) + at%v.cluster } // of a byte of the bitmap
	if moves {
		behind += own
		chain := make([]byte, 0, 4*own)
		for i := range own {
			chain = append(chain, u32(v.count+firstCluster+i+1)...)
			if err := bit(v.count+i, true); err != nil {
				return err
			}
		}
		copy(chain[4*(own-1):], u32(endOfChain))
		patch(v.fatAt+4*(v.count+firstCluster), chain, "chain of the allocation bitmap")
		for i, at := range old {
			n := (at - v.heapAt) / v.cluster
			patch(v.fatAt+4*(n+firstCluster), u32(0), "the allocation bitmap stands elsewhere")
			c.Moves = append(c.Moves, disk.Move{From: span.At(at, v.cluster), To: heap + (v.count+int64(i))*v.cluster})
			if err := bit(n, false); err != nil {
				return err
			}
		}
		where = func(at int64) int64 { return heap + v.count*v.cluster + at }
		patch(moved(v.bitmapAt)+entFirst, u32(v.count+firstCluster), "place of the allocation bitmap")
	} else if err := bit(v.count, false); err != nil {
		return err
	}
	first := 4 * (behind + firstCluster)
	zeros(v.fatAt+first, fat-first, "allocation table")
	last := int64(0) // the byte behind the last one that is written
	for at, b := range bits {
		patch(where(at), []byte{b}, "allocation bitmap")
		last = max(last, at+1)
	}
	for sp := range disk.Chunks(span.Span{Start: max(last, (v.count+7)/8), End: own * v.cluster}, v.cluster) {
		zeros(where(sp.Start), sp.Len(), "allocation bitmap")
	}
	patch(moved(v.bitmapAt)+entLength, le.AppendUint64(nil, uint64(length)), "length of the allocation bitmap")
	regions, err := v.regions(func(b []byte) {
		le.PutUint64(b[bootPartition:], uint64(place))
		le.PutUint64(b[bootLength:], uint64(total))
		le.PutUint32(b[bootFATLength:], uint32(fat/s))
		le.PutUint32(b[bootHeap:], uint32(heap/s))
		le.PutUint32(b[bootClusters:], uint32(clusters))
		if b[bootPercent] <= 100 {
			b[bootPercent] = byte(int64(b[bootPercent]) * v.count / clusters)
		}
	})
	if err != nil {
		return err
	}
	c.Patches = append(c.Patches, regions...)
	c.Size = total * s
	c.Patches, err = disk.SortPatches(c.Patches, size)
	return err
}
