package container

import (
	"fmt"
	"io"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// mapped is a device of a container, read through its map.
type mapped struct {
	m       *Map
	members []Member
	cipher  Sectors // nil where the bytes lie open
	sector  int
	id      disk.Identity
}

// Open gives a device of a container whose members are all there, with sectors of so many bytes.
func Open(d Device, members []Member, sector int) disk.Device {
	return &mapped{d.Map, members, d.Sectors, sector, disk.Identity{Model: d.Name, Serial: d.ID, Size: d.Map.Size(),
		Sector: sector}}
}

func (d *mapped) Size() int64             { return d.m.Size() }
func (d *mapped) SectorSize() int         { return d.sector }
func (d *mapped) Identity() disk.Identity { return d.id }

// ReadAt reads from where the bytes lie.
func (d *mapped) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 {
		return 0, fmt.Errorf("a read at byte %d", off)
	}
	want := span.At(off, int64(len(p))).Intersect(span.Span{End: d.Size()})
	if want.Empty() && len(p) > 0 {
		return 0, io.EOF
	}
	for r := range d.m.Runs(want) {
		to := p[r.Inner.Start-off : r.Inner.End-off]
		if d.cipher != nil {
			if n, err := d.decipher(to, r); err != nil {
				return int(r.Inner.Start-off) + n, err
			}
			continue
		}
		if n, err := d.members[r.Member].R.ReadAt(to, r.Off); n < len(to) {
			return int(r.Inner.Start-off) + n, err
		}
	}
	if int(want.Len()) < len(p) {
		return int(want.Len()), io.EOF
	}
	return len(p), nil
}

// deciphered is how much is deciphered at once, in bytes.
const deciphered = 256 << 10

// decipher reads a run through whole sectors, and says how much of it was read.
func (d *mapped) decipher(to []byte, r Run) (int, error) {
	unit := d.cipher.SectorSize()
	buf := make([]byte, min(deciphered, (int64(len(to))+2*unit)/unit*unit))
	for done := 0; done < len(to); {
		skip := (r.Inner.Start + int64(done)) % unit
		inner, outer := r.Inner.Start+int64(done)-skip, r.Off+int64(done)-skip
		b := buf[:min(int64(len(buf)), (skip+int64(len(to)-done)+unit-1)/unit*unit)]
		if err := disk.ReadFull(d.members[r.Member].R, b, outer); err != nil {
			return done, err
		}
		d.cipher.Plain(b, inner, outer)
		done += copy(to[done:], b[skip:])
	}
	return len(to), nil
}
