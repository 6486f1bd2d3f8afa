package fat

import (
	"encoding/binary"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// dataAlign is by what the data area moves, in bytes.
const dataAlign = 4096

// Resize gives the volume its new place and, on a larger part, more clusters: the allocation tables become longer
// and what lies after them moves.
func (v *Volume) Resize(p fsys.Bounds) (*fsys.Change, error) {
	c := &fsys.Change{Size: v.info.Size}
	boot := make([]byte, 512)
	if err := disk.ReadFull(v.r, boot, 0); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if v.bits == 32 || boot[bs16Sig] == extendedSig { // without that mark the field may be something else
		le.PutUint32(boot[bpbHidden:], uint32(p.Hidden(uint64(le.Uint32(boot[bpbHidden:])))))
	}
	sector := int64(le.Uint16(boot[bpbSector:]))
	if p.Size > v.info.Size {
		if err := v.grow(c, boot, p.Size/sector, sector); err != nil {
			return nil, err
		}
	}
	c.Patches = append(c.Patches, disk.Patch{Off: 0, Data: boot, Why: "boot sector"})
	if at := int64(le.Uint16(boot[bpbBackup:])) * sector; v.bits == 32 && at > 0 && at < v.fatAt {
		b := make([]byte, 512)
		if err := disk.ReadFull(v.r, b, at); err != nil {
			return nil, err
		}
		if b[510] == 0x55 && b[511] == 0xAA {
			c.Patches = append(c.Patches, disk.Patch{Off: at, Data: boot, Why: "copy of the boot sector"})
		}
	}
	return c, nil
}

// grow makes room for the clusters of total sectors, as far as this kind of FAT reaches.
func (v *Volume) grow(c *fsys.Change, boot []byte, total, sector int64) error {
	le := binary.LittleEndian
	most := map[int]int64{12: maxFAT12, 16: maxFAT16, 32: maxFAT32}[v.bits]
	per := v.cluster / sector
	reserved, root, old := v.fatAt/sector, v.rootSize/sector, v.fatSize/sector
	if total > maxTotal {
		total = maxTotal
		c.Notes = append(c.Notes,
			fmt.Sprintf("it grows to %s only: its sectors are counted with 32 bits", units.Bytes(total*sector)))
	}
	fat, clusters, whole := old, int64(0), total
	for { // a longer table leaves less for clusters, so this comes to an end
		total = whole
		if clusters = (total - reserved - v.fats*fat - root) / per; clusters > most {
			clusters = most
			total = reserved + v.fats*fat + root + clusters*per
		}
		if need := ((clusters+2)*int64(v.bits) + 8*sector - 1) / (8 * sector); need <= fat &&
			v.fats*(fat-old)*sector%dataAlign == 0 {
			break
		}
		fat++
	}
	if clusters <= v.count {
		c.Notes = append(c.Notes,
			fmt.Sprintf("it keeps its size: %s of this cluster size reaches no further", v.info.Kind))
		return nil
	}
	if clusters == most {
		c.Notes = append(c.Notes,
			fmt.Sprintf("it grows to %s only: %s of this cluster size reaches no further", units.Bytes(total*sector),
				v.info.Kind))
	}
	le.PutUint16(boot[bpbTotal16:], 0)
	le.PutUint32(boot[bpbTotal32:], uint32(total))
	if v.bits < 32 && total <= 0xFFFF {
		le.PutUint16(boot[bpbTotal16:], uint16(total))
		le.PutUint32(boot[bpbTotal32:], 0)
	}
	if v.bits == 32 {
		le.PutUint32(boot[bpbFATSize32:], uint32(fat))
	} else {
		le.PutUint16(boot[bpbFATSize16:], uint16(fat))
	}
	c.Size = total * sector
	newFAT := fat * sector
	c.Moves = []disk.Move{{From: span.Span{End: v.fatAt}, To: 0}}
	for i := range v.fats {
		from := span.At(v.fatAt+i*v.fatSize, v.fatSize)
		to := v.fatAt + i*newFAT
		c.Moves = append(c.Moves, disk.Move{From: from, To: to})
		first := (v.count + 2) * int64(v.bits) / 8 // of the new entries
		if (v.count+2)*int64(v.bits)%8 != 0 {      // it shares its byte with the last old one
			b := make([]byte, 1)
			if err := disk.ReadFull(v.r, b, from.Start+first); err != nil {
				return err
			}
			c.Patches = append(c.Patches,
				disk.Patch{Off: to + first, Data: []byte{b[0] & 0x0F}, Why: "allocation table"})
			first++
		}
		c.Patches = append(c.Patches, disk.Patch{Off: to + first, Zeros: newFAT - first, Why: "allocation table"})
	}
	rest := span.Span{Start: v.rootAt, End: v.info.Size}
	c.Moves = append(c.Moves, disk.Move{From: rest, To: v.fatAt + v.fats*newFAT})
	if v.bits == 32 {
		return v.countFree(c, boot, sector, clusters-v.count)
	}
	return nil
}

// countFree adds clusters to the free ones that FSInfo counts, in both copies; fewer when more is negative.
func (v *Volume) countFree(c *fsys.Change, boot []byte, sector, more int64) error {
	le := binary.LittleEndian
	info, back := int64(le.Uint16(boot[bpbFSInfo:])), int64(le.Uint16(boot[bpbBackup:]))
	for _, n := range []int64{info, back + info} {
		if n == 0 || n*sector >= v.fatAt || n == back || n != info && back == 0 {
			continue
		}
		b := make([]byte, 512)
		if err := disk.ReadFull(v.r, b, n*sector); err != nil {
			return err
		}
		if free := le.Uint32(b[fsiFree:]); le.Uint32(b) == fsiLead && free != fsiUnknown && int64(free)+more >= 0 {
			le.PutUint32(b[fsiFree:], uint32(int64(free)+more))
			c.Patches = append(c.Patches, disk.Patch{Off: n * sector, Data: b, Why: "count of free clusters"})
		}
	}
	return nil
}
