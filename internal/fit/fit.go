// Package fit decides what goes where: pure computation from what a source
// disk holds and the size of a target. It reads the source's table and nothing else.
package fit

import (
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Plan says what goes where on a target of Size bytes.
type Plan struct {
	Size    int64        // of the target, bytes
	Patches []disk.Patch // over the source, in the target's places
	Table   *table.Table // of the source
	// Leftover is the room behind everything that the source held, in bytes.
	Leftover span.Span
	// Notes say what changes, in words.
	Notes []string
}

// TooSmall is the refusal of a target that can't hold the source.
type TooSmall struct{ Need, Have int64 }

func (e *TooSmall) Error() string {
	return fmt.Sprintf("the target is too small by %s (%s): it has %s, the source needs %s; choose a disk of at least %s",
		units.Exact(e.Need-e.Have), units.Bytes(e.Need-e.Have), units.Exact(e.Have), units.Exact(e.Need), units.Bytes(e.Need))
}

// edge is how much of the target's end is cleared when it is larger than the
// source, in bytes, so that no table from its earlier life is found there.
const edge = 1 << 20

// SameLayout puts every part where it was. Only the GPT's back-up copy and the
// protective MBR follow the target's size.
func SameLayout(source disk.Device, target disk.Identity) (*Plan, error) {
	if target.Sector != source.SectorSize() {
		return nil, fmt.Errorf("the source has sectors of %d bytes and the target of %d: a table and its file systems only work with the sectors they were made for; choose a target with sectors of %d bytes",
			source.SectorSize(), target.Sector, source.SectorSize())
	}
	if target.Size < source.Size() {
		return nil, &TooSmall{source.Size(), target.Size}
	}
	t, err := table.Read(source, source.Size(), source.SectorSize())
	if err != nil {
		return nil, err
	}
	p := &Plan{Size: target.Size, Table: t}
	if p.Patches, err = t.Relocate(target.Size); err != nil {
		return nil, err
	}
	if len(p.Patches) > 0 {
		p.Notes = append(p.Notes, "the GPT's back-up copy goes to the end of the target, and the protective MBR takes the target's size")
	}
	if t.FromBackup {
		p.Notes = append(p.Notes, "the damaged first copy of the GPT is written anew from the back-up copy")
	}
	p.leftover(source.Size())
	p.clearEnd(source.Size())
	return p, nil
}

// leftover finds the room behind the last part (or the source's end).
func (p *Plan) leftover(sourceSize int64) {
	end := int64(0)
	for _, part := range p.Table.Parts {
		end = max(end, part.Span.End)
	}
	if end == 0 {
		end = sourceSize
	}
	limit := p.Size
	if p.Table.Kind == table.GPT {
		for _, patch := range p.Patches { // the back-up copy stands at the very end
			if patch.Off >= end && patch.Span().End == p.Size || patch.Off > p.Size-edge {
				limit = min(limit, patch.Off)
			}
		}
	}
	if room := (span.Span{Start: end, End: limit}); room.Len() >= edge {
		p.Leftover = room
		p.Notes = append(p.Notes, fmt.Sprintf("%s behind the last part stay unused: no part is grown", units.Bytes(room.Len())))
	}
	if p.Table.Kind == table.MBR && p.Size > int64(p.Table.Sector)<<32 {
		p.Notes = append(p.Notes, fmt.Sprintf("an MBR can't address what lies beyond %s of this disk", units.Bytes(int64(p.Table.Sector)<<32)))
	}
}

// clearEnd clears what an earlier life may have left at the target's end,
// where neither the source nor another patch writes.
func (p *Plan) clearEnd(sourceSize int64) {
	free := span.Of(span.Span{Start: max(sourceSize, p.Size-edge), End: p.Size})
	for _, patch := range p.Patches {
		free = free.Subtract(span.Of(patch.Span()))
	}
	for sp := range free.All() {
		p.Patches = append(p.Patches, disk.Patch{Off: sp.Start, Data: make([]byte, sp.Len()), Why: "clear what an earlier table may have left at the end"})
	}
}
