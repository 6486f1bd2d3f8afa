package bench

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"syscall"

	"twinshelf/internal/disk"
)

// ProbeAgain is Probe for a disk that was probed before, as was. What was found then is taken over where the disk is
// the same one and the kernel says that nobody has written to it since; a disk that something may be writing to now is
// always looked at. How the drive is itself is asked either way.
func (b *Bench) ProbeAgain(ctx context.Context, d, was *Disk) {
	if d.Image && d.Problem == "" {
		d.Uses = b.Host.UsesOfImage(d.Path)
	}
	if was == nil || !d.untouchedSince(was) {
		b.Probe(ctx, d)
		return
	}
	d.Identity, d.Device, d.Survey, d.Fingerprint = was.Identity, was.Device, was.Survey, was.Fingerprint
	d.Systems, d.Reach = was.Systems, b.reach(d)
	d.Health = b.Health(ctx, d)
}

// untouchedSince says whether a listed disk is, for certain, as it was when it was probed.
func (d *Disk) untouchedSince(was *Disk) bool {
	writes := func(u disk.Use) bool { return u.Writes }
	return was.Survey != nil && was.Problem == "" && d.Problem == "" &&
		d.state != "" && d.state == was.state && d.Path == was.Path &&
		d.Identity.Size == was.Identity.Size && d.Identity.Serial == was.Identity.Serial &&
		slices.Equal(d.Uses, was.Uses) && !slices.ContainsFunc(d.Uses, writes)
}

// writtenAt are the fields of a block device's counters that grow when it is written or told to forget (kernel
// documentation, block/stat: sectors written, sectors discarded), counted from zero.
var writtenAt = [...]int{6, 13}

// stateOfBlock is something that is another one after every write to a block device and after another drive came in its
// place (ABI/stable/sysfs-block, stat and diskseq); empty where that can't be told: of devices that are made of others,
// which may be written behind their back.
func (b *Bench) stateOfBlock(name, bus string) string {
	counters, seq := strings.Fields(b.sys(name, "stat")), b.sys(name, "diskseq")
	if bus == "virtual" || seq == "" || len(counters) <= slices.Max(writtenAt[:]) {
		return ""
	}
	state := seq
	for _, at := range writtenAt {
		state += " " + counters[at]
	}
	return state
}

// stateOfFile is the same of an image file.
func stateOfFile(st os.FileInfo) string {
	own, ok := st.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	return fmt.Sprint(own.Dev, own.Ino, own.Mtim, own.Ctim)
}
