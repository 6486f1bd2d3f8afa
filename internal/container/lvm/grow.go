package lvm

import (
	"errors"
	"fmt"
	"slices"

	"twinshelf/internal/container"
	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// Grow has the group use a physical volume of another size, and gives a logical volume the extents that this makes. The
// label gets the new size, and the metadata is written anew after the old text, as its own tools do.
func (g *Group) Grow(member int, size int64, device int) (*container.Growth, error) {
	p, l := g.given[member], &g.logicals[device]
	i := slices.IndexFunc(g.physicals, func(v volume) bool { return v.member == member })
	v := &g.physicals[i]
	switch {
	case len(g.physicals) > 1:
		return nil, fmt.Errorf("the volume group %s lies on %d physical volumes, and their metadata would have to "+
			"change together", g.name, len(g.physicals))
	case l.Map == nil || l.Sealed != "":
		return nil, fmt.Errorf("%s isn't made larger: %s", l.Name, l.Sealed)
	case size%sector != 0:
		size -= size % sector
	}
	count := (endOf(p, v, size) - v.start) / g.extent
	if count <= v.count || size <= p.size {
		return nil, fmt.Errorf("there is no room for another extent of %d bytes", g.extent)
	}
	e := edit{text: g.text}
	e.number(v.tree, "dev_size", size/sector)
	e.number(v.tree, "pe_count", count)
	e.number(g.tree, "seqno", g.seq+1)
	segments := g.extend(&e, l, v, count)
	if e.err != nil {
		return nil, e.err
	}
	m, err := container.NewMap(segments)
	if err != nil {
		return nil, err
	}
	patches, err := p.rewritten(v.start, size, e.done())
	return &container.Growth{Device: m.Size(), Map: m, Patches: patches}, err
}

// endAlign is what a metadata area at the end begins at multiples of, in bytes.
const endAlign = 4096

// atEnd says whether a metadata area lies after the extents, which begin at byte start: it goes with the end.
func (a area) atEnd(start int64) bool { return a.at.Start >= start }

// moved is where a metadata area stands on a physical volume of so many bytes.
func (a area) moved(start, size int64) span.Span {
	if !a.atEnd(start) {
		return a.at
	}
	return span.At((size-a.at.Len())/endAlign*endAlign, a.at.Len())
}

// endOf is where extents end at the latest: before metadata that goes to the end of the physical volume.
func endOf(p *physical, v *volume, size int64) int64 {
	end := size
	for _, a := range p.areas {
		if a.atEnd(v.start) {
			end = min(end, a.moved(v.start, size).Start)
		}
	}
	return end
}

// extend gives a logical volume as many extents as its physical volume gets more: those that follow its end first, so
// that its last segment becomes longer, and then the last ones that are free. How much of the group is free stays.
func (g *Group) extend(e *edit, l *logical, v *volume, count int64) []container.Segment {
	more := count - v.count
	free := span.Of(span.Span{End: count}).Subtract(v.taken)
	out := slices.Clone(l.segments)
	last := &out[len(out)-1]
	tree := g.segments(l)[len(out)-1]
	if end := last.Places[0].Off + last.Inner.Len(); len(last.Places) == 1 && last.Places[0].Member == v.member {
		from := (end - v.start) / g.extent
		if next := firstOf(free, from); !next.Empty() {
			n := min(more, next.Len())
			e.number(tree, "extent_count", last.Inner.Len()/g.extent+n)
			last.Inner.End += n * g.extent
			free = free.Subtract(span.Of(span.At(from, n)))
			more -= n
		}
	}
	return append(out, g.append(e, l, v, free, more, last.Inner.End)...)
}

// firstOf is the free run that begins at an extent.
func firstOf(free span.Set, from int64) span.Span {
	for sp := range free.All() {
		if sp.Start == from {
			return sp
		}
	}
	return span.Span{}
}

// segmentText is a linear segment: its number, first extent, length in extents, and where it begins.
const segmentText = "\nsegment%d {\nstart_extent = %d\nextent_count = %d\n\n" +
	"type = \"striped\"\nstripe_count = 1\n\nstripes = [\n\"%s\", %d\n]\n}"

// append gives a logical volume segments of free extents from the end, up to so many; it ends at byte at until then.
func (g *Group) append(e *edit, l *logical, v *volume, free span.Set, more, at int64) (out []container.Segment) {
	trees := g.segments(l)
	n, text := len(trees), ""
	runs := slices.Collect(free.All())
	for _, run := range slices.Backward(runs) {
		if more == 0 {
			break
		}
		k := min(more, run.Len())
		first := run.End - k
		n++
		text += fmt.Sprintf(segmentText, n, at/g.extent, k, v.name, first)
		out = append(out, container.Segment{Inner: span.At(at, k*g.extent),
			Places: []container.Place{{Member: v.member, Off: v.start + first*g.extent}}})
		at += k * g.extent
		more -= k
	}
	if text != "" {
		e.number(l.tree, "segment_count", int64(n))
		e.insert(trees[len(trees)-1].body.End+1, text)
	}
	return out
}

// edit changes values of the text, and leaves everything else of it as it is.
type edit struct {
	text    []byte
	changes []change
	err     error
}

type change struct {
	at   span.Span
	text string
}

func (e *edit) number(s *section, name string, n int64) {
	v, ok := s.values[name]
	if !ok || v.kind != 'n' {
		e.err = fmt.Errorf("its metadata has no %s in %s", name, s.name)
		return
	}
	e.changes = append(e.changes, change{v.at, fmt.Sprint(n)})
}

func (e *edit) insert(at int64, text string) {
	e.changes = append(e.changes, change{span.Span{Start: at, End: at}, text})
}

func (e *edit) done() []byte {
	slices.SortFunc(e.changes, func(a, b change) int { return int(a.at.Start - b.at.Start) })
	var out []byte
	at := int64(0)
	for _, c := range e.changes {
		out = append(append(out, e.text[at:c.at.Start]...), c.text...)
		at = c.at.End
	}
	return append(out, e.text[at:]...)
}

// rewritten gives a physical volume, whose extents begin at byte start, another size in its label, and its metadata
// areas another text.
func (p *physical) rewritten(start, size int64, text []byte) ([]disk.Patch, error) {
	b := make([]byte, sector)
	if err := disk.ReadFull(p.member.R, b, p.label); err != nil {
		return nil, err
	}
	h := b[le.Uint32(b[labelOffset:]):]
	le.PutUint64(h[pvSize:], uint64(size))
	var patches []disk.Patch
	entries := h[pvAreas+(len(p.data)+1)*areaLen:]
	for i, a := range p.areas {
		to := a.moved(start, size)
		le.PutUint64(entries[i*areaLen:], uint64(to.Start))
		more, err := p.rewriteArea(a, to, text)
		if err != nil {
			return nil, err
		}
		patches = append(patches, more...)
	}
	le.PutUint32(b[labelCRC:], checksum(b[labelOffset:]))
	return append(patches, disk.Patch{Off: p.label, Data: b, Why: "label of the physical volume"}), nil
}

// rewriteArea puts a text after the one that is there, and has the area's header name it. An area that goes elsewhere
// begins anew.
func (p *physical) rewriteArea(a area, to span.Span, text []byte) ([]disk.Patch, error) {
	if a.text == nil && to == a.at {
		return nil, nil
	}
	ring := to.Len() - mdaLen
	used := (int64(len(a.text)) + sector - 1) / sector * sector
	if int64(len(text)) > ring-used {
		return nil, errors.New("its metadata area has no room for a second text")
	}
	h := make([]byte, mdaLen)
	if err := disk.ReadFull(p.member.R, h, a.at.Start); err != nil {
		return nil, err
	}
	at := int64(mdaLen)
	if to == a.at {
		at += (a.offset - mdaLen + used) % ring
	}
	le.PutUint64(h[mdaStart:], uint64(to.Start))
	var patches []disk.Patch
	if a.text != nil {
		slot := h[mdaSlots:]
		le.PutUint64(slot[slotOffset:], uint64(at))
		le.PutUint64(slot[slotSize:], uint64(len(text)))
		le.PutUint32(slot[slotCRC:], checksum(text))
		const why = "metadata of the volume group"
		first := min(int64(len(text)), to.Len()-at)
		patches = append(patches, disk.Patch{Off: to.Start + at, Data: text[:first], Why: why},
			disk.Patch{Off: to.Start + mdaLen, Data: text[first:], Why: why}) // it goes on at the start
	}
	le.PutUint32(h[mdaCRC:], checksum(h[mdaSign:]))
	return append(patches, disk.Patch{Off: to.Start, Data: h, Why: "header of the metadata area"}), nil
}
