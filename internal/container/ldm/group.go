// Package ldm reads dynamic disks: disks of one group whose parts hold volumes that a database on each of them
// describes: simple, spanned, striped and mirrored ones. The structures are those that the Linux kernel documents
// (block/partitions/ldm.h, Documentation/admin-guide/ldm.rst).
//
// The database lies outside of the parts that it speaks of. It is found by the disk that a member is a section of.
package ldm

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/container"
	"twinshelf/internal/span"
)

// Kind is what the container is called, after the Logical Disk Manager that writes its database.
const Kind = "LDM"

// smallGap is how long a stretch between volumes may be and still be kept, in bytes: there is no use in telling what
// lies there.
const smallGap = 8 << 20

// Group is a group of dynamic disks as it shows on the parts that are given. It never changes.
type Group struct {
	given   []*piece
	db      *database
	devices []container.Device
	// own is what of each part lies in no device that can be followed, in bytes of the part.
	own []span.Set
}

var _ container.Container = (*Group)(nil)

// Open reads the group that a part belongs to, with those of others that are of the same group; members are those. What
// the disks' databases say must agree.
func Open(m container.Member, others ...container.Member) (g *Group, members []container.Member, err error) {
	mine, err := look(m)
	if err != nil {
		return nil, nil, err
	}
	g = &Group{given: []*piece{mine}}
	if g.db, err = mine.database(); err != nil {
		return nil, nil, err
	}
	for _, o := range others {
		if err := g.join(o); err != nil {
			return nil, nil, err
		}
	}
	if err := g.lay(); err != nil {
		return nil, nil, err
	}
	for _, p := range g.given {
		members = append(members, p.Member)
	}
	return g, members, nil
}

// join takes another part in, where it is of the group.
func (g *Group) join(m container.Member) error {
	if !Is(m) {
		return nil
	}
	p, err := look(m)
	if err != nil || p.header.group != g.given[0].header.group {
		return nil // whatever it is, it isn't of this group
	}
	for _, q := range g.given {
		same := q.header.disk == p.header.disk
		if same && (q.header != p.header || q.at < p.at+p.Size && p.at < q.at+q.Size) {
			return errors.New("several disks say that they are the same one of its group: attach only those that " +
				"belong together")
		}
	}
	if p.sector != g.given[0].sector {
		return fmt.Errorf("its group has disks with sectors of %d and of %d bytes", g.given[0].sector, p.sector)
	}
	db, err := p.database()
	if err != nil {
		return fmt.Errorf("another disk of its group: %w", err)
	}
	if !db.equal(g.db) {
		return fmt.Errorf("the databases of its group's disks disagree (change %d, and change %d on another one): a "+
			"disk wasn't attached when the group was changed", g.db.committed, db.committed)
	}
	g.given = append(g.given, p)
	return nil
}

// lay finds where each volume, and each mirror of one, lies.
func (g *Group) lay() error {
	if err := g.stretches(); err != nil {
		return err
	}
	free := make([]span.Set, len(g.given))
	for i, p := range g.given {
		free[i].Add(span.Span{End: p.Size})
	}
	followed := make([]span.Set, len(g.given))
	for _, v := range g.db.volumes {
		for n, c := range g.mirrors(v) {
			d, on := g.device(v, c, n)
			for i := range g.given {
				free[i] = free[i].Subtract(on[i])
				if d.Map != nil {
					d.Map.On(i, span.Span{End: d.Size}, &followed[i])
				}
			}
			if !on[0].Empty() {
				g.devices = append(g.devices, d)
			}
		}
	}
	for i, p := range g.given {
		own := span.Of(span.Span{End: p.Size}).Subtract(followed[i])
		for sp := range free[i].All() {
			if sp.Len() > smallGap {
				own = own.Subtract(span.Of(sp))
			}
		}
		g.own = append(g.own, own)
	}
	return nil
}

// stretches checks that the pieces of volumes lie on their disks, and none on another.
func (g *Group) stretches() error {
	taken := map[uint64]*span.Set{}
	for _, p := range g.db.partitions {
		if taken[p.disk] == nil {
			taken[p.disk] = new(span.Set)
		}
		sp := span.At(p.start, p.size)
		if p.size <= 0 || taken[p.disk].Overlaps(sp) {
			return fmt.Errorf("its database: %s overlaps another piece, or is none", p.name)
		}
		taken[p.disk].Add(sp)
		for _, x := range g.given {
			if g.diskOf(p).guid == x.header.disk && sp.End > x.header.area.Len() {
				return fmt.Errorf("its database: %s ends at sector %d, and the disk's room for volumes at sector %d",
					p.name, sp.End, x.header.area.Len())
			}
		}
	}
	if !slices.ContainsFunc(g.db.disks, func(m member) bool { return m.guid == g.given[0].header.disk }) {
		return errors.New("its database doesn't list the disk that bears it")
	}
	return nil
}

// diskOf is the disk that a piece lies on.
func (g *Group) diskOf(p partition) member {
	i := slices.IndexFunc(g.db.disks, func(m member) bool { return m.id == p.disk })
	return g.db.disks[i] // which database.check has seen
}

// mirrors are the components of a volume: one, or one for each mirror.
func (g *Group) mirrors(v volume) (out []component) {
	for _, c := range g.db.components {
		if c.volume == v.id {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b component) int { return cmp.Compare(a.id, b.id) })
	return out
}

// device is a volume by one of its components, and what it takes of each part that was given.
func (g *Group) device(v volume, c component, mirror int) (d container.Device, on []span.Set) {
	sector := g.given[0].sector
	d = container.Device{Name: strings.ReplaceAll(v.name, "/", "_"), ID: v.guid, Size: v.size * sector}
	if v.children > 1 {
		d.Name += fmt.Sprintf(" mirror %d", mirror+1)
		d.ID += fmt.Sprintf("/%d", c.id)
		d.Fixed = "it is one of several mirrors, which have to stay alike"
	}
	var pieces []partition
	on = make([]span.Set, len(g.given))
	for _, p := range g.db.partitions {
		if p.component != c.id {
			continue
		}
		pieces = append(pieces, p)
		for i, x := range g.given {
			if hit := g.place(p, x).Intersect(span.Span{End: x.Size}); !hit.Empty() {
				on[i].Add(hit)
			}
		}
	}
	segments, err := g.segments(v, c, pieces)
	if err == nil {
		d.Map, err = container.NewMap(segments)
	}
	switch {
	case err != nil:
		d.Sealed = err.Error()
	case v.state != active || c.state != active:
		d.Sealed = fmt.Sprintf("its group says that it is %s, %s", strings.ToLower(v.state), strings.ToLower(c.state))
	}
	return d, on
}

// place is where a piece of a volume lies, counted from the start of a part; empty where that is on another disk.
func (g *Group) place(p partition, x *piece) span.Span {
	if g.diskOf(p).guid != x.header.disk {
		return span.Span{}
	}
	return span.At((x.header.area.Start+p.start)*x.sector-x.at, p.size*x.sector)
}

// segments lays a component's pieces one after the other, or in stripes.
func (g *Group) segments(v volume, c component, pieces []partition) ([]container.Segment, error) {
	sector, n := g.given[0].sector, int64(len(pieces))
	if n == 0 || v.size <= 0 {
		return nil, errors.New("it has no room")
	}
	switch c.layout {
	case laySpanned:
		return g.spanned(v, pieces)
	case layRAID:
		return nil, errors.New("it is spread with parity (RAID-5), which isn't read here")
	case layStriped:
	default:
		return nil, fmt.Errorf("it is laid out in a way that isn't known (%d)", c.layout)
	}
	slices.SortFunc(pieces, func(a, b partition) int { return cmp.Compare(a.column, b.column) })
	s := container.Segment{Inner: span.At(0, v.size*sector), Stripe: c.stripe * sector}
	for i, p := range pieces {
		if c.columns != uint64(n) || p.column != uint64(i) || p.size*n < v.size {
			return nil, fmt.Errorf("its %d stripes don't add up", n)
		}
		place, err := g.find(p)
		if err != nil {
			return nil, err
		}
		s.Places = append(s.Places, place)
	}
	return []container.Segment{s}, nil
}

// spanned lays pieces one after the other. What the last ones have beyond the volume's end isn't of it.
func (g *Group) spanned(v volume, pieces []partition) (out []container.Segment, err error) {
	sector, at := g.given[0].sector, int64(0)
	slices.SortFunc(pieces, func(a, b partition) int { return cmp.Compare(a.offset, b.offset) })
	for _, p := range pieces {
		if p.offset != at {
			return nil, fmt.Errorf("%s begins at sector %d of it, and the piece before ends at sector %d", p.name,
				p.offset, at)
		}
		sp := span.At(at, p.size).Intersect(span.Span{End: v.size})
		if at += p.size; sp.Empty() {
			continue
		}
		place, err := g.find(p)
		if err != nil {
			return nil, err
		}
		out = append(out, container.Segment{Inner: span.At(sp.Start*sector, sp.Len()*sector),
			Places: []container.Place{place}})
	}
	if at < v.size {
		return nil, fmt.Errorf("its pieces have %d sectors, and it has %d", at, v.size)
	}
	return out, nil
}

// find is the part that a piece lies in.
func (g *Group) find(p partition) (container.Place, error) {
	here := false
	for i, x := range g.given {
		sp := g.place(p, x)
		here = here || !sp.Empty()
		if (span.Span{End: x.Size}).Covers(sp) && !sp.Empty() {
			return container.Place{Member: i, Off: sp.Start}, nil
		}
	}
	if here {
		return container.Place{}, fmt.Errorf("%s lies in no single part of its disk", p.name)
	}
	return container.Place{}, fmt.Errorf("some of it lies on a disk that isn't here (%s)", g.diskOf(p).name)
}

// Head describes the group.
func (g *Group) Head(m int) container.Head {
	p := g.given[m]
	return container.Head{Kind: Kind, Name: p.header.name, ID: p.header.disk, Unit: p.sector, Members: len(g.db.disks)}
}

// Devices are the volumes that lie on the first member, a mirrored one once for each of its mirrors that does.
func (g *Group) Devices() []container.Device { return g.devices }

// Own is what no volume that can be followed lies on, but for long stretches that the database has nothing on.
func (g *Group) Own(m int) span.Set { return g.own[m] }
