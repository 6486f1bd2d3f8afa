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
	g := &growth{v: v, c: c, sector: int64(1) << boot[bootSector], bits: map[int64]byte{}}
	g.total = size / g.sector
	if !g.layOut() {
		return g.keeps()
	}
	var err error
	g.old, err = v.chain(v.bitmap.first, (v.bitmap.length+v.cluster-1)/v.cluster*v.cluster)
	if err != nil {
		return fmt.Errorf("allocation bitmap: %w", err)
	}
	length := (g.clusters + 7) / 8
	g.own = int64(len(g.old))
	moves := length > g.own*v.cluster
	if moves { // systems read it as one piece, so all of it goes to the first of the new clusters
		g.own = (length + v.cluster - 1) / v.cluster
	}
	if moves && v.count+g.own > g.clusters {
		return g.keeps()
	}
	c.Moves = []disk.Move{{From: span.Span{End: v.fatAt + v.fatLen}, To: 0},
		{From: span.Span{Start: v.heapAt, End: v.heapAt + v.count*v.cluster}, To: g.heap}}
	g.free = v.count
	g.where = func(at int64) int64 { return g.moved(g.old[at/v.cluster]) + at%v.cluster }
	if moves {
		err = g.moveBitmap()
	} else {
		err = g.bit(v.count, false)
	}
	if err != nil {
		return err
	}
	g.writeMaps(length)
	if err := g.writeBoot(place); err != nil {
		return err
	}
	c.Size = g.total * g.sector
	c.Patches, err = disk.SortPatches(c.Patches, size)
	return err
}

// growth is what a larger volume becomes.
type growth struct {
	v *Volume
	c *fsys.Change
	// sector is the volume's, in bytes; total its new size in sectors; heap and fat are where the heap begins and how
	// long the allocation table is, in bytes.
	sector, total, heap, fat int64
	clusters                 int64
	old                      []int64 // where the clusters of the bitmap are
	own                      int64   // how many it has afterwards
	free                     int64   // the first cluster that is free afterwards
	bits                     map[int64]byte
	where                    func(at int64) int64 // where a byte of the bitmap will be
}

// keeps says that the volume stays as large as it is.
func (g *growth) keeps() error {
	g.c.Notes = append(g.c.Notes, "it keeps its size: there is too little new room")
	return nil
}

// layOut finds where the heap begins after a table for all clusters; false when there would be no more of them.
func (g *growth) layOut() bool {
	v := g.v
	step := v.cluster // by what the heap moves: it stays as aligned as it was
	if v.heapAt%units.MiB == 0 {
		step = max(step, units.MiB)
	}
	for g.heap = v.heapAt; ; {
		if g.clusters = min((g.total*g.sector-g.heap)/v.cluster, maxClusters); g.clusters <= v.count {
			return false
		}
		g.fat = max(v.fatLen, ((g.clusters+firstCluster)*4+g.sector-1)/g.sector*g.sector)
		if v.fatAt+g.fat <= g.heap {
			return true
		}
		g.heap += (v.fatAt + g.fat - g.heap + step - 1) / step * step
	}
}

// moved is where a byte of the heap will be.
func (g *growth) moved(at int64) int64 { return at - g.v.heapAt + g.heap }

func (g *growth) patch(at int64, b []byte, why string) {
	g.c.Patches = append(g.c.Patches, disk.Patch{Off: at, Data: b, Why: why})
}

func (g *growth) zeros(at, n int64, why string) {
	if n > 0 {
		g.c.Patches = append(g.c.Patches, disk.Patch{Off: at, Zeros: n, Why: why})
	}
}

// bit sets or clears the bit of a cluster in the bitmap.
func (g *growth) bit(cluster int64, set bool) error {
	v, at := g.v, cluster/8
	if _, known := g.bits[at]; !known && at <= (v.count-1)/8 {
		var b [1]byte
		if err := disk.ReadFull(v.r, b[:], g.old[at/v.cluster]+at%v.cluster); err != nil {
			return fmt.Errorf("allocation bitmap: %w", err)
		}
		if at == v.count/8 {
			b[0] &= 1<<(v.count%8) - 1
		}
		g.bits[at] = b[0]
	}
	if g.bits[at] &^= 1 << (cluster % 8); set {
		g.bits[at] |= 1 << (cluster % 8)
	}
	return nil
}

func u32(n int64) []byte { return binary.LittleEndian.AppendUint32(nil, uint32(n)) }

// moveBitmap gives the bitmap the first of the new clusters, in one piece.
func (g *growth) moveBitmap() error {
	v := g.v
	g.free += g.own
	chain := make([]byte, 0, 4*g.own)
	for i := range g.own {
		chain = append(chain, u32(v.count+firstCluster+i+1)...)
		if err := g.bit(v.count+i, true); err != nil {
			return err
		}
	}
	copy(chain[4*(g.own-1):], u32(endOfChain))
	g.patch(v.fatAt+4*(v.count+firstCluster), chain, "chain of the allocation bitmap")
	for i, at := range g.old {
		n := (at - v.heapAt) / v.cluster
		g.patch(v.fatAt+4*(n+firstCluster), u32(0), "the allocation bitmap lies elsewhere")
		g.c.Moves = append(g.c.Moves,
			disk.Move{From: span.At(at, v.cluster), To: g.heap + (v.count+int64(i))*v.cluster})
		if err := g.bit(n, false); err != nil {
			return err
		}
	}
	g.where = func(at int64) int64 { return g.heap + v.count*v.cluster + at }
	g.patch(g.moved(v.bitmapAt)+entFirst, u32(v.count+firstCluster), "place of the allocation bitmap")
	return nil
}

// writeMaps writes what is new of the allocation table and the bitmap, which becomes length bytes long.
func (g *growth) writeMaps(length int64) {
	v := g.v
	first := 4 * (g.free + firstCluster)
	g.zeros(v.fatAt+first, g.fat-first, "allocation table")
	last := int64(0) // the byte after the last one that is written
	for at, b := range g.bits {
		g.patch(g.where(at), []byte{b}, "allocation bitmap")
		last = max(last, at+1)
	}
	rest := span.Span{Start: max(last, (v.count+7)/8), End: g.own * v.cluster}
	for sp := range disk.Chunks(rest, v.cluster) {
		g.zeros(g.where(sp.Start), sp.Len(), "allocation bitmap")
	}
	g.patch(g.moved(v.bitmapAt)+entLength, binary.LittleEndian.AppendUint64(nil, uint64(length)),
		"length of the allocation bitmap")
}

// writeBoot tells both boot regions the new sizes, and the sector at which the part begins.
func (g *growth) writeBoot(place int64) error {
	le := binary.LittleEndian
	regions, err := g.v.regions(func(b []byte) {
		le.PutUint64(b[bootPartition:], uint64(place))
		le.PutUint64(b[bootLength:], uint64(g.total))
		le.PutUint32(b[bootFATLength:], uint32(g.fat/g.sector))
		le.PutUint32(b[bootHeap:], uint32(g.heap/g.sector))
		le.PutUint32(b[bootClusters:], uint32(g.clusters))
		if b[bootPercent] <= 100 {
			b[bootPercent] = byte(int64(b[bootPercent]) * g.v.count / g.clusters)
		}
	})
	g.c.Patches = append(g.c.Patches, regions...)
	return err
}
