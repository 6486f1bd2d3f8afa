// Package fat knows FAT12, FAT16 and FAT32 (Microsoft's FAT specification of
// August 2005, "fatgen103"). It tells which clusters are in use, reads files, and makes and
// changes volumes as patches; it never writes by itself.
package fat

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/signature"
	"twinshelf/internal/units"
)

// Family makes FAT12, FAT16 and FAT32 known.
func Family() fsys.Family {
	return fsys.Family{Name: "fat", Probe: Probe, Mirrors: mirrors, Hides: signature.BitLockerToGo,
		Makers: []fsys.Maker{
			maker(12, "very small parts; every system"),
			maker(16, "small parts; every system, also very old ones"),
			maker(32, "every system and device"),
		}}
}

// Volume is a FAT file system. Offsets and sizes are in bytes.
type Volume struct {
	r        io.ReaderAt
	info     fsys.Info
	bits     int // 12, 16, 32
	fatAt    int64
	fatSize  int64 // one copy
	fats     int64
	active   int64 // which copy is read
	mirrored bool
	rootAt   int64 // FAT12/16
	rootSize int64
	rootClus uint32 // FAT32
	dataAt   int64
	cluster  int64
	count    int64 // clusters
}

// Probe recognises FAT by a boot sector whose fields all make sense together.
func Probe(r io.ReaderAt, size int64, _ int) (fsys.Volume, error) {
	b := make([]byte, 512)
	if n, _ := r.ReadAt(b, 0); n < len(b) || b[510] != 0x55 || b[511] != 0xAA {
		return nil, nil
	}
	le := binary.LittleEndian
	sector, per := int64(le.Uint16(b[bpbSector:])), int64(b[bpbCluster])
	reserved, fats := int64(le.Uint16(b[bpbReserved:])), int64(b[bpbFATs])
	// The signature alone is on MBRs and other boot sectors too.
	if b[0] != 0xEB && b[0] != 0xE9 || sector < 512 || sector > 4096 || sector&(sector-1) != 0 ||
		per == 0 || per&(per-1) != 0 || reserved == 0 || fats < 1 || fats > 2 || b[bpbMedia] != 0xF0 &&
		b[bpbMedia] < 0xF8 {
		return nil, nil
	}
	v := &Volume{r: r, fats: fats, cluster: sector * per, fatAt: reserved * sector, mirrored: true}
	v.fatSize = int64(le.Uint16(b[bpbFATSize16:])) * sector
	if v.fatSize == 0 {
		v.fatSize = int64(le.Uint32(b[bpbFATSize32:])) * sector
	}
	total := int64(le.Uint16(b[bpbTotal16:]))
	if total == 0 {
		total = int64(le.Uint32(b[bpbTotal32:]))
	}
	v.rootAt = v.fatAt + fats*v.fatSize
	v.rootSize = (int64(le.Uint16(b[bpbRootCount:]))*dirEntry + sector - 1) / sector * sector
	v.dataAt = v.rootAt + v.rootSize
	v.info = fsys.Info{Size: total * sector, Unit: v.cluster}
	if v.fatSize == 0 || total == 0 || v.dataAt >= v.info.Size {
		return nil, nil
	}
	if v.info.Size > size {
		return nil, fsys.Contradiction(bpbTotal32, "the FAT volume claims %d sectors of %d bytes, more than its "+
			"part of %d bytes holds", total, sector, size)
	}
	v.count = (v.info.Size - v.dataAt) / v.cluster
	switch {
	case le.Uint16(b[bpbFATSize16:]) == 0 && v.rootSize == 0:
		v.bits = 32
	case v.count <= maxFAT12:
		v.bits = 12
	default:
		v.bits = 16
	}
	v.info.Kind = fmt.Sprintf("FAT%d", v.bits)
	if limit := map[int]int64{12: maxFAT12, 16: maxFAT16, 32: maxFAT32}[v.bits]; v.count > limit || v.count < 1 {
		return nil, fsys.Contradiction(bpbTotal32, "%d clusters are not possible on %s", v.count, v.info.Kind)
	}
	if need := ((v.count+2)*int64(v.bits) + 7) / 8; v.fatSize < need {
		return nil, fsys.Contradiction(bpbFATSize16, "the allocation table has %d bytes, %d clusters need %d",
			v.fatSize, v.count, need)
	}
	return v, v.describe(b)
}

func (v *Volume) describe(b []byte) error {
	le := binary.LittleEndian
	serial, label, dirty := bs16Serial, bs16Label, bs16Dirty
	if v.bits == 32 {
		serial, label, dirty = bs32Serial, bs32Label, bs32Dirty
		if le.Uint16(b[bpbVersion32:]) != 0 {
			return fsys.Contradiction(bpbVersion32, "FAT32 of version %#x is not known", le.Uint16(b[bpbVersion32:]))
		}
		v.rootClus = le.Uint32(b[bpbRoot32:])
		if flags := le.Uint16(b[bpbExtFlags:]); flags&0x80 != 0 {
			v.mirrored, v.active = false, int64(flags&15)
			if v.active >= v.fats {
				return fsys.Contradiction(bpbExtFlags, "allocation table %d is said to be in use, there are %d",
					v.active+1, v.fats)
			}
		}
	}
	if b[serial-1] == 0x29 || b[serial-1] == 0x28 {
		id := le.Uint32(b[serial:])
		v.info.ID = fmt.Sprintf("%04X-%04X", id>>16, id&0xFFFF)
		v.info.Label = labelText(b[label : label+11])
	}
	if l, ok, err := v.rootLabel(); err != nil {
		return err
	} else if ok {
		v.info.Label = l
	}
	// Entry 1 carries the marks of the last shutdown.
	one, err := v.entries(v.active, 1, 2)
	if err != nil {
		return err
	}
	shut := uint32(0xFFFF)
	switch v.bits {
	case 16:
		shut = one[0] & 0xC000 << 16
	case 32:
		shut = one[0] & 0x0C000000 << 4
	}
	switch {
	case v.bits != 12 && shut&0x80000000 == 0, b[dirty]&1 != 0:
		v.info.Unclean = "it is marked dirty: it wasn't unmounted cleanly"
	case v.bits != 12 && shut&0x40000000 == 0, b[dirty]&2 != 0:
		v.info.Unclean = "the system that used it met disk errors on it"
	}
	return nil
}

func labelText(b []byte) string {
	s := strings.TrimRight(string(bytes.ToValidUTF8(b, []byte("?"))), " \x00")
	if s == "NO NAME" {
		return ""
	}
	return units.Visible(s)
}

// rootLabel looks for the volume's name in the root directory.
func (v *Volume) rootLabel() (string, bool, error) {
	at, n := v.rootAt, v.rootSize
	if v.bits == 32 {
		if v.rootClus < 2 || int64(v.rootClus) >= v.count+2 {
			return "", false, fsys.Contradiction(bpbRoot32, "the root directory is said to begin at cluster %d of %d",
				v.rootClus, v.count)
		}
		at, n = v.dataAt+int64(v.rootClus-2)*v.cluster, v.cluster
	}
	b := make([]byte, n)
	if err := disk.ReadFull(v.r, b, at); err != nil {
		return "", false, err
	}
	for ; len(b) >= dirEntry && b[0] != 0; b = b[dirEntry:] {
		if a := b[entAttr]; b[0] != 0xE5 && a&attrLongName != attrLongName && a&attrVolumeID != 0 {
			return labelText(b[:11]), true, nil
		}
	}
	return "", false, nil
}

// Info describes the volume.
func (v *Volume) Info() fsys.Info { return v.info }

// entries reads the table entries [from, to) of one copy of the table.
func (v *Volume) entries(copyNo, from, to int64) ([]uint32, error) {
	bits := int64(v.bits)
	first, last := from*bits/8, (to*bits+7)/8
	b := make([]byte, last-first)
	if err := disk.ReadFull(v.r, b, v.fatAt+copyNo*v.fatSize+first); err != nil {
		return nil, fmt.Errorf("allocation table: %w", err)
	}
	out := make([]uint32, to-from)
	for i := range out {
		switch n := from + int64(i); v.bits {
		case 12:
			at := n*3/2 - first
			w := uint32(b[at])
			if at+1 < int64(len(b)) {
				w |= uint32(b[at+1]) << 8
			}
			out[i] = w >> (n % 2 * 4) & 0xFFF
		case 16:
			out[i] = uint32(binary.LittleEndian.Uint16(b[2*i:]))
		case 32:
			out[i] = binary.LittleEndian.Uint32(b[4*i:]) & 0x0FFFFFFF
		}
	}
	return out, nil
}

const tableChunk = 1 << 18 // entries read at a time
