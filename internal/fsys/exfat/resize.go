package exfat

import (
	"encoding/binary"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// Resize gives the volume its new place, in both boot regions, and on a larger part more clusters.
func (v *Volume) Resize(p fsys.Bounds) (*fsys.Change, error) {
	c := &fsys.Change{Size: v.info.Size}
	boot := make([]byte, 512)
	if err := disk.ReadFull(v.r, boot, 0); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	now := le.Uint64(boot[bootPartition:])
	place := p.Hidden(now)
	if p.Size > v.info.Size {
		if err := v.grow(c, p.Size, int64(place)); err != nil || c.Size > v.info.Size {
			return c, err
		}
	}
	if place == now {
		return c, nil
	}
	patches, err := v.regions(func(b []byte) { le.PutUint64(b[bootPartition:], place) })
	c.Patches = patches
	return c, err
}

// regions changes the boot sector in both boot regions and makes their checksums anew.
func (v *Volume) regions(change func(boot []byte)) ([]disk.Patch, error) {
	boot := make([]byte, 512)
	if err := disk.ReadFull(v.r, boot, 0); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	sector := int64(1) << boot[bootSector]
	var out []disk.Patch
	region := make([]byte, checksumSector*sector)
	for _, first := range []int64{0, regionSectors * sector} {
		if err := disk.ReadFull(v.r, region, first); err != nil {
			return nil, err
		}
		change(region)
		sum := checksum(0, region, []int{bootFlags, bootFlags + 1, bootPercent})
		sums := make([]byte, 0, sector)
		for int64(len(sums)) < sector {
			sums = le.AppendUint32(sums, sum)
		}
		out = append(out, disk.Patch{Off: first, Data: append([]byte{}, region[:512]...), Why: "boot sector"},
			disk.Patch{Off: first + checksumSector*sector, Data: sums, Why: "checksum of the boot region"})
	}
	return out, nil
}
