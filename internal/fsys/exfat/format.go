package exfat

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/units"
)

func maker() fsys.Maker {
	return fsys.Maker{
		Kind: "exFAT", About: "current systems of every kind; no journal",
		Systems: []string{"Windows", "macOS", "Linux"},
		Min:     func(int) int64 { return units.MiB }, Max: func(int) int64 { return 128 * 1024 * units.GiB },
		Units: clusterSizes, Label: checkLabel, Make: format,
		GPTType: "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", MBRType: "0x07", Shared: 1,
	}
}

// clusterSizes: up to 32 MiB are allowed; by default 4 KiB up to 256 MiB, 32 KiB
// up to 32 GiB, 128 KiB beyond, as is usual for exFAT.
func clusterSizes(size int64, sector int) (choice []int64, byDefault int64) {
	for _, c := range fsys.PowersOfTwo(int64(sector), 32*units.MiB) {
		if g := layOut(size, sector, c); g.clusters >= 8 && g.clusters <= maxClusters && c >= size>>32 && g.fits() {
			choice = append(choice, c)
		}
	}
	byDefault = 128 * units.KiB
	switch {
	case size <= 256*units.MiB:
		byDefault = 4 * units.KiB
	case size <= 32*units.GiB:
		byDefault = 32 * units.KiB
	}
	if len(choice) > 0 && !slices.Contains(choice, byDefault) {
		byDefault = choice[len(choice)-1]
	}
	return choice, byDefault
}

// checkLabel: eleven UTF-16 units, without the characters that names can't hold.
func checkLabel(label string) error {
	if err := fsys.PlainLabel("exFAT", label, maxLabel); err != nil {
		return err
	}
	if n := len(utf16.Encode([]rune(label))); n > maxLabel {
		return fmt.Errorf("the label %q takes %d units of 16 bits; exFAT has room for %d", label, n, maxLabel)
	}
	if i := strings.IndexAny(label, `"*/:<>?\|`); i >= 0 {
		return fmt.Errorf("the label %q holds %q, which exFAT doesn't allow; leave it out", label, label[i])
	}
	return nil
}

// geometry is where everything of a volume lies, in sectors; clusters are counted.
type geometry struct {
	sector                    int64
	total                     int64
	fat, fatLen               int64
	heap, per                 int64
	clusters                  int64
	bitmapBytes               int64
	bitmap, upcase, root, end int64 // cluster numbers from 0
}

// layOut puts the table and the heap on multiples of 1 MiB on large volumes and of
// whole clusters on small ones.
func layOut(size int64, sector int, cluster int64) geometry {
	s := int64(sector)
	g := geometry{sector: s, total: size / s, per: cluster / s}
	align := min(max(g.per, 8), units.MiB/s)
	if size >= 256*units.MiB {
		align = units.MiB / s
	}
	up := func(n int64) int64 { return (n + align - 1) / align * align }
	g.fat = up(2 * regionSectors)
	most := (g.total - g.fat) / g.per
	g.fatLen = ((most+firstCluster)*4 + s - 1) / s
	g.heap = up(g.fat + g.fatLen)
	g.clusters = min((g.total-g.heap)/g.per, maxClusters)
	g.bitmapBytes = (g.clusters + 7) / 8
	need := func(bytes int64) int64 { return (bytes + cluster - 1) / cluster }
	g.upcase = g.bitmap + need(g.bitmapBytes)
	g.root = g.upcase + need(int64(len(upcaseTable())))
	g.end = g.root + 1
	return g
}

func (g geometry) fits() bool { return g.total > g.heap && g.end < g.clusters }

func format(f fsys.Form) ([]disk.Patch, error) {
	g := layOut(f.Size, f.Sector, f.Unit)
	if !g.fits() {
		return nil, fmt.Errorf("a part of %s with allocation units of %s has no room for exFAT's own tables; choose "+
			"a smaller unit", units.Bytes(f.Size), units.Binary(f.Unit))
	}
	region := g.bootRegion(f)
	heap := func(cluster int64) int64 { return (g.heap + cluster*g.per) * g.sector }
	table := upcaseTable()
	bits := make([]byte, g.end/8+1)
	for i := range g.end {
		bits[i/8] |= 1 << (i % 8)
	}
	fat := g.table()
	return []disk.Patch{
		{Off: 0, Data: region, Why: "boot region"},
		{Off: regionSectors * g.sector, Data: region, Why: "copy of the boot region"},
		{Off: g.fat * g.sector, Data: fat, Why: "allocation table"},
		{Off: g.fat*g.sector + int64(len(fat)), Zeros: g.fatLen*g.sector - int64(len(fat)), Why: "allocation table"},
		{Off: heap(g.bitmap), Data: bits, Why: "allocation bitmap"},
		{Off: heap(g.bitmap) + int64(len(bits)), Zeros: heap(g.upcase) - heap(g.bitmap) - int64(len(bits)),
			Why: "allocation bitmap"},
		{Off: heap(g.upcase), Data: table, Why: "up-case table"},
		{Off: heap(g.upcase) + int64(len(table)), Zeros: heap(g.root) - heap(g.upcase) - int64(len(table)),
			Why: "up-case table"},
		{Off: heap(g.root), Data: g.rootDirectory(f.Label, table), Why: "root directory"},
		{Off: heap(g.root) + 3*entryLen, Zeros: f.Unit - 3*entryLen, Why: "root directory"},
	}, nil
}

// table is the FAT's beginning: the media entries and the chains of the three system streams.
func (g geometry) table() []byte {
	b := make([]byte, (g.end+firstCluster)*4)
	le := binary.LittleEndian
	le.PutUint32(b, 0xFFFFFFF8)
	le.PutUint32(b[4:], endOfChain)
	for i := range g.end {
		next := uint32(i + firstCluster + 1)
		if i+1 == g.upcase || i+1 == g.root || i+1 == g.end {
			next = endOfChain
		}
		le.PutUint32(b[4*(i+firstCluster):], next)
	}
	return b
}

func (g geometry) rootDirectory(label string, table []byte) []byte {
	b := make([]byte, 3*entryLen)
	le := binary.LittleEndian
	u := utf16.Encode([]rune(label))
	b[0] = typeLabel
	if len(u) == 0 {
		b[0] = typeLabel &^ typeInUse
	}
	b[1] = byte(len(u))
	for i, c := range u {
		le.PutUint16(b[2+2*i:], c)
	}
	e := b[entryLen:]
	e[0] = typeBitmap
	le.PutUint32(e[entFirst:], uint32(g.bitmap+firstCluster))
	le.PutUint64(e[entLength:], uint64(g.bitmapBytes))
	e = e[entryLen:]
	e[0] = typeUpcase
	le.PutUint32(e[upcaseSumAt:], checksum(0, table, nil))
	le.PutUint32(e[entFirst:], uint32(g.upcase+firstCluster))
	le.PutUint64(e[entLength:], uint64(len(table)))
	return b
}

// bootRegion is the twelve sectors that stand twice at the start (section 3).
func (g geometry) bootRegion(f fsys.Form) []byte {
	s := int(g.sector)
	b := make([]byte, regionSectors*s)
	le := binary.LittleEndian
	copy(b, []byte{0xEB, 0x76, 0x90})
	copy(b[bootName:], "EXFAT   ")
	le.PutUint64(b[bootPartition:], uint64(f.Start/g.sector))
	le.PutUint64(b[bootLength:], uint64(g.total))
	le.PutUint32(b[bootFAT:], uint32(g.fat))
	le.PutUint32(b[bootFATLength:], uint32(g.fatLen))
	le.PutUint32(b[bootHeap:], uint32(g.heap))
	le.PutUint32(b[bootClusters:], uint32(g.clusters))
	le.PutUint32(b[bootRoot:], uint32(g.root+firstCluster))
	copy(b[bootSerial:bootSerial+4], f.ID[:4])
	le.PutUint16(b[bootRevision:], 0x0100)
	b[bootSector], b[bootCluster] = shiftOf(g.sector), shiftOf(g.per)
	b[bootFATs], b[bootDrive] = 1, 0x80
	b[bootPercent] = byte(g.end * 100 / g.clusters)
	for i := bootCode; i < bootSignature; i++ {
		b[i] = 0xF4 // halt: there is nothing to start
	}
	b[bootSignature], b[bootSignature+1] = 0x55, 0xAA
	for i := 1; i <= 8; i++ { // extended boot sectors, empty
		copy(b[(i+1)*s-4:], []byte{0x00, 0x00, 0x55, 0xAA})
	}
	sum := checksum(0, b[:checksumSector*s], []int{bootFlags, bootFlags + 1, bootPercent})
	for i := range s / 4 {
		le.PutUint32(b[checksumSector*s+4*i:], sum)
	}
	return b
}

func shiftOf(n int64) byte {
	s := byte(0)
	for ; n > 1; n >>= 1 {
		s++
	}
	return s
}

// checksum is the rotating sum of sections 3.4 and 7.2.2; bytes at the places in skip don't count.
func checksum(sum uint32, b []byte, skip []int) uint32 {
	for i, c := range b {
		if slices.Contains(skip, i) && i < bootCode {
			continue
		}
		sum = sum<<31 | sum>>1
		sum += uint32(c)
	}
	return sum
}
