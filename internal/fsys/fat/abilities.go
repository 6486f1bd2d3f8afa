package fat

import "twinshelf/internal/fsys"

var (
	_ fsys.BootSectored = (*Volume)(nil)
	_ fsys.Mountable    = (*Volume)(nil)
	_ fsys.LoaderRead   = (*Volume)(nil)
	_ fsys.FirmwareRead = (*Volume)(nil)
)

// HiddenSectors is BPB_HiddSec of the boot sector.
func (v *Volume) HiddenSectors(int64) []int64 { return []int64{bpbHidden} }

// Drivers is vfat, with names in UTF-8 where it can.
func (v *Volume) Drivers() []fsys.Driver {
	return []fsys.Driver{{Name: "vfat", Options: "utf8"}, {Name: "vfat"}}
}

// LoaderModule is what loaders call their driver.
func (v *Volume) LoaderModule() string { return "fat" }

// FirmwareRead marks it as what firmware reads.
func (v *Volume) FirmwareRead() {}
