package fat

import (
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/units"
)

// What a new volume has.
const (
	reserved32  = 32
	rootEntries = 512
	copies      = 2
	// Cluster counts this close to a limit are avoided: some drivers are off by a few.
	margin = 16
)

func maker(bits int, about string) fsys.Maker {
	m := fsys.Maker{
		Kind: fmt.Sprintf("FAT%d", bits), About: about, FileLimit: 1<<32 - 1,
		Systems: []string{"Windows", "macOS", "Linux", "older devices"},
		Label:   checkLabel, Written: strings.ToUpper, Firmware: true, GPTType: "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7",
		Min: func(sector int) int64 { return smallest(bits, sector) },
		Max: func(sector int) int64 { return largest(bits, sector) },
		Units: func(size int64, sector int) ([]int64, int64) {
			return clusterSizes(bits, size, sector)
		},
		Make: func(f fsys.Form) ([]disk.Patch, error) { return format(bits, f) },
	}
	if bits == 32 {
		m.Shared = 4
	}
	m.MBRType = map[int]string{12: "0x01", 16: "0x0e", 32: "0x0c"}[bits]
	return m
}

func smallest(bits, sector int) int64 {
	switch bits {
	case 12:
		return 64 * units.KiB * int64(sector) / 512
	case 16:
		return (maxFAT12 + 2*margin) * int64(sector) * 21 / 20
	}
	return (maxFAT16 + 2*margin) * int64(sector) * 21 / 20
}

func largest(bits, sector int) int64 {
	switch bits {
	case 12:
		return (maxFAT12 - margin) * 32 * units.KiB
	case 16:
		return (maxFAT16 - margin) * 64 * units.KiB
	}
	return (1<<32 - 1) * int64(sector)
}

// geometry is where everything of a volume lies, in sectors.
type geometry struct {
	bits, sector    int
	total           int64
	per             int64 // sectors per cluster
	reserved, fatSz int64
	root            int64 // FAT12/16
	clusters        int64
}

func (g geometry) data() int64 { return g.reserved + copies*g.fatSz + g.root }

// fits says whether the number of clusters makes this kind of FAT and no other.
func (g geometry) fits() bool {
	switch g.bits {
	case 12:
		return g.clusters > 0 && g.clusters <= maxFAT12-margin
	case 16:
		return g.clusters > maxFAT12+margin && g.clusters <= maxFAT16-margin
	}
	return g.clusters > maxFAT16+margin && g.clusters <= maxFAT32
}

// layOut finds the least allocation table that holds all clusters, and begins the
// data on a whole cluster from the start of the part.
func layOut(bits int, size int64, sector int, cluster int64) geometry {
	s := int64(sector)
	g := geometry{bits: bits, sector: sector, total: min(size/s, 1<<32-1), per: cluster / s, reserved: 1}
	if bits == 32 {
		g.reserved = reserved32
	} else {
		g.root = (rootEntries*dirEntry + s - 1) / s
	}
	for range 4 { // a larger table leaves fewer clusters: this settles at once or in two rounds
		g.clusters = (g.total - g.data()) / g.per
		need := ((g.clusters+2)*int64(bits) + 8*s - 1) / (8 * s)
		if need <= g.fatSz {
			break
		}
		g.fatSz = need
	}
	if over := g.data() % g.per; over > 0 && g.clusters > 64 && g.reserved+g.per-over < 1<<16 {
		g.reserved += g.per - over
	}
	g.clusters = (g.total - g.data()) / g.per
	return g
}

// clusterSizes are those with which a part of size bytes is this kind of FAT.
func clusterSizes(bits int, size int64, sector int) (choice []int64, byDefault int64) {
	for _, c := range fsys.PowersOfTwo(int64(sector), 64*units.KiB) {
		if c/int64(sector) <= 128 && layOut(bits, size, sector, c).fits() {
			choice = append(choice, c)
		}
	}
	if len(choice) == 0 {
		return nil, int64(sector)
	}
	want := choice[0]
	if bits == 32 { // the specification's table ("FAT Volume Initialization"), carried on
		switch {
		case size <= 260*units.MiB:
			want = 512
		case size <= 8*units.GiB:
			want = 4 * units.KiB
		case size <= 16*units.GiB:
			want = 8 * units.KiB
		case size <= 32*units.GiB:
			want = 16 * units.KiB
		default:
			want = 32 * units.KiB
		}
	}
	byDefault = choice[0]
	for _, c := range choice {
		if c <= want {
			byDefault = c
		}
	}
	return choice, byDefault
}

// checkLabel: eleven characters of the directory's short-name alphabet.
func checkLabel(label string) error {
	if err := fsys.PlainLabel("FAT", label, 11); err != nil {
		return err
	}
	for _, r := range strings.ToUpper(label) {
		if r > 0x7E || strings.ContainsRune(`"*+,./:;<=>?[\]|`, r) {
			return fmt.Errorf("the label %q holds %q, which FAT doesn't allow; use the letters A to Z, digits, "+
				"space, - and _", label, r)
		}
	}
	return nil
}

func paddedLabel(label string) []byte {
	if label == "" {
		label = "NO NAME"
	}
	return fmt.Appendf(nil, "%-11s", strings.ToUpper(label))
}

func format(bits int, f fsys.Form) ([]disk.Patch, error) {
	g := layOut(bits, f.Size, f.Sector, f.Unit)
	if !g.fits() {
		return nil, fmt.Errorf("a part of %s with allocation units of %s would have %d clusters, which isn't FAT%d; "+
			"choose another unit or kind", units.Bytes(f.Size), units.Binary(f.Unit), g.clusters, bits)
	}
	s := int64(f.Sector)
	boot := g.bootSector(f)
	patches := []disk.Patch{{Off: 0, Data: boot, Why: "boot sector"}}
	first := make([]byte, f.Sector) // the first sector of the table
	le := binary.LittleEndian
	switch bits {
	case 12:
		copy(first, []byte{mediaFixed, 0xFF, 0xFF})
	case 16:
		le.PutUint16(first, 0xFF00|mediaFixed)
		le.PutUint16(first[2:], 0xFFFF)
	default:
		// the last: the root's only cluster
		for i, e := range []uint32{0x0FFFFF00 | mediaFixed, 0x0FFFFFFF, 0x0FFFFFFF} {
			le.PutUint32(first[4*i:], e)
		}
		info := g.fsInfo()
		patches = append(patches,
			disk.Patch{Off: fsiSector * s, Data: info, Why: "FSInfo sector"},
			disk.Patch{Off: backupSector * s, Data: boot, Why: "copy of the boot sector"},
			disk.Patch{Off: (backupSector + fsiSector) * s, Data: info, Why: "copy of the FSInfo sector"})
	}
	for i := range int64(copies) {
		at := (g.reserved + i*g.fatSz) * s
		patches = append(patches, disk.Patch{Off: at, Data: first, Why: "allocation table"},
			disk.Patch{Off: at + s, Zeros: (g.fatSz - 1) * s, Why: "allocation table"})
	}
	root, rootLen := (g.reserved+copies*g.fatSz)*s, g.root*s
	if bits == 32 {
		rootLen = f.Unit
	}
	dir := make([]byte, s)
	if f.Label != "" {
		copy(dir, paddedLabel(f.Label))
		dir[entAttr] = attrVolumeID
		date, clock := dosTime(f.Now)
		le.PutUint16(dir[entTime:], clock)
		le.PutUint16(dir[entDate:], date)
	}
	return append(patches, disk.Patch{Off: root, Data: dir, Why: "root directory"},
		disk.Patch{Off: root + s, Zeros: rootLen - s, Why: "root directory"}), nil
}

func (g geometry) bootSector(f fsys.Form) []byte {
	b := make([]byte, g.sector)
	le := binary.LittleEndian
	copy(b[bootName:], "MSWIN4.1") // what the specification recommends, for old readers
	le.PutUint16(b[bpbSector:], uint16(g.sector))
	b[bpbCluster] = byte(g.per)
	le.PutUint16(b[bpbReserved:], uint16(g.reserved))
	b[bpbFATs] = copies
	b[bpbMedia] = mediaFixed
	le.PutUint16(b[bpbTrack:], 63)
	le.PutUint16(b[bpbHeads:], 255)
	le.PutUint32(b[bpbHidden:], uint32(min(f.Start/int64(g.sector), 1<<32-1)))
	if g.bits < 32 && g.total < 1<<16 {
		le.PutUint16(b[bpbTotal16:], uint16(g.total))
	} else {
		le.PutUint32(b[bpbTotal32:], uint32(g.total))
	}
	drive, sig, serial, label, kind, code := bs16Drive, bs16Sig, bs16Serial, bs16Label, bs16Type, bootCode16
	if g.bits == 32 {
		drive, sig, serial, label, kind, code = bs32Drive, bs32Sig, bs32Serial, bs32Label, bs32Type, bootCode32
		le.PutUint32(b[bpbFATSize32:], uint32(g.fatSz))
		le.PutUint32(b[bpbRoot32:], 2)
		le.PutUint16(b[bpbFSInfo:], fsiSector)
		le.PutUint16(b[bpbBackup:], backupSector)
	} else {
		le.PutUint16(b[bpbFATSize16:], uint16(g.fatSz))
		le.PutUint16(b[bpbRootCount:], rootEntries)
	}
	copy(b, []byte{0xEB, byte(code - 2), 0x90})
	b[drive], b[sig] = firstDrive, extendedSig
	copy(b[serial:], f.ID[:4])
	copy(b[label:], paddedLabel(f.Label))
	copy(b[kind:], fmt.Sprintf("%-8s", fmt.Sprintf("FAT%d", g.bits)))
	copy(b[code:], []byte{0xCD, 0x18, 0xF4, 0xEB, 0xFD}) // "nothing to start here": INT 18h, then halt
	b[510], b[511] = 0x55, 0xAA
	return b
}

func (g geometry) fsInfo() []byte {
	b := make([]byte, g.sector)
	le := binary.LittleEndian
	le.PutUint32(b, fsiLead)
	le.PutUint32(b[fsiStructAt:], fsiStruct)
	le.PutUint32(b[fsiFree:], uint32(g.clusters-1))
	le.PutUint32(b[fsiNext:], 3)
	le.PutUint32(b[fsiTrailAt:], fsiTrail)
	return b
}

// dosTime packs a moment ("Date and Time Formats"); 1980 is the earliest year.
func dosTime(t time.Time) (date, clock uint16) {
	y := max(0, t.Year()-1980)
	return uint16(y<<9 | int(t.Month())<<5 | t.Day()), uint16(t.Hour()<<11 | t.Minute()<<5 | t.Second()/2)
}
