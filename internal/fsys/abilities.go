package fsys

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/lock"
	"twinshelf/internal/span"
)

// What a volume can do beside being read is an ability: a small interface that its family has or hasn't. Nothing above
// the families asks what kind a volume is.
//
//	Accountable   says what its structures and records name, beside its maps        ledger.go
//	Omitter       names what may be left out of a capture                           fsys.go
//	Interrupted   tells how its system left it, and what to keep as after a power cut   rest.go
//	Unchanging    proves what wasn't changed since another date                     fsys.go
//	Files         lists and reads its files                                         tree.go
//	FileWriter    puts a file into it                                               write.go
//	RootWriter    takes a new file into its root folder                             write.go
//	Resizer       becomes another size, or finds its way at another place           resize.go
//	Shrinker      becomes smaller                                                   shrink.go
//	Reidentifier  gets another identity                                             identity.go
//	Layered       is a container, and has volumes in the devices that it gives
//	Lockable      has volumes in it that may be encrypted
//	SectorFree    may lie on sectors of another size
//	BootSectored  has a boot sector that names its own place
//	Stirring      has places that change with most of what is written to it
//	Mountable     is mounted by the system's own drivers
//	LoaderRead    is read by start-up loaders that have a driver for it
//	FirmwareRead  is read by a machine's firmware
//	WindowsHome   is what a Windows system starts from
//	MacStart      says what a Mac's own firmware starts from it

// Layered is a Volume that is a container: other volumes lie in the devices that it gives. What it can do beside that
// it does through them.
type Layered interface {
	// Inner are the devices, in the order of the container's own description.
	Inner() []Inner
	// Outward puts patches of a device where its bytes lie on the part. It fails where some lie on another one.
	Outward(device int, patches []disk.Patch) ([]disk.Patch, error)
}

// Inner is a device that a container gives, and what lies on it.
type Inner struct {
	Name string // as its system calls it, such as desk/root
	Size int64  // bytes
	// Device can be read; nil where nobody can tell where it lies, or not all of it is there.
	Device disk.Device
	// Fixed says in words why nothing may be changed in it; empty where something may.
	Fixed string
	// Doubt says in words why what is in it isn't certain enough to be written elsewhere; empty where it is.
	Doubt string
	// Content is what was found on it. Where that isn't looked into, its Why says so.
	Content Content
}

// Lockable is a Volume with others in it that may be encrypted. Which of its bytes are in use doesn't depend on keys.
type Lockable interface {
	// Locked are those whose key isn't known.
	Locked() []lock.Volume
	// Use reads those that the keys of a ring open; nil has none.
	Use(ring *lock.Keyring)
	// Encrypted says whether files of one can be read with a key only, and that key is known.
	Encrypted() bool
}

// SectorFree is a Volume that doesn't count in sectors; all others are bound to the size of those they were made on.
type SectorFree interface {
	// Bound says in words what of the volume doesn't fit sectors of so many bytes; empty when everything does.
	Bound(sector int64) string
}

// BootSectored is a Volume whose boot sector holds the number of sectors that stand before its part.
type BootSectored interface {
	// HiddenSectors are where that number stands, 4 bytes little-endian each, in bytes from the start of the part: in
	// the boot sector first, then in those copies of it that are there. The part has so many bytes.
	HiddenSectors(part int64) []int64
}

// Mountable is a Volume that the system can mount.
type Mountable interface {
	// Drivers are the drivers of the kernel that can, the best first.
	Drivers() []Driver
}

// Stirring is a Volume that keeps places away from its beginning that change with most of what is written to it.
type Stirring interface {
	// Stirs are those places, in bytes from the start of the part; a MiB of them at the most.
	Stirs() []span.Span
}

// Driver is a file system of the kernel (mount(2)).
type Driver struct {
	Name string
	// Options are what it is always given, Quiet what keeps it from writing when it mounts read-only.
	Options, Quiet string
}

// LoaderRead is a Volume that start-up loaders read by a module of theirs.
type LoaderRead interface {
	// LoaderModule is the module's usual name.
	LoaderModule() string
}

// FirmwareRead is a Volume that a machine's firmware reads (UEFI Specification, section 13.3).
type FirmwareRead interface {
	FirmwareRead()
}

// WindowsHome is a Volume of the kind that Windows starts from.
type WindowsHome interface {
	WindowsHome()
}

// MacStart is a Volume that says what a Mac's own firmware starts from it.
type MacStart interface {
	// Blessed are the paths of the loaders that the volume itself says are to be started, which may not be there; none
	// where it names none.
	Blessed() ([]string, error)
}

// DriversOf are the drivers that can mount a volume; none where nothing of it can be mounted.
func DriversOf(v Volume) []Driver {
	if m, ok := v.(Mountable); ok {
		return m.Drivers()
	}
	return nil
}
