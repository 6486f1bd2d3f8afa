package fit

import (
	"errors"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// change asks the volume of part i what becomes of it at its new place; nil when its structures don't depend on it.
func (m *maker) change(i int) (*fsys.Change, error) {
	x := m.plan.Parts[i]
	resizer, ok := m.volumes[i].(fsys.Resizer)
	if !ok && x.Shrunk() > 0 {
		return nil, errors.New("what it holds isn't made smaller here")
	}
	if !ok {
		return nil, nil
	}
	bounds := fsys.Bounds{Was: x.From.Start, Start: x.To.Start, Sector: m.source.SectorSize()}
	if x.Grown() > 0 && x.Fixed == "" || x.Shrunk() > 0 && x.Volume > x.To.Len() {
		bounds.Size = x.To.Len()
	}
	if _, can := m.volumes[i].(fsys.Shrinker); x.Shrunk() > 0 && x.Volume > x.To.Len() && !can {
		return nil, fmt.Errorf("its %s isn't made smaller here", x.Kind)
	}
	c, err := resizer.Resize(bounds)
	if err != nil {
		return nil, err
	}
	for _, q := range c.Patches {
		if q.Off < 0 || q.Span().End > x.To.Len() {
			return nil, errors.New("its new structures would reach beyond it; nothing was planned")
		}
	}
	for _, q := range c.Moves {
		if q.From.Start < 0 || q.From.End > x.From.Len() || q.To < 0 || q.Target().End > x.To.Len() {
			return nil, errors.New("its contents would reach beyond it; nothing was planned")
		}
	}
	return c, nil
}

// compose turns the places into moves and patches.
func (m *maker) compose(changes []*fsys.Change) error {
	p := m.plan
	places := map[int]span.Span{}
	last := int64(0) // end of the part before, on the source
	end := int64(0)  // and on the target
	for i, x := range p.Parts {
		gap := span.Span{Start: last, End: x.From.Start}
		last = max(last, x.From.End)
		if i == 0 && !gap.Empty() { // boot code, and what it loads from there
			gap.End = min(gap.End, m.firstTo())
			p.Moves = append(p.Moves, disk.Move{From: gap, To: 0})
			end, gap = gap.End, span.Span{}
		}
		if x.To.Empty() {
			p.Notes = append(p.Notes, fmt.Sprintf("part %d is left out", x.Part.Number))
			if x.Part.Logical {
				p.Notes = append(p.Notes, "logical parts after it get other numbers")
			}
			continue
		}
		if to := x.To.Start - gap.Len(); !gap.Empty() && to >= end {
			p.Moves = append(p.Moves, disk.Move{From: gap, To: to})
		}
		places[x.Part.Number] = x.To
		end = x.To.End
		c := changes[i]
		if c == nil || len(c.Moves) == 0 {
			from := x.From
			from.End = min(from.End, from.Start+x.To.Len())
			p.Moves = append(p.Moves, disk.Move{From: from, To: x.To.Start})
		}
		if c != nil {
			for _, q := range c.Moves {
				p.Moves = append(p.Moves, disk.Move{From: q.From.Shift(x.From.Start), To: x.To.Start + q.To})
			}
			for _, q := range c.Patches {
				q.Off += x.To.Start
				p.Patches = append(p.Patches, q)
			}
			for _, n := range c.Notes {
				p.Notes = append(p.Notes, fmt.Sprintf("part %d: %s", x.Part.Number, n))
			}
		}
		p.note(x)
	}
	patches, err := m.t.Rearrange(m.source, places, p.Size)
	if err != nil {
		return err
	}
	p.Patches = append(p.Patches, patches...)
	p.leftover(m.source.Size())
	p.clearEnd(end)
	return nil
}

// firstTo is where the first part of the target begins.
func (m *maker) firstTo() int64 {
	for _, x := range m.plan.Parts {
		if !x.To.Empty() {
			return x.To.Start
		}
	}
	return m.plan.Size
}

func (p *Layout) note(x Part) {
	n := x.Part.Number
	if x.Grown() > 0 && x.Becomes > x.Volume && behind(x.Becomes, x.To.Len()) {
		p.Notes = append(p.Notes,
			fmt.Sprintf("part %d grows from %s to %s, and its %s to %s only: the rest of it can't be used", n,
				units.Bytes(x.From.Len()), units.Bytes(x.To.Len()), x.Kind, units.Bytes(x.Becomes)))
	} else if x.Grown() > 0 && x.Becomes > x.Volume {
		p.Notes = append(p.Notes,
			fmt.Sprintf("part %d grows from %s to %s, and its %s with it", n, units.Bytes(x.From.Len()),
				units.Bytes(x.To.Len()), x.Kind))
	}
	if x.Shrunk() > 0 {
		p.Notes = append(p.Notes,
			fmt.Sprintf("part %d shrinks from %s to %s, and its %s with it", n, units.Bytes(x.From.Len()),
				units.Bytes(x.To.Len()), x.Kind))
	}
	if x.Moved() && x.Kind == "" && table.RoleOf(x.Part.Type) != table.RoleReserved {
		p.Notes = append(p.Notes,
			fmt.Sprintf("part %d is moved as it is: what it holds isn't known, and if it names its place on the "+
				"disk it will have to be told", n))
	}
	if x.Moved() {
		p.Notes = append(p.Notes, fmt.Sprintf("part %d begins %s further on", n, units.Bytes(x.To.Start-x.From.Start)))
		if x.To.Start < x.From.Start {
			p.Notes[len(p.Notes)-1] = fmt.Sprintf("part %d begins %s earlier", n, units.Bytes(x.From.Start-x.To.Start))
		}
	}
}
