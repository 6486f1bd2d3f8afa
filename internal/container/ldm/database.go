package ldm

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"twinshelf/internal/container"
	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// Types of the parts that volumes lie in.
const (
	typeMBR      = "0x42"
	typeData     = "AF9B60A0-1431-4F62-BC68-3311714A69AD"
	typeDatabase = "5808C8AA-7E8F-42E0-85D2-E1E90434CFB3"
)

// header is what a disk says of itself.
type header struct {
	disk, group string // GUIDs
	name        string // of the group
	area        span.Span
	database    span.Span // both in sectors
}

// piece is a part of a dynamic disk.
type piece struct {
	container.Member
	disk   disk.Device
	at     int64 // where it begins on the disk, bytes
	sector int64 // bytes
	header header
}

// Is says whether a member is a part that volumes of a dynamic disk lie in.
func Is(m container.Member) bool {
	p, _ := part(m)
	return p != nil
}

// part finds the disk that a member is a part of, and where the disk has its headers; nil where it isn't one of a
// dynamic disk.
func part(m container.Member) (p *piece, headers []int64) {
	section, ok := m.R.(*io.SectionReader)
	if !ok {
		return nil, nil
	}
	outer, at, size := section.Outer()
	d, ok := outer.(disk.Device)
	if !ok {
		return nil, nil
	}
	if !may(d) {
		return nil, nil
	}
	t, err := table.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return nil, nil
	}
	for _, x := range t.Parts {
		if x.Span == span.At(at, size) && (x.Type == typeMBR || x.Type == typeData) {
			p = &piece{Member: m, disk: d, at: at, sector: int64(d.SectorSize())}
		}
		if x.Type == typeDatabase {
			headers = append(headers, x.Span.End/int64(d.SectorSize())-1)
		}
	}
	if t.Kind == table.MBR {
		headers = []int64{headMBR, d.Size()/int64(d.SectorSize()) - 1}
	}
	return p, headers
}

// may says whether the first sector of a disk names a part of a dynamic disk, or a GPT that may: so that the table is
// read only where that can help, and a failing disk isn't asked again for every part.
func may(d disk.Device) bool {
	b := make([]byte, d.SectorSize())
	if disk.ReadFull(d, b, 0) != nil || len(b) < mbrEntries+4*mbrEntryLen {
		return false
	}
	for i := range 4 {
		if kind := b[mbrEntries+i*mbrEntryLen+mbrKind]; kind == mbrDynamic || kind == mbrProtective {
			return true
		}
	}
	return false
}

// look reads the headers of the disk that a part is on.
func look(m container.Member) (*piece, error) {
	p, headers := part(m)
	if p == nil {
		return nil, errors.New("it is no part of a dynamic disk")
	}
	found := false
	for i := 0; i < len(headers); i++ {
		h, err := p.readHeader(headers[i])
		switch {
		case err != nil:
			return nil, err
		case h == nil:
			continue
		case found && *h != p.header:
			return nil, errors.New("the copies of its header differ")
		case !found && h.database.End-1 != headers[i]:
			headers = append(headers, h.database.End-1)
		}
		p.header, found = *h, true
	}
	if !found {
		return nil, errors.New("its header isn't there")
	}
	return p, nil
}

// readHeader reads the header in a sector; nil where none is there.
func (p *piece) readHeader(at int64) (*header, error) {
	b := make([]byte, p.sector)
	if at < 0 || (at+1)*p.sector > p.disk.Size() {
		return nil, nil
	}
	if err := disk.ReadFull(p.disk, b, at*p.sector); err != nil {
		return nil, err
	}
	if !bytes.HasPrefix(b, []byte(headMagic)) {
		return nil, nil
	}
	be := binary.BigEndian
	if major := be.Uint16(b[headMajor:]); major != headMajorOK {
		return nil, fmt.Errorf("its header is of version %d.%d", major, be.Uint16(b[headMinor:]))
	}
	h := &header{disk: strings.ToUpper(text(b[headDisk:][:guidLen])), name: text(b[headName:][:nameLen]),
		group: strings.ToUpper(text(b[headGroup:][:guidLen]))}
	sectors := uint64(p.disk.Size() / p.sector)
	for _, x := range []struct {
		at  int
		out *span.Span
	}{{headStart, &h.area}, {headDB, &h.database}} {
		first, n := be.Uint64(b[x.at:]), be.Uint64(b[x.at+headLen-headStart:])
		if first > sectors || n > sectors-first {
			return nil, fmt.Errorf("its header names %d sectors from sector %d on, and the disk ends at sector %d", n,
				first, sectors)
		}
		*x.out = span.At(int64(first), int64(n))
	}
	if h.disk == "" || h.group == "" || h.area.Empty() || h.area.Overlaps(h.database) ||
		h.database.Len()*p.sector > maxDatabase {
		return nil, errors.New("its header contradicts itself")
	}
	return h, nil
}

// text is a string that a zero byte ends.
func text(b []byte) string {
	b, _, _ = bytes.Cut(b, []byte{0})
	return string(b)
}

// database is what a disk knows of its group.
type database struct {
	objects
	committed uint64 // counts changes
}

// database reads that of the disk.
func (p *piece) database() (*database, error) {
	b := make([]byte, p.header.database.Len()*p.sector)
	if err := disk.ReadFull(p.disk, b, p.header.database.Start*p.sector); err != nil {
		return nil, err
	}
	config, err := p.config(b)
	if err != nil {
		return nil, err
	}
	be := binary.BigEndian
	if !bytes.HasPrefix(config, []byte(dbMagic)) || len(config) < int(p.sector) {
		return nil, errors.New("its database has no head")
	}
	db := &database{committed: be.Uint64(config[dbCommitted:])}
	switch major := be.Uint16(config[dbMajor:]); {
	case major != dbMajorOK:
		return nil, fmt.Errorf("its database is of version %d.%d", major, be.Uint16(config[dbMinor:]))
	case be.Uint16(config[dbStatus:]) != dbSettled || be.Uint64(config[dbPending:]) != db.committed:
		return nil, errors.New("its database was being changed when the disk was used last")
	case !strings.EqualFold(text(config[dbGroup:][:guidLen]), p.header.group):
		return nil, errors.New("its database is of another group than its header")
	}
	return db, db.read(config)
}

// config finds the area with the records by the table of contents.
func (p *piece) config(b []byte) ([]byte, error) {
	var out []byte
	n := int64(len(b)) / p.sector
	for _, at := range []int64{1, 2, n - 3, n - 2} {
		if at < 0 || at >= n || !bytes.HasPrefix(b[at*p.sector:], []byte(tocMagic)) {
			continue
		}
		toc := b[at*p.sector:][:p.sector]
		for i := range tocAreas {
			x := toc[tocFirst+i*tocLen:]
			if text(x[:8]) != tocConfig {
				continue
			}
			first, size := binary.BigEndian.Uint64(x[tocStart:]), binary.BigEndian.Uint64(x[tocSize:])
			if first >= uint64(n) || size > uint64(n)-first {
				return nil, errors.New("its table of contents names what lies outside of the database")
			}
			area := b[int64(first)*p.sector:][:int64(size)*p.sector]
			if out != nil && (&out[0] != &area[0] || len(out) != len(area)) {
				return nil, errors.New("the copies of its table of contents differ")
			}
			out = area
		}
	}
	if len(out) == 0 {
		return nil, errors.New("its database has no table of contents")
	}
	return out, nil
}

// fragment is a piece of a record.
type fragment struct {
	index, count int
	data         []byte
}

// read takes the records apart. config begins with the head.
func (db *database) read(config []byte) error {
	be := binary.BigEndian
	size, first := int64(be.Uint32(config[dbRecord:])), int64(be.Uint32(config[dbFirst:]))
	last := int64(be.Uint32(config[dbLast:]))
	if size < minRecord || size > maxRecord || first < 1 || first > int64(len(config)) ||
		last*size > int64(len(config)) {
		return fmt.Errorf("its database claims %d records of %d bytes from byte %d on", last, size, first)
	}
	found := map[uint32][]fragment{}
	// All that is there is read, not only as far as the head says.
	for at := first; at+size <= int64(len(config)); at += size {
		b := config[at : at+size]
		if !bytes.HasPrefix(b, []byte(recMagic)) {
			if at < last*size {
				return fmt.Errorf("byte %d of its database holds no record", at)
			}
			break
		}
		f := fragment{int(be.Uint16(b[recIndex:])), int(be.Uint16(b[recCount:])), b[recHead:]}
		if f.count == 0 {
			continue // not in use
		}
		if f.count > maxFragments || f.index >= f.count {
			return fmt.Errorf("byte %d of its database holds piece %d of %d of a record", at, f.index, f.count)
		}
		group := be.Uint32(b[recGroup:])
		found[group] = append(found[group], f)
	}
	for _, group := range slices.Sorted(maps.Keys(found)) {
		if err := db.join(found[group]); err != nil {
			return fmt.Errorf("its database: %w", err)
		}
	}
	return db.check()
}

// join puts the pieces of a record together.
func (db *database) join(pieces []fragment) error {
	slices.SortFunc(pieces, func(a, b fragment) int { return cmp.Compare(a.index, b.index) })
	var all []byte
	for i, f := range pieces {
		if f.index != i || f.count != len(pieces) {
			return errors.New("a record isn't whole")
		}
		all = append(all, f.data...)
	}
	return db.add(all)
}

// check looks whether what the records say of each other is true.
func (db *database) check() error {
	kinds := map[uint64]string{}
	for _, x := range db.named() {
		if kinds[x.id] != "" {
			return fmt.Errorf("its database has two objects of the number %d", x.id)
		}
		kinds[x.id] = x.kind
	}
	below := map[uint64]uint64{}
	for _, c := range db.components {
		if kinds[c.volume] != "volume" {
			return fmt.Errorf("its database: %s belongs to no volume", c.name)
		}
		below[c.volume]++
	}
	for _, p := range db.partitions {
		if kinds[p.component] != "component" || kinds[p.disk] != "disk" {
			return fmt.Errorf("its database: %s belongs to no volume, or lies on no disk", p.name)
		}
		below[p.component]++
	}
	for _, x := range db.named() {
		if x.counts && below[x.id] != x.children {
			return fmt.Errorf("its database: %s has %d pieces and says %d", x.name, below[x.id], x.children)
		}
	}
	return nil
}

// named is an object of the database.
type named struct {
	id       uint64
	kind     string
	name     string
	counts   bool
	children uint64
}

func (db *database) named() (out []named) {
	for _, v := range db.volumes {
		out = append(out, named{v.id, "volume", v.name, true, v.children})
	}
	for _, c := range db.components {
		out = append(out, named{c.id, "component", c.name, true, c.children})
	}
	for _, p := range db.partitions {
		out = append(out, named{p.id, "partition", p.name, false, 0})
	}
	for _, d := range db.disks {
		out = append(out, named{d.id, "disk", d.name, false, 0})
	}
	return out
}

// equal says whether two disks of a group know the same.
func (db *database) equal(o *database) bool {
	return db.committed == o.committed && slices.Equal(db.volumes, o.volumes) && slices.Equal(db.disks, o.disks) &&
		slices.Equal(db.components, o.components) && slices.Equal(db.partitions, o.partitions)
}
