package ntfs

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var (
	_ fsys.BootSectored = (*Volume)(nil)
	_ fsys.Mountable    = (*Volume)(nil)
	_ fsys.LoaderRead   = (*Volume)(nil)
	_ fsys.WindowsHome  = (*Volume)(nil)
)

// HiddenSectors are in the boot sector, and in its copy after the volume.
func (v *Volume) HiddenSectors(part int64) []int64 {
	at := []int64{bootHidden}
	b := make([]byte, bootLen)
	if end := v.info.Size; end+bootLen <= part && disk.ReadFull(v.r, b, end) == nil &&
		string(b[bootOEM:][:4]) == "NTFS" {
		at = append(at, end+bootHidden)
	}
	return at
}

// Drivers are those of the kernel, the newer one first.
func (v *Volume) Drivers() []fsys.Driver { return []fsys.Driver{{Name: "ntfs3"}, {Name: "ntfs"}} }

// LoaderModule is what loaders call their driver.
func (v *Volume) LoaderModule() string { return "ntfs" }

// WindowsHome marks it as what Windows starts from.
func (v *Volume) WindowsHome() {}
