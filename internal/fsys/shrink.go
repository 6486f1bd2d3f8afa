package fsys

import (
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Shrinker is a Volume that can become smaller: Resizer's Resize then takes a size below its own. Contents that lie
// past the new end are moved, as far as that is possible.
type Shrinker interface {
	// Least is the smallest size that its part can have, in bytes, and in words why it can't be smaller.
	Least() (size int64, why string, err error)
}

// Keep adds to a change what stays where it is before byte end, around the places that moves lead to, and then the
// moves.
func (c *Change) Keep(end int64, moves []disk.Move) {
	var dest []span.Span
	moved := int64(0)
	for _, m := range moves {
		dest = append(dest, m.Target())
		moved += m.From.Len()
	}
	for sp := range span.Of(span.Span{End: end}).Subtract(span.Of(dest...)).All() {
		c.Moves = append(c.Moves, disk.Move{From: sp, To: sp.Start})
	}
	if c.Moves = append(c.Moves, moves...); moved > 0 {
		c.Notes = append(c.Notes, fmt.Sprintf("%s that lie beyond its new end are moved", units.Bytes(moved)))
	}
}
