package hfsplus

import (
	"fmt"

	"twinshelf/internal/fsys"
)

var (
	_ fsys.Mountable  = (*Volume)(nil)
	_ fsys.LoaderRead = (*Volume)(nil)
	_ fsys.SectorFree = (*Volume)(nil)
)

// Drivers is the kernel's own, which writes to volumes without a journal only.
func (v *Volume) Drivers() []fsys.Driver { return []fsys.Driver{{Name: "hfsplus"}} }

// LoaderModule is what loaders call their driver.
func (v *Volume) LoaderModule() string { return "hfsplus" }

// Bound says whether blocks are made of whole sectors. The headers begin at bytes, whatever a sector has.
func (v *Volume) Bound(sector int64) string {
	if v.unit%sector != 0 || v.at%sector != 0 {
		return fmt.Sprintf("its blocks of %d bytes aren't whole sectors of %d", v.unit, sector)
	}
	return ""
}
