package bench

import (
	"context"

	"twinshelf/internal/disk"
	"twinshelf/internal/table"
)

// Open opens a disk for somebody who takes a few files off it or looks into a folder: what is on it isn't looked at,
// which means reading all records of its file systems, and Survey stays nil. A read that takes longer than the bench
// waits ends with disk.ErrStalled. What goes wrong is put into d.Problem in words.
func (b *Bench) Open(ctx context.Context, d *Disk) {
	if d.Problem != "" || d.Device != nil {
		return
	}
	dev, err := disk.Open(d.Path, d.Identity)
	if err != nil {
		d.Problem = err.Error()
		return
	}
	dev.SetPatience(b.patience())
	if d.Image && d.Identity.Sector == 0 {
		dev.SetSectorSize(table.DetectSector(dev, dev.Size()))
	}
	if ctx.Err() != nil {
		dev.Close()
		d.Problem = cancelledWords
		return
	}
	d.Device, d.Identity = dev, dev.Identity()
}
