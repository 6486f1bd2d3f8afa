package apfs

import (
	"fmt"

	"twinshelf/internal/fsys"
)

var _ fsys.SectorFree = (*Container)(nil)

// Bound says whether blocks are made of whole sectors. Nothing in a container counts from anywhere but its beginning.
func (c *Container) Bound(sector int64) string {
	if c.unit%sector != 0 {
		return fmt.Sprintf("its blocks of %d bytes aren't whole sectors of %d", c.unit, sector)
	}
	return ""
}
