// Package container is what lies between a part and the volumes on it: a container takes one or several members (parts,
// or devices that another container gives) and gives devices, with a map both ways between the bytes of a device and
// those of the members. Whatever is known of a device (what is used, what changed, what can't be read, which file a
// place belongs to, what shall be patched) goes through that map, and so through any number of layers.
//
// Kinds of containers have packages of their own below this one, which decode bytes and know no file system.
package container

import (
	"io"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// Member is a stretch of bytes that a container lies on.
type Member struct {
	R    io.ReaderAt
	Size int64 // bytes
}

// Container is what was recognised on members. Members are counted from 0, in the order in which they were given.
type Container interface {
	// Head describes it as it shows on a member.
	Head(member int) Head
	// Devices are what it gives, in the order of its own description.
	Devices() []Device
	// Own is what of a member the container needs for itself, in bytes of the member. It never is less than that.
	Own(member int) span.Set
}

// Head describes a container on one of its members.
type Head struct {
	Kind string // "LVM2"
	Name string // of the container, as its system calls it
	ID   string // of the member
	// Unit is what space is handed out in, bytes.
	Unit int64
	// Members is how many members it has, those included that weren't given.
	Members int
}

// Device is what a container gives.
type Device struct {
	Name string // as its system calls it, such as desk/root
	ID   string
	Size int64 // bytes
	// Map says where its bytes lie; nil where nobody can tell.
	Map *Map
	// Sectors deciphers what lies there; nil where it lies open. Nothing can be written through such a device.
	Sectors Sectors
	// Sole says that its kind of container never gives another device, so that nobody needs its name.
	Sole bool
	// Sealed says in words why its bytes aren't to be believed or looked into although the map is known, such as that
	// they are a share of something else; empty when they may.
	Sealed string
	// Fixed says in words why nothing is ever changed in it, such as that its bytes lie elsewhere as well; empty where
	// it may be.
	Fixed string
	// Doubt says in words why what it shows, though it can be looked into, isn't certain enough to be written
	// elsewhere; empty when it is.
	Doubt string
}

// Sectors deciphers the sectors of a device. It may be used by several at once.
type Sectors interface {
	// SectorSize is what is deciphered at once, in bytes; every segment of the device's map begins and ends with one.
	SectorSize() int64
	// Plain turns whole sectors of the device, as they lie on their member, into what the device holds, in place. inner
	// is where they begin on the device, outer where on the member.
	Plain(b []byte, inner, outer int64)
	// Same says whether others encipher alike: what is proven of plain bytes is proven of those on the disk then only.
	Same(other Sectors) bool
}

// Sealer is Sectors that can be enciphered too, for what a twin holds in place of what lies on the disk. Nothing is
// ever written to a disk through it.
type Sealer interface {
	// Seal turns whole sectors of the device into what would lie on the member, in place; inner and outer are as for
	// Plain. It fails where the bytes in that place aren't enciphered as others are.
	Seal(b []byte, inner, outer int64) error
}

// Grower is a Container that becomes larger with a member.
type Grower interface {
	// Grow has the container use a member of another size, in bytes, and gives one of its devices the room that this
	// makes: as much of it as the device can take, in bytes of the device. It reads, and never writes.
	Grow(member int, size int64, device int) (*Growth, error)
}

// Growth is what becomes of a container.
type Growth struct {
	// Device is the size in bytes that the device has afterwards, Map where its bytes lie then.
	Device int64
	Map    *Map
	// Patches are for the member that grew, in bytes of it.
	Patches []disk.Patch
}
