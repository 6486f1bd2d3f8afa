package lvm

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/container"
	"twinshelf/internal/span"
)

// Bounds of what a group may have.
const (
	maxPhysicals = 4096
	maxLogicals  = 1 << 16
	maxStripes   = 1024
	maxExtents   = 1 << 40
	maxBytes     = 1 << 60
)

// Group is a volume group, of whose physical volumes at least one is given. It never changes.
type Group struct {
	name, id  string
	seq       int64
	extent    int64 // bytes
	given     []*physical
	physicals []volume // as the metadata lists them
	logicals  []logical
	text      []byte
	tree      *section // of the group, in text
}

// volume is a physical volume as the metadata describes it.
type volume struct {
	name   string // in the metadata
	id     string
	start  int64 // of its extents, bytes
	count  int64 // extents
	member int   // among those that were given; -1 when it wasn't
	tree   *section
	taken  span.Set // extents that logical volumes lie on
}

// logical is a logical volume.
type logical struct {
	container.Device
	tree    *section
	visible bool
	// segments say where it lies, in bytes; nil where that can't be told.
	segments []container.Segment
	extents  int64
}

var (
	_ container.Container = (*Group)(nil)
	_ container.Grower    = (*Group)(nil)
)

// Open reads the group that a member belongs to. Of others those count that are of the same group, after it and in
// their order; the rest do no harm. What the copies of the group's description say must agree. members are those that
// count.
func Open(member container.Member, others ...container.Member) (g *Group, members []container.Member, err error) {
	p, err := label(member)
	if err != nil {
		return nil, nil, err
	}
	candidates := []*physical{p}
	for _, m := range others {
		if p, err := label(m); err == nil {
			candidates = append(candidates, p)
		}
	}
	// The first to bear a description tells which are of the group.
	var known *Group
	for _, p := range candidates {
		alone, err := open([]*physical{p})
		if err == nil && (p == candidates[0] || alone.has(candidates[0].id)) {
			known = alone
			break
		} else if p == candidates[0] && len(p.areas) > 0 && !p.silent() {
			return nil, nil, err
		}
	}
	if known == nil {
		return nil, nil, errors.New("it bears no metadata: that is on other members of its group")
	}
	all := slices.DeleteFunc(candidates, func(p *physical) bool { return !known.has(p.id) })
	if g, err = open(all); err != nil {
		return nil, nil, err
	}
	for _, p := range all {
		members = append(members, p.member)
	}
	return g, members, nil
}

// has says whether the group has a physical volume of that ID.
func (g *Group) has(id string) bool {
	return slices.ContainsFunc(g.physicals, func(v volume) bool { return v.id == id })
}

// open reads the group of physical volumes.
func open(given []*physical) (*Group, error) {
	g := &Group{given: given}
	if err := g.description(); err != nil {
		return nil, err
	}
	root, err := parse(g.text)
	if err != nil {
		return nil, err
	}
	if len(root.below) != 1 {
		return nil, fmt.Errorf("its metadata describes %d groups", len(root.below))
	}
	g.tree = root.below[0]
	g.name, g.id = g.tree.name, g.tree.text("id")
	if !validName(g.name) {
		return nil, fmt.Errorf("%q can't be the name of a volume group", g.name)
	}
	if err := g.read(); err != nil {
		return nil, fmt.Errorf("volume group %s: %w", g.name, err)
	}
	return g, nil
}

// description finds the text in all metadata areas of the members; they must hold the same.
func (g *Group) description() error {
	for _, p := range g.given {
		for _, a := range p.areas {
			switch {
			case a.text == nil:
			case g.text == nil:
				g.text = a.text
			case !bytes.Equal(g.text, a.text):
				return fmt.Errorf("the copies of its metadata differ (at byte %d of %s)", a.at.Start, p.id)
			}
		}
	}
	if g.text == nil {
		return errors.New("it bears no metadata: that is on other members of its group")
	}
	return nil
}

// read takes the description apart and checks it.
func (g *Group) read() (err error) {
	if g.seq, err = g.tree.number("seqno"); err != nil {
		return err
	}
	sectors, err := g.tree.number("extent_size")
	if err != nil {
		return err
	}
	if sectors <= 0 || sectors > 1<<40/sector {
		return fmt.Errorf("extents of %d sectors", sectors)
	}
	g.extent = sectors * sector
	if err := g.readPhysicals(); err != nil {
		return err
	}
	if err := g.readLogicals(); err != nil {
		return err
	}
	g.seal()
	return nil
}

func (g *Group) readPhysicals() error {
	list := g.tree.section("physical_volumes")
	if list == nil || len(list.below) == 0 || len(list.below) > maxPhysicals {
		return errors.New("it lists no physical volumes, or too many")
	}
	for _, s := range list.below {
		v := volume{name: s.name, id: s.text("id"), member: -1, tree: s}
		start, err := s.number("pe_start")
		if err != nil {
			return err
		}
		if v.count, err = s.number("pe_count"); err != nil {
			return err
		}
		if start < 0 || start > 1<<54/sector || v.count < 0 || v.count > maxExtents {
			return fmt.Errorf("%s: %d extents from sector %d on", v.name, v.count, start)
		}
		v.start = start * sector
		v.member = slices.IndexFunc(g.given, func(p *physical) bool { return p.id == v.id })
		if v.member >= 0 {
			if err := g.fits(&v, g.given[v.member]); err != nil {
				return fmt.Errorf("%s: %w", v.name, err)
			}
		}
		g.physicals = append(g.physicals, v)
	}
	for _, p := range g.given {
		if !slices.ContainsFunc(g.physicals, func(v volume) bool { return v.id == p.id }) {
			return fmt.Errorf("its metadata doesn't list the physical volume %s, which bears it", p.id)
		}
	}
	return nil
}

// fits checks what the metadata says of a physical volume against what it says itself.
func (g *Group) fits(v *volume, p *physical) error {
	if v.count > (p.size-v.start)/g.extent {
		return fmt.Errorf("%d extents from byte %d on reach beyond its end at byte %d", v.count, v.start, p.size)
	}
	data := span.At(v.start, v.count*g.extent)
	for _, a := range p.areas {
		if a.at.Overlaps(data) {
			return fmt.Errorf("its metadata at %s lies among its extents", a.at)
		}
	}
	if data.Start < p.label+sector {
		return errors.New("its extents begin before the end of its label")
	}
	return nil
}

// physical finds a physical volume by its name in the metadata; -1 when there is none.
func (g *Group) physical(name string) int {
	return slices.IndexFunc(g.physicals, func(v volume) bool { return v.name == name })
}

func (g *Group) readLogicals() error {
	list := g.tree.section("logical_volumes")
	if list == nil {
		return nil // an empty group
	}
	if len(list.below) > maxLogicals {
		return fmt.Errorf("%d logical volumes are more than are followed", len(list.below))
	}
	for _, s := range list.below {
		if !validName(s.name) {
			return fmt.Errorf("%q can't be the name of a logical volume", s.name)
		}
		l := logical{tree: s, visible: slices.Contains(s.words("status"), "VISIBLE")}
		l.Name, l.ID = g.name+"/"+s.name, s.text("id")
		if err := g.readSegments(&l); err != nil {
			return fmt.Errorf("%s: %w", l.Name, err)
		}
		g.logicals = append(g.logicals, l)
	}
	return nil
}

// validName says whether a group or a volume may have a name (lvm(8), "Valid names"): it becomes that of a folder.
func validName(s string) bool {
	return s != "" && s != "." && s != ".." && !strings.HasPrefix(s, "-") && !strings.Contains(s, "/")
}

// readSegments follows a logical volume's segments, and enters what they take.
func (g *Group) readSegments(l *logical) error {
	at := int64(0) // extents
	all := g.segments(l)
	for _, s := range all {
		start, err := s.number("start_extent")
		if err != nil {
			return err
		}
		count, err := s.number("extent_count")
		if err != nil {
			return err
		}
		if start != at || count <= 0 || count > maxExtents {
			return fmt.Errorf("%s begins at extent %d with %d extents, and the one before ends at %d", s.name, start,
				count, at)
		}
		if at += count; at > maxBytes/g.extent {
			return fmt.Errorf("%d extents are more than are followed", at)
		}
		if err := g.readSegment(l, s, start, count); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
	}
	if n, err := l.tree.number("segment_count"); err != nil || n != int64(len(all)) {
		return fmt.Errorf("it has %d segments and says %d", len(all), n)
	}
	l.extents, l.Size = at, at*g.extent
	return nil
}

// segments are the descriptions of a logical volume's segments.
func (g *Group) segments(l *logical) (out []*section) {
	for _, s := range l.tree.below {
		if strings.HasPrefix(s.name, "segment") {
			out = append(out, s)
		}
	}
	return out
}

// readSegment follows one segment. One of another type must not name physical volumes: then nobody knows what it takes.
func (g *Group) readSegment(l *logical, s *section, start, count int64) error {
	if kind := s.text("type"); kind != "striped" {
		for name, v := range s.values {
			for _, x := range v.list {
				if x.kind == 's' && g.physical(x.text) >= 0 {
					return fmt.Errorf("segments of the type %s lie on physical volumes (%s) in a way that isn't "+
						"followed here", kind, name)
				}
			}
		}
		if l.Sealed == "" {
			l.Sealed = fmt.Sprintf("it is of the type %s, which isn't read here", kind)
		}
		return nil
	}
	n, err := s.number("stripe_count")
	list := s.values["stripes"].list
	if err != nil || n < 1 || n > maxStripes || int64(len(list)) != 2*n || count%n != 0 {
		return fmt.Errorf("%d stripes with %d entries for %d extents", n, len(list), count)
	}
	seg := container.Segment{Inner: span.At(start*g.extent, count*g.extent)}
	if n > 1 {
		size, err := s.number("stripe_size")
		if err != nil || size <= 0 || size > g.extent/sector {
			return fmt.Errorf("stripes of %d sectors", size)
		}
		seg.Stripe = size * sector
	}
	for i := range n {
		place, err := g.take(list[2*i], list[2*i+1], count/n)
		if err != nil {
			return err
		}
		if seg.Places = append(seg.Places, place); place.Member < 0 && l.Sealed == "" {
			l.Sealed = "it lies in part on a physical volume that isn't here (" + list[2*i].text + ")"
		}
	}
	l.segments = append(l.segments, seg)
	return nil
}

// take enters extents of a physical volume, which nobody else may have.
func (g *Group) take(name, from value, count int64) (container.Place, error) {
	i := g.physical(name.text)
	if i < 0 || name.kind != 's' || from.kind != 'n' {
		return container.Place{}, fmt.Errorf("it lies on %q, which isn't listed", name.text)
	}
	v := &g.physicals[i]
	sp := span.At(from.number, count)
	if from.number < 0 || sp.End > v.count {
		return container.Place{}, fmt.Errorf("it lies on extents %s of %s, which has %d", sp, v.name, v.count)
	}
	if v.taken.Overlaps(sp) {
		return container.Place{}, fmt.Errorf("it lies on extents %s of %s, which are taken already", sp, v.name)
	}
	v.taken.Add(sp)
	return container.Place{Member: v.member, Off: v.start + sp.Start*g.extent}, nil
}

// seal says which volumes aren't to be looked into: those that are a share of others, or that others depend on in a way
// that their own maps don't tell (the origin of a snapshot, a pool).
func (g *Group) seal() {
	used := map[string]string{} // by which others
	for _, l := range g.logicals {
		for _, name := range g.named(&l) {
			used[g.name+"/"+name] = l.Name
		}
	}
	for i := range g.logicals {
		l := &g.logicals[i]
		switch by := used[l.Name]; {
		case l.Sealed != "":
		case !l.visible:
			l.Sealed = "it is a share of another logical volume"
		case by != "":
			l.Sealed = by + " depends on it"
		}
		if absent(l.segments) || sum(l.segments) != l.Size {
			continue // no map: not all of it is known
		}
		m, err := container.NewMap(l.segments)
		if err != nil {
			l.Sealed = err.Error()
			continue
		}
		l.Map = m
	}
}

// named are all strings in the segments of a logical volume: whatever other volumes it names is among them.
func (g *Group) named(l *logical) (out []string) {
	for _, s := range g.segments(l) {
		for _, v := range s.values {
			for _, x := range append(slices.Clone(v.list), v) {
				out = append(out, x.text)
			}
		}
	}
	return out
}

// absent says whether some of it lies on members that weren't given.
func absent(segments []container.Segment) bool {
	return slices.ContainsFunc(segments, func(s container.Segment) bool {
		return slices.ContainsFunc(s.Places, func(p container.Place) bool { return p.Member < 0 })
	})
}

func sum(segments []container.Segment) (n int64) {
	for _, s := range segments {
		n += s.Inner.Len()
	}
	return n
}

// Head describes the group as it shows on a member.
func (g *Group) Head(member int) container.Head {
	return container.Head{Kind: "LVM2", Name: g.name, ID: g.given[member].id, Unit: g.extent, Members: len(g.physicals)}
}

// Devices are the logical volumes.
func (g *Group) Devices() []container.Device {
	out := make([]container.Device, len(g.logicals))
	for i, l := range g.logicals {
		out[i] = l.Device
	}
	return out
}

// Own is the label, the metadata, and all that isn't an extent; and extents of volumes of which no map is known.
func (g *Group) Own(member int) span.Set {
	p := g.given[member]
	i := slices.IndexFunc(g.physicals, func(v volume) bool { return v.member == member })
	v := &g.physicals[i]
	own := span.Of(span.Span{End: p.member.Size}).Subtract(span.Of(span.At(v.start, v.count*g.extent)))
	for _, a := range p.areas {
		own.Add(a.at)
	}
	for _, l := range g.logicals {
		if l.Map != nil {
			continue
		}
		for _, s := range l.segments {
			for _, place := range s.Places {
				if place.Member == member {
					own.Add(span.At(place.Off, s.Inner.Len()/int64(len(s.Places))))
				}
			}
		}
	}
	return own
}
