package bench

import (
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
)

// Propose finds a target for every disk of a twin among the blank disks that may be written: the smallest one that
// is as large, preferring the same bus. Where none fits it is nil: nothing that holds something is ever proposed.
func Propose(t *shelf.Twin, disks []*Disk) []*Disk {
	out := make([]*Disk, len(t.Disks))
	taken := map[string]bool{}
	for i := range t.Disks {
		id := t.Disks[i].Identity
		if Attached(id, disks) != nil {
			continue // it is still there, and stays as it is unless somebody wishes otherwise
		}
		better := func(a, b *Disk) bool { // a is the better one
			if same := strings.EqualFold(a.Identity.Bus, id.Bus); b == nil ||
				same != strings.EqualFold(b.Identity.Bus, id.Bus) {
				return b == nil || same
			}
			return a.Identity.Size < b.Identity.Size
		}
		for _, d := range disks {
			if d.Reach == "" && d.Survey != nil && d.Survey.Blank() && !taken[d.Path] && d.Identity.Size >= id.Size &&
				better(d, out[i]) {
				out[i] = d
			}
		}
		if out[i] != nil {
			taken[out[i].Path] = true
		}
	}
	return out
}

// Attached finds a disk of a twin on the bench; nil when it isn't there.
func Attached(id disk.Identity, disks []*Disk) *Disk {
	for _, d := range disks {
		if id.Serial != "" && d.Identity.Serial == id.Serial && d.Identity.Model == id.Model {
			return d
		}
	}
	return nil
}
