package survey

import (
	"context"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// members are the parts of a disk but for one, on which a container may lie that the one is a member of.
func members(d disk.Device, parts []table.Part, but *table.Part) []families.Member {
	var out []families.Member
	for _, p := range parts {
		if p.Number != but.Number && p.Span.End <= d.Size() {
			out = append(out, families.Member{R: disk.Section(d, p.Span.Start, p.Span.Len()), Size: p.Span.Len()})
		}
	}
	return out
}

// Joined are the surveys of the disks of one machine, with the containers that lie on several disks looked into. The
// given ones stay as they are.
func Joined(ctx context.Context, surveys []*Survey) ([]*Survey, error) {
	out := slices.Clone(surveys)
	if len(surveys) < 2 {
		return out, nil
	}
	for i, s := range surveys {
		var others []families.Member
		for j, o := range surveys {
			if j != i {
				others = append(others, members(o.Device, o.parts(), &table.Part{})...)
			}
		}
		joined, err := s.with(ctx, others)
		if err != nil {
			return nil, err
		}
		out[i] = joined
	}
	return out, nil
}

// with is the survey with what lacks members looked into together with others.
func (s *Survey) with(ctx context.Context, others []families.Member) (*Survey, error) {
	out := *s
	out.Areas = slices.Clone(s.Areas)
	for i := range out.Areas {
		a := &out.Areas[i]
		if a.Part == nil || s.whole || !lacks(&a.Content) {
			continue
		}
		all := append(members(s.Device, s.parts(), a.Part), others...)
		c, err := families.Examine(ctx, a.r, a.Span.Len(), s.Device.SectorSize(), all...)
		if err != nil {
			return nil, err
		}
		if !c.Maps {
			continue
		}
		if a.Content.KeepsAll() {
			if err := c.KeepAll(ctx); err != nil {
				return nil, err
			}
		}
		a.take(s.Device, c)
	}
	return &out, nil
}

// parts are those of the table, or the whole disk where it is one volume.
func (s *Survey) parts() (out []table.Part) {
	for _, a := range s.Areas {
		if a.Part != nil {
			out = append(out, *a.Part)
		}
	}
	return out
}

// lacks says whether something is a container of which not all is there, or may be one that only its other members
// describe.
func lacks(c *fsys.Content) bool {
	if !c.Maps {
		return c.Info.Opaque != "" && c.Info.Unclean == ""
	}
	l, ok := c.Volume.(fsys.Layered)
	return ok && slices.ContainsFunc(l.Inner(), func(x fsys.Inner) bool { return x.Device == nil })
}

// InnerWords name the devices that a container on the area gives, and say what is on each.
func (a *Area) InnerWords() []string {
	var out []string
	for _, v := range lockedIn(a.Content.Volume) {
		out = append(out, "locked: "+v.Words())
	}
	for _, x := range a.Inner() {
		c := x.Content
		line := fmt.Sprintf("%s, %s", x.Name, units.Bytes(x.Size))
		if c.Info.Known() {
			line += ": " + c.Info.Kind
		}
		if c.Info.Label != "" {
			line += " " + c.Info.Label
		}
		switch r, halted := c.Rest(); {
		case c.Maps:
			line += ", " + units.Bytes(c.Used) + " in use"
		case halted && !r.Quiet() && a.Content.Cut() != nil:
			line += ", kept as after a power cut"
		default:
			line += ", all of it is read: " + c.Why
		}
		out = append(out, line)
	}
	return out
}

// Inner are the devices that a container on the area gives; none where it holds none.
func (a *Area) Inner() []fsys.Inner {
	l, ok := a.Content.Volume.(fsys.Layered)
	if !ok {
		return nil
	}
	return l.Inner()
}
