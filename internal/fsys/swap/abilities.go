package swap

import "twinshelf/internal/fsys"

var _ fsys.SectorFree = (*volume)(nil)

// Bound is never so: it counts in pages.
func (v *volume) Bound(int64) string { return "" }
