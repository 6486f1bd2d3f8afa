// Package fit decides what goes where: pure computation from what a source
// disk holds, the size of a target, and what is wished. It reads the source's table and the structures
// of its file systems, and nothing else. A cancelled context ends that reading at the next byte.
package fit

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Wish says what shall become of the parts. The zero Wish lets the main data part take the room of a larger target.
type Wish struct {
	// Keep leaves every part at its size.
	Keep bool
	// Parts are wishes for parts, by number.
	Parts map[int]PartWish
	// Spare leaves the room for something else: nothing grows unasked.
	Spare bool
	// Places are the exact places of all parts, by number, when they are given; parts that aren't named are left out.
	Places map[int]span.Span
}

// PartWish is what is wished for one part.
type PartWish struct {
	Leave bool  // leave it out
	Share int   // of the room, against the shares of the others
	Size  int64 // bytes
	Least bool  // as small as it gets
}

// Layout says what goes where on a target of Size bytes. It never changes.
type Layout struct {
	Size    int64        // of the target, bytes
	Sector  int          // of the target, bytes
	Moves   []disk.Move  // of the source's bytes, in the order of the target
	Patches []disk.Patch // over them, in bytes of the target and in their order
	Table   *table.Table // of the source
	Parts   []Part       // in the order of the disk
	// Leftover is the room after everything that the source held, in bytes.
	Leftover span.Span
	// Room is how much larger than needed the target is, before anything grows, in bytes.
	Room int64
	// Least is the size in bytes of the smallest disk this fits on without making anything smaller, Smallest with what
	// can become smaller; 0 while that wasn't looked at, which takes reading.
	Least, Smallest int64
	// Notes say what changes, Unused what of the target stays unused, in words.
	Notes, Unused []string
}

// Part is a part and what becomes of it.
type Part struct {
	Part table.Part
	// From is its span on the source, To the one on the target; To is empty for a part that is left out.
	From, To span.Span
	Kind     string // of its file system
	ID       string // of its file system
	// Volume and Becomes are the sizes of its file system before and after, in bytes.
	Volume, Becomes int64
	// Fixed says why it can't grow; empty when it can.
	Fixed string
	// Share is its share of the room.
	Share int
	// most is how large it becomes at the most, since its file system reaches no further; 0 while nothing is known of
	// that.
	most int64
}

// Moved says whether the part begins elsewhere.
func (p Part) Moved() bool { return !p.To.Empty() && p.To.Start != p.From.Start }

// Grown is how much longer the part becomes, in bytes.
func (p Part) Grown() int64 { return max(0, p.To.Len()-p.From.Len()) }

// Shrunk is how much shorter the part becomes, in bytes; 0 for one that is left out.
func (p Part) Shrunk() int64 {
	if p.To.Empty() {
		return 0
	}
	return max(0, p.From.Len()-p.To.Len())
}

// TooSmall is the refusal of a target that can't hold the source.
type TooSmall struct {
	Need, Have int64  // bytes
	Why        string // nothing of the source can become smaller; empty when that was tried
}

func (e *TooSmall) Error() string {
	s := fmt.Sprintf("the target is too small by %s (%s): it has %s, the source needs %s; choose a disk of at least %s",
		units.Exact(e.Need-e.Have), units.Bytes(e.Need-e.Have), units.Exact(e.Have), units.Exact(e.Need),
		units.Bytes(e.Need))
	if e.Why != "" {
		s += " (nothing of it can become smaller or move: " + e.Why + ")"
	}
	return s
}

const (
	// edge is how much of the target's end is cleared when it is larger than the
	// source, in bytes, so that no table from its earlier life is found there.
	edge = 1 << 20
	// step is what parts grow and move by, in bytes: what was aligned stays aligned.
	step = 1 << 20
)

// Examined is a source of whose parts somebody knows whether their file systems' accounts agree.
type Examined interface {
	// Examined says why the accounts of a part aren't believed, empty when they are; known is false when nobody has
	// looked.
	Examined(part int) (why string, known bool)
}

// Make plans where the parts of source go on a target. A file system whose accounts contradict each other keeps its
// size.
func Make(ctx context.Context, source disk.Device, target disk.Identity, wish Wish) (*Layout, error) {
	t, err := table.Read(source, source.Size(), source.SectorSize())
	if err != nil {
		return nil, err
	}
	m := &maker{ctx: ctx, source: disk.Until(ctx, source), whole: source, wish: wish, t: t,
		plan: &Layout{Size: target.Size, Sector: target.Sector, Table: t}}
	if err := m.parts(); err != nil {
		return nil, err
	}
	if target.Sector != source.SectorSize() {
		err = m.rescale()
	} else {
		err = m.arrange()
	}
	if err != nil {
		return nil, err
	}
	m.explain()
	if err := m.plan.order(); err != nil {
		return nil, err
	}
	return m.plan, ctx.Err()
}

// order puts moves and patches into the order in which they are used, so that nobody has to have a copy of them.
func (p *Layout) order() (err error) {
	slices.SortFunc(p.Moves, func(a, b disk.Move) int { return cmp.Compare(a.To, b.To) })
	p.Patches, err = disk.SortPatches(p.Patches, p.Size)
	return err
}

// explain says why the part that would take the room doesn't.
func (m *maker) explain() {
	p := m.plan
	i := p.largest(m.leaves)
	if m.wish.Keep || m.wish.Places != nil || p.Leftover.Empty() || p.Size <= m.source.Size() || i < 0 {
		return
	}
	x := p.Parts[i]
	if x.To.Empty() || x.Fixed == "" || x.Grown() > 0 {
		return
	}
	p.Notes = slices.Insert(p.Notes, 0, fmt.Sprintf("part %d keeps its size: %s", x.Part.Number, x.Fixed))
}

// arrange fills the plan in.
func (m *maker) arrange() error {
	p, wish := m.plan, m.wish
	if !m.movable && len(wish.Parts) > 0 {
		why := m.bound
		if why == "" {
			why = "its table is missing or damaged"
		}
		return fmt.Errorf("nothing can be wished for the parts of this disk: %s; without wishes every part keeps "+
			"its place and size", why)
	}
	// A target of the same size gets the same layout, also where the source has room after its parts.
	same := p.Size == m.source.Size() && wish.Places == nil
	if !m.movable || (wish.Keep || same) && len(wish.Parts) == 0 {
		if p.Size >= m.source.Size() {
			return m.asItWas()
		}
		if !m.movable {
			return &TooSmall{Need: m.source.Size(), Have: p.Size, Why: m.bound}
		}
	}
	for range 2*len(p.Parts) + 1 {
		changes, again, err := m.attempt()
		if err != nil {
			return err
		}
		if !again {
			if p.Size >= m.source.Size() && !slices.ContainsFunc(p.Parts, func(x Part) bool {
				return x.To != x.From
			}) {
				return m.asItWas()
			}
			return m.compose(changes)
		}
	}
	return fmt.Errorf("the plan doesn't settle; restore with every part at its size")
}

// asItWas puts everything where it was. Only the GPT's back-up copy and the
// protective MBR follow the target's size.
func (m *maker) asItWas() error {
	p, size := m.plan, m.source.Size()
	for i := range p.Parts {
		p.Parts[i].To, p.Parts[i].Becomes = p.Parts[i].From, p.Parts[i].Volume
	}
	p.Moves = []disk.Move{{From: span.Span{End: size}}}
	var err error
	if p.Patches, err = m.t.Relocate(p.Size); err != nil {
		return err
	}
	if len(p.Patches) > 0 {
		p.Notes = append(p.Notes, "the GPT's back-up copy goes to the end of the target, and the protective MBR "+
			"takes the target's size")
	}
	if m.t.FromBackup {
		p.Notes = append(p.Notes, "the damaged first copy of the GPT is written anew from the back-up copy")
	}
	if m.bound != "" {
		p.Notes = append(p.Notes, "no part moves or grows: "+m.bound)
	}
	p.leftover(size)
	p.clearEnd(size)
	return nil
}

// largest is the largest part that holds data, by number in Parts, but for those left out; -1 when there is none.
func (p *Layout) largest(left func(Part) bool) int {
	best := -1
	for i, x := range p.Parts {
		switch table.RoleOf(x.Part.Type) {
		case table.RoleData, table.RoleSystem, table.RoleUnknown:
		default:
			continue
		}
		if !left(x) && (best < 0 || x.From.Len() > p.Parts[best].From.Len()) {
			best = i
		}
	}
	return best
}

// leftover finds the room after the last part (or the source's end).
func (p *Layout) leftover(sourceSize int64) {
	end := int64(0)
	for _, part := range p.Parts {
		end = max(end, part.To.End)
	}
	if len(p.Parts) == 0 {
		end = sourceSize
	}
	_, behind := p.Table.Reserve()
	limit := p.Size - behind
	if room := (span.Span{Start: end, End: limit}); room.Len() >= edge {
		p.Leftover = room
		p.Unused = append(p.Unused, fmt.Sprintf("%s after the last part stay unused", units.Bytes(room.Len())))
	}
	if p.Table.Kind == table.MBR && p.Size > int64(p.Table.Sector)<<32 {
		p.Unused = append(p.Unused,
			fmt.Sprintf("an MBR can't address what lies beyond %s of this disk",
				units.Bytes(int64(p.Table.Sector)<<32)))
	}
}

// clearEnd clears what an earlier life may have left at the target's end,
// behind byte from, where nothing else is written.
func (p *Layout) clearEnd(from int64) {
	free := span.Of(span.Span{Start: max(from, p.Size-edge), End: p.Size})
	for _, patch := range p.Patches {
		free = free.Subtract(span.Of(patch.Span()))
	}
	for sp := range free.All() {
		p.Patches = append(p.Patches,
			disk.Patch{Off: sp.Start, Data: make([]byte, sp.Len()),
				Why: "clear what an earlier table may have left at the end"})
	}
}
