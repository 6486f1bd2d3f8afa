package ntfs

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// badStream is the stream of $BadClus in which unusable clusters lie.
const badStream = "$Bad"

// Resize gives the volume its new place and, on a larger part, more clusters: after the old ones, with
// $Bitmap and $BadClus made longer, and the copy of the boot sector in the part's last sector.
func (v *Volume) Resize(p fsys.Bounds) (*fsys.Change, error) {
	c := &fsys.Change{Size: v.info.Size}
	boot := make([]byte, bootLen)
	if err := disk.ReadFull(v.r, boot, 0); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	sector := int64(le.Uint16(boot[bootSectorSize:]))
	oldCopy := v.info.Size // the sector after the volume
	hidden := uint32(p.Hidden(uint64(le.Uint32(boot[bootHidden:]))))
	moved := le.Uint32(boot[bootHidden:]) != hidden
	le.PutUint32(boot[bootHidden:], hidden)
	sectors := p.Size/sector - 1
	if p.Size > 0 && p.Size < v.info.Size {
		return v.shrink(boot, p.Size, sector)
	}
	if sectors*sector/v.cluster <= v.clusters {
		if moved {
			c.Patches = []disk.Patch{{Off: 0, Data: boot, Why: "boot sector with the new place"}}
			if v.hasCopy(oldCopy) {
				c.Patches = append(c.Patches, disk.Patch{Off: oldCopy, Data: boot, Why: "copy of the boot sector"})
			}
		}
		return c, nil
	}
	g := &growth{v: v, clusters: sectors * sector / v.cluster}
	if why, err := g.plan(); err != nil {
		return nil, err
	} else if why != "" {
		p.Size = 0
		if c, err = v.Resize(p); err == nil {
			c.Notes = append(c.Notes, "it keeps its size: "+why)
		}
		return c, err
	}
	le.PutUint64(boot[bootSectors:], uint64(sectors))
	g.patches = append(g.patches, disk.Patch{Off: 0, Data: boot, Why: "boot sector"},
		disk.Patch{Off: sectors * sector, Data: boot, Why: "copy of the boot sector"})
	c.Size = sectors * sector
	var err error
	c.Patches, err = disk.SortPatches(g.patches, p.Size)
	return c, err
}

// hasCopy says whether a copy of the boot sector stands at a byte of the part.
func (v *Volume) hasCopy(at int64) bool {
	b := make([]byte, bootLen)
	return disk.ReadFull(v.r, b, at) == nil && string(b[bootOEM:bootOEM+8]) == "NTFS    "
}

// growth is a volume that gets more clusters.
type growth struct {
	v        *Volume
	clusters int64 // afterwards
	patches  []disk.Patch
	mft      []run // where $MFT lies afterwards; nil where it stays
}

// table is where $MFT lies afterwards.
func (g *growth) table() []run {
	if g.mft != nil {
		return g.mft
	}
	return g.v.mft
}

// plan gives the reason in words when the volume can't grow.
func (g *growth) plan() (why string, err error) {
	v := g.v
	rec, err := v.readRecord(recBitmap)
	if err != nil {
		return "", fmt.Errorf("$Bitmap: %w", err)
	}
	s, err := v.stream(rec, attrData, "")
	if err != nil {
		return "", fmt.Errorf("$Bitmap: %w", err)
	}
	a, ok := single(rec, attrData, "")
	if s.runs == nil || !ok {
		return "its cluster bitmap is kept in a way that isn't made longer here", nil
	}
	size := (g.clusters + 63) / 64 * 8
	allocated := int64(0)
	for _, r := range s.runs {
		allocated += r.n
	}
	runs := slices.Clone(s.runs)
	extra := max(0, (size+v.cluster-1)/v.cluster-allocated)
	if extra > 0 { // the first of the new clusters
		runs = append(runs, run{vcn: allocated, lcn: v.clusters, n: extra})
	}
	if v.clusters+extra >= g.clusters {
		return "there is too little new room", nil
	}
	if !rewrite(rec, a, runs, (allocated+extra)*v.cluster, size, size) {
		return "the run list of its cluster bitmap has no room to become longer", nil
	}
	if err := g.bitmap(runs, size, extra); err != nil {
		return "", err
	}
	records := []*record{rec}
	bad, err := v.readRecord(recBadClus)
	if err != nil {
		return "", fmt.Errorf("$BadClus: %w", err)
	}
	if a, ok := single(bad, attrData, badStream); ok && a.nonResident {
		runs, err := v.decodeRuns(a)
		if err != nil {
			return "", fmt.Errorf("$BadClus: %w", err)
		}
		if n := len(runs); n > 0 && runs[n-1].sparse {
			runs[n-1].n += g.clusters - v.clusters
		} else {
			runs = append(runs, run{vcn: v.clusters, n: g.clusters - v.clusters, sparse: true})
		}
		old := bad.b[a.at-bad.at:]
		if !rewrite(bad, a, runs, g.clusters*v.cluster, g.clusters*v.cluster,
			int64(binary.LittleEndian.Uint64(old[nonInitial:]))) {
			return "the list of its bad clusters has no room to become longer", nil
		}
		records = append(records, bad)
	}
	return "", g.store(records)
}

// single finds an attribute that stands whole in its record.
func single(r *record, kind uint32, name string) (attribute, bool) {
	var found attribute
	n := 0
	for _, a := range r.attributes() {
		if a.kind == attrList {
			return a, false
		}
		if a.kind == kind && strings.EqualFold(a.name, name) {
			found = a
			n++
		}
	}
	return found, n == 1
}

// encodeRuns writes a run list ("Data Runs").
func encodeRuns(runs []run) []byte {
	var out []byte
	last := int64(0)
	bytesOf := func(n int64) []byte {
		b := []byte{byte(n)}
		for n > 127 || n < -128 {
			n >>= 8
			b = append(b, byte(n))
		}
		return b
	}
	for _, r := range runs {
		length := bytesOf(r.n)
		var dist []byte
		if !r.sparse {
			dist = bytesOf(r.lcn - last)
			last = r.lcn
		}
		out = append(out, byte(len(dist)<<4|len(length)))
		out = append(append(out, length...), dist...)
	}
	return append(out, 0)
}

// rewrite gives an attribute that isn't resident another run list and other sizes in bytes; false when the record has
// no room for it.
func rewrite(r *record, a attribute, runs []run, allocated, size, initial int64) bool {
	le := binary.LittleEndian
	at := int(a.at - r.at)
	old := int(le.Uint32(r.b[at+4:]))
	list := encodeRuns(runs)
	off := int(le.Uint16(r.b[at+nonRuns:]))
	n := (off + len(list) + 7) / 8 * 8
	used := int(le.Uint32(r.b[recBytesInUse:]))
	if used > len(r.b) || at+old > used || used+n-old > len(r.b) {
		return false
	}
	tail := slices.Clone(r.b[at+old : used])
	b := r.b[at:]
	clear(b[off:n])
	copy(b[off:], list)
	copy(b[n:], tail)
	if end := at + n + len(tail); end < used {
		clear(r.b[end:used])
	}
	le.PutUint32(r.b[recBytesInUse:], uint32(used+n-old))
	le.PutUint32(b[headLength:], uint32(n))
	last := int64(le.Uint64(b[nonFirstVCN:])) - 1
	for _, x := range runs {
		last += x.n
	}
	le.PutUint64(b[nonLastVCN:], uint64(last))
	le.PutUint64(b[nonAllocated:], uint64(allocated))
	le.PutUint64(b[nonSize:], uint64(size))
	le.PutUint64(b[nonInitial:], uint64(initial))
	return true
}

// bitmap writes $Bitmap from the old end on: its own new clusters are taken, the rest is free, and what
// lies after the volume's end is marked as taken.
func (g *growth) bitmap(runs []run, size, extra int64) error {
	v := g.v
	first := v.clusters / 8
	head := make([]byte, min((v.clusters+extra)/8+1, size)-first)
	if v.clusters%8 != 0 {
		if _, err := v.readRuns(runs, head[:1], first); err != nil {
			return fmt.Errorf("$Bitmap: %w", err)
		}
		head[0] &= 1<<(v.clusters%8) - 1
	}
	for i := v.clusters; i < v.clusters+extra; i++ {
		head[i/8-first] |= 1 << (i % 8)
	}
	tail := make([]byte, 8)
	at := size - 8
	if end := first + int64(len(head)); end > at { // both lie close together
		whole := make([]byte, size-first)
		copy(whole, head)
		markBehind(whole, first, g.clusters)
		g.stream(runs, first, disk.Patch{Data: whole})
		return nil
	}
	markBehind(tail, at, g.clusters)
	g.stream(runs, first, disk.Patch{Data: head})
	g.stream(runs, first+int64(len(head)), disk.Patch{Zeros: at - first - int64(len(head))})
	g.stream(runs, at, disk.Patch{Data: tail})
	return nil
}

// markBehind sets the bits from cluster end on; b begins at byte at of the bitmap.
func markBehind(b []byte, at, end int64) {
	for i := end; i < (at+int64(len(b)))*8; i++ {
		b[i/8-at] |= 1 << (i % 8)
	}
}

// stream puts a patch at a byte of a stream, in as many pieces as the stream's runs make of it.
func (g *growth) stream(runs []run, at int64, p disk.Patch) {
	want := span.At(at, p.Span().Len())
	for _, r := range runs {
		hit := span.At(r.vcn*g.v.cluster, r.n*g.v.cluster).Intersect(want)
		if hit.Empty() {
			continue
		}
		q := p.Part(hit.Shift(p.Off - at))
		q.Off, q.Why = r.lcn*g.v.cluster+hit.Start-r.vcn*g.v.cluster, "cluster bitmap"
		g.patches = append(g.patches, q)
	}
}

// store writes file records where they stand, and into the mirror those that are mirrored.
func (g *growth) store(records []*record) error {
	v := g.v
	mirror, err := v.readRecord(recMirror)
	if err != nil {
		return fmt.Errorf("$MFTMirr: %w", err)
	}
	s, err := v.stream(mirror, attrData, "")
	if err != nil {
		return fmt.Errorf("$MFTMirr: %w", err)
	}
	return g.storeWith(records, s)
}

// storeWith is store with a mirror that stands elsewhere.
func (g *growth) storeWith(records []*record, mirror stream) error {
	v := g.v
	for _, r := range records {
		b := slices.Clone(r.b)
		refix(b)
		what := fmt.Sprintf("file record %d", r.number)
		g.pieces(g.table(), r.number*v.record, b, what)
		if (r.number+1)*v.record <= mirror.size {
			g.pieces(mirror.runs, r.number*v.record, b, "mirror of "+what)
		}
	}
	return nil
}

func (g *growth) pieces(runs []run, at int64, b []byte, why string) {
	from := len(g.patches)
	g.stream(runs, at, disk.Patch{Data: b})
	for i := range g.patches[from:] {
		g.patches[from+i].Why = why
	}
}

// refix puts the fix-ups of a structure that unfix took back in, under the next sequence number.
func refix(b []byte) {
	le := binary.LittleEndian
	off := int(le.Uint16(b[recUSAOffset:]))
	number := le.Uint16(b[off:]) + 1
	if number == 0 || number == 0xFFFF {
		number = 1
	}
	fixUp(b, off, number)
}
