// Package ldmtest makes dynamic disks for tests: tables and databases, whose volumes are the caller's to fill.
package ldmtest

import (
	"encoding/binary"
	"fmt"
	"os"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// Layouts of components.
const (
	Striped = 1
	Spanned = 2
	Parity  = 3
)

// Sector is that of the disks in bytes, Area how many of them the database has.
const (
	Sector = 512
	Area   = 2048
)

// GroupID is the GUID of every group made here.
const GroupID = "5e1f0a52-7c1d-4a7e-9a51-0c27a6b3d001"

// Piece is a stretch of a disk, in sectors of its area for volumes.
type Piece struct {
	Disk        int // from 0
	Start, Size int64
}

// Component is how a volume lies, or one of its mirrors.
type Component struct {
	Layout byte
	Stripe int64 // sectors
	State  string
	Pieces []Piece
}

// Volume is one of the group; Size is in sectors.
type Volume struct {
	Name, Hint string
	Size       int64
	Mirrors    []Component
}

// Disk is one of the group. By MBR it has parts at Parts, in sectors; none are one over all of it.
type Disk struct {
	Image string
	GPT   bool
	Parts []span.Span
}

// Group is a group of disks.
type Group struct {
	Name    string
	Disks   []Disk
	Volumes []Volume
	// Committed counts changes; Status is 1 where none is on its way.
	Committed uint64
	Status    uint16
	// Extra are further records, as kind and body.
	Extra []Record
}

// Record is one of the database.
type Record struct {
	Kind, Flags byte
	Body        []byte
}

// DiskID is the GUID of a disk.
func DiskID(i int) string { return fmt.Sprintf("a3c9d1f0-55aa-4d1e-8c3b-%012x", 0x700+i) }

// start is where a disk's area for volumes begins, in sectors.
func (d Disk) start() int64 {
	if d.GPT {
		return 34 + Area
	}
	return 63
}

// Write writes tables and databases onto the images.
func (g Group) Write(t testing.TB) {
	t.Helper()
	for i := range g.Disks {
		g.WriteDisk(t, i)
	}
}

// WriteDisk writes those of one.
func (g Group) WriteDisk(t testing.TB, i int) {
	t.Helper()
	d := g.Disks[i]
	f, err := os.OpenFile(d.Image, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		t.Fatal(err)
	}
	sectors := info.Size() / Sector
	l := table.Layout{Kind: table.MBR, Sector: Sector, ID: fmt.Sprintf("4c444d%02x", i)}
	at, area := sectors-Area, span.Span{Start: d.start(), End: sectors - Area}
	if d.GPT {
		at, area.End = 34, sectors-34
		l = table.Layout{Kind: table.GPT, Sector: Sector, ID: strings.ToUpper(DiskID(i)), Parts: []table.Part{
			{Span: span.At(34*Sector, Area*Sector), Type: "5808C8AA-7E8F-42E0-85D2-E1E90434CFB3",
				GUID: strings.ToUpper(DiskID(i + 100))},
			{Span: span.Span{Start: area.Start * Sector, End: area.End * Sector},
				Type: "AF9B60A0-1431-4F62-BC68-3311714A69AD", GUID: strings.ToUpper(DiskID(i + 200))}}}
	} else {
		parts := d.Parts
		if parts == nil {
			parts = []span.Span{area}
		}
		for _, sp := range parts {
			l.Parts = append(l.Parts, table.Part{Span: span.Span{Start: sp.Start * Sector, End: sp.End * Sector},
				Type: "0x42"})
		}
	}
	patches, err := table.Build(l, info.Size())
	if err != nil {
		t.Fatal(err)
	}
	head := g.header(i, area, at)
	patches = append(patches, disk.Patch{Off: at * Sector, Data: g.database(head)})
	if !d.GPT {
		patches = append(patches, disk.Patch{Off: 6 * Sector, Data: head})
	}
	for _, p := range patches {
		if _, err := f.WriteAt(p.Data, p.Off); err != nil {
			t.Fatal(err)
		}
	}
}

// header is what a disk says of itself.
func (g Group) header(i int, area span.Span, database int64) []byte {
	b, be := make([]byte, Sector), binary.BigEndian
	copy(b, "PRIVHEAD")
	be.PutUint16(b[0x0C:], 2)
	be.PutUint16(b[0x0E:], 12)
	copy(b[0x30:], DiskID(i))
	copy(b[0x70:], "1b77da20-c717-11d0-a5be-00a0c91db73c")
	copy(b[0xB0:], GroupID)
	copy(b[0xF0:], g.Name)
	for k, n := range []int64{area.Start, area.Len(), database, Area, 2, Area - 2} {
		be.PutUint64(b[0x11B+8*k:], uint64(n))
	}
	be.PutUint32(b[0x14B:], 1)
	be.PutUint32(b[0x14F:], 1)
	be.PutUint64(b[0x153:], 1481)
	be.PutUint64(b[0x15B:], 224)
	return b
}

// database is the whole area.
func (g Group) database(head []byte) []byte {
	b, be := make([]byte, Area*Sector), binary.BigEndian
	copy(b[(Area-1)*Sector:], head)
	for _, at := range []int{1, 2, Area - 3, Area - 2} {
		toc := b[at*Sector:]
		copy(toc, "TOCBLOCK")
		for i, x := range []struct {
			name        string
			start, size uint64
		}{{"config", 17, 1481}, {"log", 1498, 224}} {
			d := toc[0x24+i*0x22:]
			copy(d, x.name)
			be.PutUint64(d[0x0A:], x.start)
			be.PutUint64(d[0x12:], x.size)
		}
	}
	config := b[17*Sector:]
	records, counts := g.records()
	at, n := Sector, 4
	for i, r := range records {
		for k := 0; k == 0 || k*112 < len(r); k++ {
			f := config[at:]
			copy(f, "VBLK")
			be.PutUint32(f[4:], uint32(n))
			be.PutUint32(f[8:], uint32(i+1))
			be.PutUint16(f[12:], uint16(k))
			be.PutUint16(f[14:], uint16((len(r)+111)/112))
			copy(f[16:128], r[k*112:])
			at, n = at+128, n+1
		}
	}
	for range 4 { // not in use
		copy(config[at:], "VBLK")
		at, n = at+128, n+1
	}
	copy(config, "VMDB")
	be.PutUint32(config[4:], uint32(n))
	be.PutUint32(config[8:], 128)
	be.PutUint32(config[12:], Sector)
	be.PutUint16(config[0x10:], g.Status)
	be.PutUint16(config[0x12:], 4)
	be.PutUint16(config[0x14:], 10)
	copy(config[0x16:], g.Name)
	copy(config[0x35:], GroupID)
	be.PutUint64(config[0x75:], g.Committed)
	be.PutUint64(config[0x7D:], g.Committed)
	for i, c := range counts {
		be.PutUint32(config[0x85+4*i:], c)
		be.PutUint32(config[0xA1+4*i:], c)
	}
	return b
}

// records are those of all objects, with how many there are of volumes, components, partitions and disks.
func (g Group) records() (out [][]byte, counts [4]uint32) {
	id := uint64(1)
	next := func() uint64 { id++; return id }
	out = append(out, Record{0x35, 0, join(number(next()), text(g.Name), text(GroupID), make([]byte, 12))}.bytes())
	disks := make([]uint64, len(g.Disks))
	for i := range g.Disks {
		disks[i] = next()
		body := join(number(disks[i]), text(fmt.Sprintf("Disk%d", i+1)))
		r := Record{0x34, 0, join(body, text(DiskID(i)), text(""), make([]byte, 12))}
		if i%2 == 1 {
			r = Record{0x44, 0, join(body, guid(DiskID(i)), make([]byte, 29))}
		}
		out = append(out, r.bytes())
		counts[3]++
	}
	for v, x := range g.Volumes {
		vid := next()
		counts[0]++
		out = append(out, x.record(vid, v))
		for m, c := range x.Mirrors {
			cid := next()
			counts[1]++
			out = append(out, c.record(cid, vid, fmt.Sprintf("%s-%02d", x.Name, m+1)))
			offset := int64(0)
			for k, p := range c.Pieces {
				counts[2]++
				name := fmt.Sprintf("Disk%d-%s-%d-%d", p.Disk+1, x.Name, m+1, k+1)
				body := join(number(next()), text(name), make([]byte, 12), long(p.Start), long(offset),
					number(uint64(p.Size)), number(cid), number(disks[p.Disk]))
				r := Record{0x33, 0, body}
				if c.Layout != Spanned {
					r = Record{0x33, 8, join(body, []byte{1, byte(k)})}
				}
				out = append(out, r.bytes())
				offset += p.Size
			}
		}
	}
	for _, r := range g.Extra {
		out = append(out, r.bytes())
	}
	return out, counts
}

func (v Volume) record(id uint64, n int) []byte {
	kind, state := "gen", make([]byte, 21)
	copy(state, "ACTIVE")
	state[14], state[16] = 3, byte(n+1)
	if v.Mirrors[0].Layout == Parity {
		kind, state[14] = "raid5", 4
	}
	body := join(number(id), text(v.Name), text(kind), text(""), state, number(uint64(len(v.Mirrors))),
		make([]byte, 16), number(uint64(v.Size)), []byte{0, 0, 0, 0, 7}, guid(VolumeID(n)))
	if v.Hint == "" {
		return Record{0x51, 0, body}.bytes()
	}
	return Record{0x51, 2, join(body, text(v.Hint))}.bytes()
}

// VolumeID is the GUID of a volume, by its place in the group.
func VolumeID(n int) string { return fmt.Sprintf("c0ffee00-1122-4334-8556-%012x", n+1) }

func (c Component) record(id, volume uint64, name string) []byte {
	state := c.State
	if state == "" {
		state = "ACTIVE"
	}
	body := join(number(id), text(name), text(state), []byte{c.Layout, 0, 0, 0, 0}, number(uint64(len(c.Pieces))),
		make([]byte, 16), number(volume), []byte{0})
	if c.Layout == Spanned {
		return Record{0x32, 0, body}.bytes()
	}
	return Record{0x32, 0x10, join(body, number(uint64(c.Stripe)), number(uint64(len(c.Pieces))))}.bytes()
}

// bytes is the record with its head.
func (r Record) bytes() []byte {
	head := make([]byte, 8)
	head[2], head[3] = r.Flags, r.Kind
	binary.BigEndian.PutUint32(head[4:], uint32(len(r.Body)))
	return join(head, r.Body)
}

func join(all ...[]byte) (out []byte) {
	for _, b := range all {
		out = append(out, b...)
	}
	return out
}

func long(n int64) []byte { return binary.BigEndian.AppendUint64(nil, uint64(n)) }

func number(n uint64) []byte {
	b := binary.BigEndian.AppendUint64(nil, n)
	for len(b) > 1 && b[0] == 0 {
		b = b[1:]
	}
	return join([]byte{byte(len(b))}, b)
}

func text(s string) []byte { return join([]byte{byte(len(s))}, []byte(s)) }

func guid(s string) []byte {
	b := make([]byte, 0, 16)
	for h := strings.ReplaceAll(s, "-", ""); h != ""; h = h[2:] {
		var x byte
		fmt.Sscanf(h[:2], "%02x", &x)
		b = append(b, x)
	}
	return b
}

// Fill writes an image onto a volume, each of its mirrors.
func (g Group) Fill(t testing.TB, volume int, img string) {
	t.Helper()
	b, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	for m := range g.Volumes[volume].Mirrors {
		g.each(t, volume, m, func(f *os.File, at int64, off, n int64) error {
			_, err := f.WriteAt(b[off:off+n], at)
			return err
		})
	}
}

// Bytes are those of a volume, or of a mirror of it.
func (g Group) Bytes(t testing.TB, volume, mirror int) []byte {
	t.Helper()
	b := make([]byte, g.Volumes[volume].Size*Sector)
	g.each(t, volume, mirror, func(f *os.File, at int64, off, n int64) error {
		_, err := f.ReadAt(b[off:off+n], at)
		return err
	})
	return b
}

// each goes over where the sectors of a volume lie, in bytes.
func (g Group) each(t testing.TB, volume, mirror int, do func(f *os.File, at, off, n int64) error) {
	t.Helper()
	v := g.Volumes[volume]
	c := v.Mirrors[mirror]
	var files []*os.File
	for _, d := range g.Disks {
		f, err := os.OpenFile(d.Image, os.O_RDWR, 0)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		files = append(files, f)
	}
	step := int64(64)
	if c.Layout == Striped {
		step = c.Stripe
	}
	for off := int64(0); off < v.Size; off += step {
		k, in := 0, off
		if c.Layout == Striped {
			n := int64(len(c.Pieces))
			k, in = int(off/step%n), off/step/n*step
		} else {
			for in >= c.Pieces[k].Size {
				in -= c.Pieces[k].Size
				k++
			}
		}
		p := c.Pieces[k]
		n := min(step, v.Size-off)
		if err := do(files[p.Disk], (g.Disks[p.Disk].start()+p.Start+in)*Sector, off*Sector, n*Sector); err != nil {
			t.Fatal(err)
		}
	}
}

// Office is a group of two disks with a volume of each kind, of so many sectors each; sectors must be a multiple of
// 256.
func Office(a, b string, sectors int64) Group {
	at := func(disk int, slot, size int64) Piece {
		return Piece{Disk: disk, Start: slot * sectors / 2, Size: size}
	}
	half := sectors / 2
	return Group{Name: "TICKETS-Dg0", Committed: 12, Status: 1,
		Disks: []Disk{{Image: a}, {Image: b, GPT: true}},
		Volumes: []Volume{
			{Name: "Volume1", Hint: "D:", Size: sectors,
				Mirrors: []Component{{Layout: Spanned, Pieces: []Piece{at(0, 0, sectors)}}}},
			{Name: "Volume2", Hint: "E:", Size: sectors,
				Mirrors: []Component{{Layout: Spanned, Pieces: []Piece{at(0, 2, half), at(1, 0, half)}}}},
			{Name: "Stripe1", Size: sectors,
				Mirrors: []Component{{Layout: Striped, Stripe: 128, Pieces: []Piece{at(1, 1, half), at(0, 3, half)}}}},
			{Name: "Volume3", Size: sectors, Mirrors: []Component{
				{Layout: Spanned, Pieces: []Piece{at(0, 4, sectors)}},
				{Layout: Spanned, Pieces: []Piece{at(1, 2, sectors)}}}},
		}}
}
