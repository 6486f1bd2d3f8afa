package fit

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/signature"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// maker is a plan while it is made.
type maker struct {
	ctx     context.Context // of the one call that makes the plan
	source  disk.Device     // as long as the context lasts
	whole   disk.Device     // the same, as it was given
	wish    Wish
	t       *table.Table
	plan    *Layout
	volumes []fsys.Volume // of the parts; nil where none is known
	// movable says that the table can be understood well enough to put parts elsewhere.
	movable bool
	// bound says why every part has to stay where it is, whatever the table allows; empty when nothing says so.
	bound string
	// leasts are the least sizes of parts that were looked at; forced is by how much parts have to shrink for the
	// target.
	leasts map[int]least
	forced map[int]int64
	// sound are the parts whose accounts were found to agree, by number.
	sound map[int]bool
}

// least is how small a part can be, in bytes, and why not smaller.
type least struct {
	size int64
	why  string
}

// parts looks at what there is. A disk without a table, all of it one file system, is one part.
func (m *maker) parts() error {
	p, size := m.plan, m.source.Size()
	parts := slices.Clone(m.t.Parts)
	slices.SortFunc(parts, func(a, b table.Part) int { return cmp.Compare(a.Span.Start, b.Span.Start) })
	m.bound = boundWhy(m.source, m.t)
	m.movable = m.t.Kind != table.None && m.t.Sound(size) && len(parts) > 0 && m.t.Worst() != table.Damage &&
		m.bound == ""
	if m.t.Kind == table.None {
		if v, _ := families.Identify(m.ctx, m.source, size, m.source.SectorSize()); v != nil {
			parts = []table.Part{{Number: 1, Span: span.Span{End: size}}}
			m.movable = true
		}
	}
	for _, part := range parts {
		x := Part{Part: part, From: part.Span}
		var v fsys.Volume
		if part.Span.End <= size {
			v, _ = families.Identify(m.ctx, disk.Section(m.source, part.Span.Start, part.Span.Len()), part.Span.Len(),
				m.source.SectorSize())
		}
		if v != nil {
			x.Kind, x.ID, x.Volume = v.Info().Kind, v.Info().ID, v.Info().Size
			x.Becomes = x.Volume
		}
		x.Fixed = fixed(part, v)
		if m.bound != "" {
			x.Fixed = m.bound
		}
		m.volumes = append(m.volumes, v)
		p.Parts = append(p.Parts, x)
	}
	for n := range m.wish.Parts {
		if !slices.ContainsFunc(p.Parts, func(x Part) bool { return x.Part.Number == n }) {
			return fmt.Errorf("there is no part %d", n)
		}
	}
	_, behind := m.t.Reserve()
	p.Least = size
	if m.movable && m.t.Kind != table.None {
		p.Least = p.Parts[len(p.Parts)-1].From.End + behind
	}
	return nil
}

// boundWhy says what keeps all parts of a disk in their places.
func boundWhy(d disk.Device, t *table.Table) string {
	switch {
	case t.Hybrid():
		return "an MBR with parts of its own lies beside the GPT, which couldn't follow"
	case t.Dynamic():
		return "it belongs to a dynamic disk, whose database names the places of everything"
	case t.Kind != table.None && signature.Disc(d, d.Size()):
		return "an image of a disc (ISO 9660) lies over the whole disk"
	case t.Worst() == table.Damage:
		i := slices.IndexFunc(t.Findings, func(f table.Finding) bool { return f.Severity == table.Damage })
		return "its table is damaged: " + t.Findings[i].Text
	}
	return ""
}

// fixed says why a part can't grow.
func fixed(part table.Part, v fsys.Volume) string {
	if v == nil {
		return "its contents aren't known"
	}
	_, layered := v.(fsys.Layered)
	if of := table.PartOf(part.Type); of != "" && !layered {
		return "it is part of " + of
	}
	if why := v.Info().Opaque; why != "" {
		return why
	}
	if why := v.Info().Unclean; why != "" {
		return why
	}
	if _, ok := v.(fsys.Resizer); !ok {
		return v.Info().Kind + " isn't made larger here"
	}
	return ""
}

// main is the part that takes the room when nothing else is wished: the one that holds most, if it can grow. Where it
// can't no smaller one is blown up instead.
func (m *maker) main() int {
	best := m.plan.largest(m.leaves)
	if best < 0 || m.plan.Parts[best].Fixed != "" {
		return -1
	}
	return best
}

func (m *maker) leaves(x Part) bool { return m.wish.Parts[x.Part.Number].Leave }

// attempt fills in where the parts go, and what becomes of their volumes. again says that a part turned out not to
// grow, and that the plan has to be made anew without it.
func (m *maker) attempt() (changes []*fsys.Change, again bool, err error) {
	p := m.plan
	if p.Notes, p.Unused = nil, nil; m.wish.Places != nil {
		for i := range p.Parts {
			p.Parts[i].To = m.wish.Places[p.Parts[i].Part.Number]
		}
	} else if err := m.distribute(); err != nil {
		return nil, false, err
	}
	for i := range p.Parts {
		x := &p.Parts[i]
		x.Becomes = x.Volume
		if x.To.Empty() || x.To == x.From {
			changes = append(changes, nil)
			continue
		}
		if x.Grown() > 0 || x.Shrunk() > 0 {
			if doubtful, err := m.doubt(i); doubtful || err != nil {
				return nil, doubtful, err
			}
		}
		c, err := m.change(i)
		if err != nil {
			return nil, false, fmt.Errorf("part %d: %w", x.Part.Number, err)
		}
		if c != nil && x.Shrunk() > 0 {
			x.Becomes = c.Size
		}
		if c != nil && x.Grown() > 0 {
			if c.Size <= x.Volume && m.wish.Places == nil {
				x.Fixed = "it can't become larger"
				if len(c.Notes) > 0 {
					x.Fixed = c.Notes[0]
				}
				return nil, true, nil
			}
			if behind(c.Size, x.To.Len()) && x.most == 0 && m.wish.Places == nil &&
				m.wish.Parts[x.Part.Number].Size == 0 {
				x.most = (c.Size + step - 1) / step * step
				return nil, true, nil
			}
			x.Becomes = c.Size
		}
		changes = append(changes, c)
	}
	return changes, false, nil
}

// behind says whether a file system falls so far short of its part that the rest would be of no use to anybody.
func behind(volume, part int64) bool { return part-volume > max(16*units.MiB, part/16) }

// doubt looks whether the accounts of a volume whose size is to change agree, once; the part of one that contradicts
// itself is fixed.
func (m *maker) doubt(i int) (bool, error) {
	x := &m.plan.Parts[i]
	if m.volumes[i] == nil || x.Fixed != "" || m.sound[x.Part.Number] || m.wish.Places != nil {
		return false, nil
	}
	why, known := "", false
	if e, ok := m.whole.(Examined); ok {
		why, known = e.Examined(x.Part.Number)
	}
	if !known {
		c, err := families.Examine(m.ctx, disk.Section(m.source, x.From.Start, x.From.Len()), x.From.Len(),
			m.source.SectorSize())
		if err != nil {
			return false, err
		}
		why = cmp.Or(c.Why, c.Doubt)
	}
	if x.Fixed = why; why == "" {
		if m.sound == nil {
			m.sound = map[int]bool{}
		}
		m.sound[x.Part.Number] = true
	}
	return why != "", nil
}
