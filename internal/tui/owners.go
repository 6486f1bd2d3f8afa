package tui

import (
	"fmt"
	"strings"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// owner is whose disk a disk is, as the open shelf knows it, or else another one that was open here once.
type owner struct {
	machine string // empty when no twin is of it
	newest  time.Time
	twins   int
	// What only the open shelf tells.
	twin   *shelf.Twin // the newest
	disk   int         // which of its disks
	unread int64       // bytes of it that couldn't be read at the newest twin
	// elsewhere is the other shelf; nil when it is the open one.
	elsewhere *workshop.KnownShelf
}

// name says whose disk it is.
func (o owner) name() string {
	if strings.HasSuffix(o.machine, "s") {
		return o.machine + "' disk"
	}
	return o.machine + "'s disk"
}

// words say whose disk it is, and how old its newest twin is.
func (o owner) words() string {
	if o.machine == "" {
		return "on no shelf in reach"
	}
	return o.name() + ", newest twin " + ago(o.newest) + o.onWhich()
}

// onWhich says which shelf it is that isn't open.
func (o owner) onWhich() string {
	if o.elsewhere == nil {
		return ""
	}
	return " on " + o.elsewhere.Name
}

// about says it in whole sentences; open is the name of the open shelf.
func (o owner) about(open string) string {
	twins := fmt.Sprintf("%s. %s of it on ", o.name(), units.Plural(o.twins, "twin"))
	newest := ", newest " + units.Moment(o.newest)
	if o.elsewhere == nil {
		return twins + open + newest + "."
	}
	said := twins + o.elsewhere.Name + " when that was open last (" + o.elsewhere.Seen.Format("2 Jan") + ")" + newest
	if o.elsewhere.Here {
		return said + ". That shelf is in reach: o in Dates opens it."
	}
	return said + ". That shelf isn't in reach."
}

// owners are whose disks are, by their stickers.
type owners map[string]owner

// of finds the machine that a disk belongs to: twins name their disks by model and serial number.
func (o owners) of(d *bench.Disk) owner {
	if d.Identity.Serial == "" {
		return owner{}
	}
	return o[stickerKey(d.Identity)]
}

// stickerKey names a disk by what is on its sticker.
func stickerKey(id disk.Identity) string { return id.Model + "\x00" + id.Serial }

// stickerEnd is the model and the end of the serial number.
func stickerEnd(id disk.Identity) string {
	if id.Serial == "" {
		return id.Model
	}
	return id.Model + " …" + id.Tail()
}

// ownersOf finds for each disk that twins name the machine that has the newest of them. The open shelf counts before
// those that were open once, the latest first.
func ownersOf(boards []board, known []workshop.KnownShelf) owners {
	out := owners{}
	for i := len(known) - 1; i >= 0; i-- {
		for _, d := range known[i].Disks {
			id := disk.Identity{Model: d.Model, Serial: d.Serial}
			if !known[i].Open && d.Serial != "" {
				out[stickerKey(id)] = owner{machine: d.Machine, newest: d.Newest, twins: d.Twins, elsewhere: &known[i]}
			}
		}
	}
	for i := range boards {
		for _, t := range boards[i].twins {
			for j := range t.Disks {
				key := stickerKey(t.Disks[j].Identity)
				o := out[key]
				if o.elsewhere != nil {
					o = owner{}
				}
				if o.twins++; o.machine == "" || t.Taken.After(o.newest) {
					o.machine, o.newest, o.unread = boards[i].machine, t.Taken, t.Disks[j].Missing.Total()
					o.twin, o.disk = t, j
				}
				out[key] = o
			}
		}
	}
	return out
}
