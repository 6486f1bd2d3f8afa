package ext

import (
	"fmt"

	"twinshelf/internal/fsys"
)

var (
	_ fsys.SectorFree = (*Volume)(nil)
	_ fsys.Mountable  = (*Volume)(nil)
	_ fsys.LoaderRead = (*Volume)(nil)
)

// Bound says whether its blocks are smaller than such sectors; it counts in nothing else.
func (v *Volume) Bound(sector int64) string {
	if v.info.Unit >= sector {
		return ""
	}
	return fmt.Sprintf("blocks of %d bytes are smaller than its sectors: the %s", v.info.Unit, v.info.Kind)
}

// Drivers is that of ext4, which mounts the older ones too; without replaying the journal it writes nothing.
func (v *Volume) Drivers() []fsys.Driver { return []fsys.Driver{{Name: "ext4", Quiet: "noload"}} }

// LoaderModule is what loaders call their driver.
func (v *Volume) LoaderModule() string { return "ext2" }
