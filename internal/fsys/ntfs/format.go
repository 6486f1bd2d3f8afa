package ntfs

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/upcase"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

func maker() fsys.Maker {
	return fsys.Maker{
		Kind: "NTFS", About: "Windows, and Linux; macOS reads it only; journal", Systems: []string{"Windows", "Linux"},
		FileLimit: 16 * units.TiB, Min: func(int) int64 { return 4 * units.MiB }, Max: func(int) int64 {
			return (1<<32 - 1) * 64 * units.KiB
		},
		Units: clusterSizes, Label: checkLabel, Make: format,
		GPTType: "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", MBRType: "0x07",
		UsualFor: "Windows", Shared: 2,
	}
}

// clusterSizes: from a sector to 64 KiB; by default 4 KiB up to 16 TiB, then as
// many as 32-bit cluster numbers need.
func clusterSizes(size int64, sector int) (choice []int64, byDefault int64) {
	for _, c := range fsys.PowersOfTwo(int64(sector), 64*units.KiB) {
		if size/c < 1<<32 && size/c > 16*minClusters/int64(max(1, c/4096)) {
			choice = append(choice, c)
		}
	}
	byDefault = 4096
	for len(choice) > 0 && !slices.Contains(choice, byDefault) && byDefault < 64*units.KiB {
		byDefault *= 2
	}
	return choice, byDefault
}

const minClusters = 16

// checkLabel: 32 UTF-16 units.
func checkLabel(label string) error {
	if err := fsys.PlainLabel("NTFS", label, 32); err != nil {
		return err
	}
	if len(utf16Bytes(label)) > 64 {
		return fmt.Errorf("the label %q is too long: NTFS has room for 32 characters", label)
	}
	if strings.ContainsAny(label, `\/:*?"<>|`) {
		return errors.New(`the label holds one of \ / : * ? " < > |, which Windows doesn't allow; leave it out`)
	}
	return nil
}

// What a new volume has.
const (
	indexBlock = 4096
	mirrored   = 4
	newRecords = 64
	maxLog     = 16 * units.MiB
)

// plan is a new volume while it is made. Places are in clusters.
type plan struct {
	f        fsys.Form
	cluster  int64
	sectors  int64 // of the volume; the copy of the boot sector follows them
	clusters int64
	record   int64 // bytes
	records  int64

	taken  span.Set // clusters
	cursor int64
	boot, mftBitmap, mft, mirror, log, attrDef,
	bitmap, upcase, secure, root span.Span
	bitmapBytes int64
	patches     []disk.Patch
}

func format(f fsys.Form) ([]disk.Patch, error) {
	p := &plan{f: f, cluster: f.Unit, record: max(1024, int64(f.Sector))}
	p.sectors = f.Size/int64(f.Sector) - 1
	p.clusters = p.sectors * int64(f.Sector) / p.cluster
	p.records = max(newRecords*1024, p.cluster) / p.record
	p.records = max(p.records, (recReparse+1+7)/8*8)
	if err := p.place(); err != nil {
		return nil, err
	}
	p.write()
	return p.patches, nil
}

// logBytes: small volumes get a small log.
func logBytes(size int64) int64 {
	switch {
	case size < 16*units.MiB:
		return 256 * units.KiB
	case size < 512*units.MiB:
		return 2 * units.MiB
	case size < 8*units.GiB:
		return 4 * units.MiB
	}
	return maxLog
}

// place finds room: $MFT near the start with an eighth of the volume free after
// it to grow into, its mirror in the middle.
func (p *plan) place() error {
	p.bitmapBytes = (p.clusters + 63) / 64 * 8
	var err error
	claim := func(bytes, from int64) (sp span.Span) {
		n := (bytes + p.cluster - 1) / p.cluster
		p.cursor = max(p.cursor, from)
		for err == nil {
			sp = span.At(p.cursor, n)
			if sp.End > p.clusters {
				err = fmt.Errorf("%s is too small for NTFS with allocation units of %s; choose a smaller unit",
					units.Bytes(p.f.Size), units.Binary(p.cluster))
				return sp
			}
			hit := p.taken.Clip(sp)
			if hit.Empty() {
				p.taken.Add(sp)
				p.cursor = sp.End
				return sp
			}
			p.cursor = hit.Bounds().End
		}
		return sp
	}
	p.boot = claim(bootBytes, 0)
	mirrorBytes := mirrored * p.record
	middle := p.clusters / 2
	p.mirror = span.At(middle, (mirrorBytes+p.cluster-1)/p.cluster)
	p.taken.Add(p.mirror)
	p.mftBitmap = claim(p.records/8, 0)
	p.mft = claim(p.records*p.record, 0)
	zone := p.clusters / 8
	if p.clusters*p.cluster < 64*units.MiB {
		zone = 0
	}
	p.log = claim(logBytes(p.f.Size), zone)
	p.attrDef = claim(attrDefBytes, 0)
	p.bitmap = claim(p.bitmapBytes, 0)
	p.upcase = claim(upcaseBytes, 0)
	p.secure = claim(int64(len(securityStream())), 0)
	p.root = claim(indexBlock, 0)
	return err
}

const upcaseBytes = 2 << 16

func (p *plan) add(at int64, b []byte, why string) {
	p.patches = append(p.patches, disk.Patch{Off: at, Data: b, Why: why})
}

// fill writes a file's bytes and zeros to the end of its clusters.
func (p *plan) fill(where span.Span, b []byte, why string) {
	at := where.Start * p.cluster
	p.add(at, b, why)
	p.patches = append(p.patches, disk.Patch{Off: at + int64(len(b)), Zeros: where.Len()*p.cluster - int64(len(b)),
		Why: why})
}

// ones is what an empty log is full of; all patches of it share these bytes.
var ones = bytes.Repeat([]byte{0xFF}, 1<<20)

func (p *plan) write() {
	boot := p.bootSector()
	p.fill(p.boot, boot, "boot sector and room for boot code")
	p.add(p.sectors*int64(p.f.Sector), boot, "copy of the boot sector")
	mft := p.fileRecords()
	p.fill(p.mft, mft, "$MFT")
	p.fill(p.mirror, mft[:mirrored*p.record], "$MFTMirr")
	inUse := make([]byte, p.records/8)
	for _, n := range []int{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, recQuota, recObjID, recReparse} {
		inUse[n/8] |= 1 << (n % 8)
	}
	p.fill(p.mftBitmap, inUse, "map of the file records")
	logAt := p.log.Start * p.cluster
	for left := p.log.Len() * p.cluster; left > 0; {
		n := min(left, int64(len(ones)))
		p.add(logAt, ones[:n], "$LogFile")
		logAt, left = logAt+n, left-n
	}
	p.fill(p.attrDef, attrDefTable(), "$AttrDef")
	table := make([]byte, 0, upcaseBytes)
	for _, c := range upcase.Table() {
		table = binary.LittleEndian.AppendUint16(table, c)
	}
	p.fill(p.upcase, table, "$UpCase")
	p.fill(p.secure, securityStream(), "security descriptors")
	p.fill(p.root, p.rootIndex(), "root directory")
	p.writeBitmap()
}

// bitmapPage is the granularity in which $Bitmap is either written or only zeros.
const bitmapPage = 4096

func (p *plan) writeBitmap() {
	at := p.bitmap.Start * p.cluster
	end := p.bitmap.Len() * p.cluster
	for off := int64(0); off < end; {
		n := min(bitmapPage, end-off)
		area := span.Span{Start: off * 8, End: (off + n) * 8}
		used := p.taken.Clip(area)
		if tail := area.Intersect(span.Span{Start: p.clusters, End: p.bitmapBytes * 8}); !tail.Empty() {
			used.Add(tail) // past the end nothing is free
		}
		if used.Empty() { // up to the next page with something in it
			next := end
			if rest := p.taken.Clip(span.Span{Start: area.End, End: p.clusters}); !rest.Empty() {
				next = rest.Bounds().Start / 8 / bitmapPage * bitmapPage
			}
			next = min(next, max(off+n, p.clusters/8/bitmapPage*bitmapPage))
			p.patches = append(p.patches, disk.Patch{Off: at + off, Zeros: next - off, Why: "$Bitmap"})
			off = next
			continue
		}
		b := make([]byte, n)
		for sp := range used.All() {
			for i := sp.Start - area.Start; i < sp.End-area.Start; i++ {
				b[i/8] |= 1 << (i % 8)
			}
		}
		p.add(at+off, b, "$Bitmap")
		off += n
	}
}

func (p *plan) bootSector() []byte {
	b := make([]byte, p.f.Sector)
	le := binary.LittleEndian
	copy(b[bootJump:], []byte{0xEB, bootNewCode - 2, 0x90})
	copy(b[bootOEM:], "NTFS    ")
	le.PutUint16(b[bootSectorSize:], uint16(p.f.Sector))
	b[bootClusterSize] = byte(p.cluster / int64(p.f.Sector))
	b[bootMedia] = 0xF8
	le.PutUint16(b[bootTrack:], 63)
	le.PutUint16(b[bootHeads:], 255)
	le.PutUint32(b[bootHidden:], uint32(min(p.f.Start/int64(p.f.Sector), 1<<32-1)))
	copy(b[bootReserved:], []byte{0x80, 0, 0x80, 0})
	le.PutUint64(b[bootSectors:], uint64(p.sectors))
	le.PutUint64(b[bootMFT:], uint64(p.mft.Start))
	le.PutUint64(b[bootMFTMirror:], uint64(p.mirror.Start))
	b[bootRecordSize] = p.perClusters(p.record)
	b[bootIndex] = p.perClusters(indexBlock)
	copy(b[bootSerial:bootSerial+8], p.f.ID[:8])
	copy(b[bootNewCode:], []byte{0xCD, 0x18, 0xF4, 0xEB, 0xFD}) // "nothing to start here": INT 18h, then halt
	b[510], b[511] = 0x55, 0xAA
	return b
}

// perClusters codes a size in clusters, or as 2^-n bytes when it is less than one.
func (p *plan) perClusters(bytes int64) byte {
	if bytes >= p.cluster {
		return byte(bytes / p.cluster)
	}
	log := 0
	for n := bytes; n > 1; n /= 2 {
		log++
	}
	return byte(-log)
}
