// Package exfat knows exFAT (Microsoft's "exFAT file system specification",
// revision 1.00 with its later public updates). It tells which clusters are in
// use by the allocation bitmap, reads files, and makes and changes volumes as patches; it never writes by itself.
//
// Limits: one FAT (the two of TexFAT make the volume an error, so that it is
// captured whole), and root directories of at most 64 MiB.
package exfat

import (
	"encoding/binary"
	"fmt"
	"io"
	"unicode/utf16"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Family makes exFAT known.
func Family() fsys.Family {
	return fsys.Family{Name: "exfat", Probe: Probe, Mirrors: mirrors, Makers: []fsys.Maker{maker()}}
}

// Bounds of what is read at once or held.
const (
	maxRootBytes = 64 << 20
	chainWindow  = 1024 // entries of the table that are read at once
)

// Volume is an exFAT volume. Offsets and sizes are in bytes.
type Volume struct {
	r        io.ReaderAt
	info     fsys.Info
	fatAt    int64
	fatLen   int64
	heapAt   int64
	cluster  int64
	count    int64 // clusters
	bitmap   entry
	bitmapAt int64 // of the entry that names the bitmap
	upcase   entry
	rootAt   uint32
	rootSize int64
}

// entry is a stream that a directory entry names.
type entry struct {
	first  uint32
	length int64
	found  bool
}

// Probe recognises exFAT by its boot sector.
func Probe(r io.ReaderAt, size int64, _ int) (fsys.Volume, error) {
	b := make([]byte, 512)
	if n, _ := r.ReadAt(b, 0); n < len(b) || string(b[bootName:bootName+8]) != "EXFAT   " || b[bootSignature] != 0x55 ||
		b[bootSignature+1] != 0xAA {
		return nil, nil
	}
	le := binary.LittleEndian
	shift, per := b[bootSector], b[bootCluster]
	if shift < 9 || shift > 12 || per > 25-shift {
		return nil, fsys.Contradiction(bootSector, "the exFAT boot sector claims sectors of 2^%d bytes and clusters "+
			"of 2^%d sectors", shift, per)
	}
	if rev := b[bootRevision+1]; rev != 1 || b[bootFATs] != 1 {
		return nil, fsys.Contradiction(bootRevision, "exFAT of revision %d with %d tables is not known", rev,
			b[bootFATs])
	}
	s := int64(1) << shift
	v := &Volume{r: r, fatAt: int64(le.Uint32(b[bootFAT:])) * s, fatLen: int64(le.Uint32(b[bootFATLength:])) * s,
		heapAt:  int64(le.Uint32(b[bootHeap:])) * s,
		cluster: s << per, count: int64(le.Uint32(b[bootClusters:])), rootAt: le.Uint32(b[bootRoot:])}
	sectors := le.Uint64(b[bootLength:])
	if sectors == 0 || sectors > uint64(size/s) {
		return nil, fsys.Contradiction(bootLength, "the exFAT volume claims %d sectors of %d bytes, more than its "+
			"part of %d bytes holds", sectors, s, size)
	}
	v.info = fsys.Info{Kind: "exFAT", Size: int64(sectors) * s, Unit: v.cluster,
		ID: fmt.Sprintf("%04X-%04X", le.Uint16(b[bootSerial+2:]), le.Uint16(b[bootSerial:]))}
	switch {
	case v.count < 1 || v.count > maxClusters || v.heapAt+v.count*v.cluster > v.info.Size:
		return nil, fsys.Contradiction(bootClusters, "%d clusters of %d bytes from byte %d don't fit the volume",
			v.count, v.cluster, v.heapAt)
	case v.fatAt < 2*regionSectors*s || v.fatLen < (v.count+firstCluster)*4 || v.fatAt+v.fatLen > v.heapAt:
		return nil, fsys.Contradiction(bootFAT, "the allocation table of %d bytes at byte %d is in the way or too "+
			"short", v.fatLen, v.fatAt)
	}
	if flags := le.Uint16(b[bootFlags:]); flags&flagDirty != 0 {
		v.info.Unclean = "it is marked dirty: it wasn't unmounted cleanly"
	} else if flags&flagMedium != 0 {
		v.info.Unclean = "it recorded disk errors"
	}
	return v, v.readRoot()
}

// Info describes the volume.
func (v *Volume) Info() fsys.Info { return v.info }

func (v *Volume) clusterAt(n uint32) (int64, error) {
	if n < firstCluster || int64(n)-firstCluster >= v.count {
		return 0, fsys.Contradiction(v.fatAt, "cluster %d of %d is named", n, v.count)
	}
	return v.heapAt + (int64(n)-firstCluster)*v.cluster, nil
}

// follow gives the runs of a stream of at most limit bytes that begins at cluster first, in bytes of the volume. A
// chain that comes back to itself runs over the limit and is an error.
func (v *Volume) follow(first uint32, limit int64) ([]span.Span, error) {
	var out []span.Span
	var window []byte // the table from cluster base on
	base, total := int64(0), int64(0)
	for n := first; n != endOfChain; {
		at, err := v.clusterAt(n)
		if err != nil {
			return nil, err
		}
		if k := len(out); k > 0 && out[k-1].End == at {
			out[k-1].End += v.cluster
		} else {
			out = append(out, span.At(at, v.cluster))
		}
		if total += v.cluster; total > max(limit, v.cluster) {
			return nil, fsys.Contradiction(v.fatAt+4*int64(n), "the chain of clusters from %d is longer than %d "+
				"bytes or comes back to itself", first, limit)
		}
		i := int64(n)
		if i < base || (i-base)*4 >= int64(len(window)) {
			base = i
			window = make([]byte, min(chainWindow, v.count+firstCluster-i)*4)
			if err := disk.ReadFull(v.r, window, v.fatAt+4*i); err != nil {
				return nil, err
			}
		}
		n = binary.LittleEndian.Uint32(window[(i-base)*4:])
	}
	return out, nil
}

// chain gives the clusters of a stream, by the bytes at which they begin; see follow.
func (v *Volume) chain(first uint32, limit int64) ([]int64, error) {
	runs, err := v.follow(first, limit)
	var out []int64
	for _, r := range runs {
		for at := r.Start; at < r.End; at += v.cluster {
			out = append(out, at)
		}
	}
	return out, err
}

// readRoot finds the label, the bitmap and the up-case table.
func (v *Volume) readRoot() error {
	clusters, err := v.chain(v.rootAt, maxRootBytes)
	if err != nil {
		return fmt.Errorf("root directory: %w", err)
	}
	v.rootSize = int64(len(clusters)) * v.cluster
	le := binary.LittleEndian
	b := make([]byte, v.cluster)
	for _, at := range clusters {
		if err := disk.ReadFull(v.r, b, at); err != nil {
			return fmt.Errorf("root directory: %w", err)
		}
		for e := b; len(e) >= entryLen; e = e[entryLen:] {
			stream := entry{le.Uint32(e[entFirst:]), int64(min(le.Uint64(e[entLength:]), 1<<62)), true}
			switch e[0] {
			case typeEnd:
				return v.checkRoot()
			case typeBitmap:
				if e[1]&1 == 0 {
					v.bitmap = stream
					v.bitmapAt = at + int64(len(b)-len(e))
				}
			case typeUpcase:
				v.upcase = stream
			case typeLabel:
				n := min(int(e[1]), maxLabel)
				u := make([]uint16, n)
				for i := range u {
					u[i] = le.Uint16(e[2+2*i:])
				}
				v.info.Label = units.Visible(string(utf16.Decode(u)))
			}
		}
	}
	return v.checkRoot()
}

func (v *Volume) checkRoot() error {
	if !v.bitmap.found || v.bitmap.length < (v.count+7)/8 {
		return fsys.Contradiction(0, "the root directory names no allocation bitmap for %d clusters", v.count)
	}
	if !v.upcase.found {
		return fsys.Contradiction(0, "the root directory names no up-case table")
	}
	return nil
}
