package fit

import (
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/table"
)

// rescale plans a target with sectors of another size: the table is built anew for them, and the parts keep their
// places and sizes. A file system that counts in the old sectors would be of no use there.
func (m *maker) rescale() error {
	p, s := m.plan, int64(m.plan.Sector)
	refuse := func(format string, args ...any) error {
		return fmt.Errorf("the source has sectors of %d bytes and the target of %d: "+format+"; choose a target with "+
			"sectors of %d bytes", append(append([]any{m.source.SectorSize(), s}, args...), m.source.SectorSize())...)
	}
	if m.t.Kind == table.None || !m.movable {
		return refuse("without a sound table nobody knows what would have to change")
	}
	l := table.Layout{Kind: m.t.Kind, Sector: p.Sector, ID: m.t.ID}
	if m.t.Kind == table.GPT {
		l.Entries = m.t.Entries()
	}
	end := int64(0)
	for i := range p.Parts {
		x := &p.Parts[i]
		w := m.wish.Parts[x.Part.Number]
		if x.Becomes = x.Volume; w.Leave {
			continue
		}
		if w.Share > 0 || w.Least || w.Size > 0 && w.Size != x.From.Len() {
			return refuse("part %d keeps its size there", x.Part.Number)
		}
		if x.From.Start%s != 0 || x.From.End%s != 0 {
			return refuse("part %d doesn't begin on whole sectors of that size", x.Part.Number)
		}
		if why := bound(m.volumes[i], x.Part, s); why != "" {
			return refuse("%s of part %d; or leave that part out", why, x.Part.Number)
		}
		x.To = x.From
		end = max(end, x.To.End)
		p.Moves = append(p.Moves, disk.Move{From: x.From, To: x.To.Start})
		l.Parts = append(l.Parts, x.Part)
	}
	patches, err := table.Build(l, p.Size)
	if err != nil {
		return refuse("its table can't be made for it (%v)", err)
	}
	p.Patches = patches
	p.Least = end + (int64(128*128)+2*s-1)/s*s
	p.Room = max(0, p.Size-p.Least)
	p.Notes = append(p.Notes,
		fmt.Sprintf("the %s is made anew for sectors of %d bytes; every part keeps its place and size, and start-up "+
			"code in the first sector and after it isn't carried over", m.t.Kind, s))
	p.leftover(m.source.Size())
	p.clearEnd(end)
	return nil
}

// bound says what of a part is made for sectors of another size; empty when nothing is.
func bound(v fsys.Volume, part table.Part, sector int64) string {
	role := table.RoleOf(part.Type)
	switch {
	case v == nil && (role == table.RoleReserved || part.Type == table.TypeBIOSBoot):
		return ""
	case v == nil:
		return "nobody knows whether the contents work with such sectors"
	}
	if f, ok := v.(fsys.SectorFree); ok {
		return f.Bound(sector)
	}
	return fmt.Sprintf("sectors are counted in the %s", v.Info().Kind)
}
