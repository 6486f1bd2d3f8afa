package exfat

import "twinshelf/internal/fsys"

var (
	_ fsys.Mountable  = (*Volume)(nil)
	_ fsys.LoaderRead = (*Volume)(nil)
)

// Drivers is the kernel's own.
func (v *Volume) Drivers() []fsys.Driver { return []fsys.Driver{{Name: "exfat"}} }

// LoaderModule is what loaders call their driver.
func (v *Volume) LoaderModule() string { return "exfat" }
