package lvm

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/container"
	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// physical is a physical volume as its label and its metadata areas show it.
type physical struct {
	member container.Member
	id     string // as people write it, with dashes
	size   int64  // of the device as the label has it, bytes
	label  int64  // where its sector stands
	data   []span.Span
	areas  []area
}

// area is a metadata area.
type area struct {
	at     span.Span // on the member
	offset int64     // of the text, from the area's start
	crc    uint32
	text   []byte // nil when the area is empty, or set to be ignored
	flags  uint32
}

// ErrNoLabel means that there is no label of the kind.
var ErrNoLabel = errors.New("no label of a volume group")

// label reads the label, the header and the metadata areas of a member.
func label(m container.Member) (*physical, error) {
	head := make([]byte, min(m.Size, labelSectors*sector))
	if err := disk.ReadFull(m.R, head, 0); err != nil {
		return nil, err
	}
	for n := int64(0); (n+1)*sector <= int64(len(head)); n++ {
		b := head[n*sector : (n+1)*sector]
		if string(b[:len(labelMagic)]) == labelMagic && string(b[labelKind:labelKind+len(labelType)]) == labelType {
			return header(m, b, n)
		}
	}
	return nil, ErrNoLabel
}

// header reads what the sector of a label says.
func header(m container.Member, b []byte, n int64) (*physical, error) {
	at := int64(le.Uint32(b[labelOffset:]))
	switch {
	case checksum(b[labelOffset:]) != le.Uint32(b[labelCRC:]):
		return nil, errors.New("the checksum of its label is wrong")
	case le.Uint64(b[labelNumber:]) != uint64(n):
		return nil, fmt.Errorf("its label says that it lies in sector %d, not %d", le.Uint64(b[labelNumber:]), n)
	case at < labelLen || at+pvAreas > sector:
		return nil, fmt.Errorf("its header would begin at byte %d of the label", at)
	}
	h := b[at:]
	p := &physical{member: m, label: n * sector, id: dashed(string(h[pvID : pvID+pvIDLen])),
		size: int64(le.Uint64(h[pvSize:]))}
	if p.size < 0 || p.size > m.Size {
		return nil, fmt.Errorf("it says that it has %d bytes, and its place has %d", uint64(p.size), m.Size)
	}
	data, rest, err := p.list(h[pvAreas:])
	if err != nil {
		return nil, fmt.Errorf("its data areas: %w", err)
	}
	meta, _, err := p.list(rest)
	if err != nil {
		return nil, fmt.Errorf("its metadata areas: %w", err)
	}
	p.data = data
	for _, sp := range meta {
		a, err := p.area(sp)
		if err != nil {
			return nil, fmt.Errorf("its metadata area at byte %d: %w", sp.Start, err)
		}
		p.areas = append(p.areas, a)
	}
	return p, nil
}

// list reads a list of areas. An area of length 0 reaches to the end.
func (p *physical) list(b []byte) (out []span.Span, rest []byte, err error) {
	for range maxAreas + 1 {
		if len(b) < areaLen {
			break
		}
		at, n := le.Uint64(b), le.Uint64(b[8:])
		b = b[areaLen:]
		if at == 0 && n == 0 {
			return out, b, nil
		}
		if at > uint64(p.size) || n > uint64(p.size)-at {
			return nil, nil, fmt.Errorf("one of %d bytes at byte %d reaches beyond the end at byte %d", n, at, p.size)
		}
		if n == 0 {
			n = uint64(p.size) - at
		}
		out = append(out, span.At(int64(at), int64(n)))
	}
	return nil, nil, errors.New("their list doesn't end")
}

// area reads a metadata area.
func (p *physical) area(sp span.Span) (area, error) {
	a := area{at: sp}
	if sp.Len() <= mdaLen {
		return a, fmt.Errorf("%d bytes are too few", sp.Len())
	}
	h := make([]byte, mdaLen)
	if err := disk.ReadFull(p.member.R, h, sp.Start); err != nil {
		return a, err
	}
	switch {
	case string(h[mdaSign:mdaSign+len(mdaMagic)]) != mdaMagic || le.Uint32(h[mdaVersion:]) != 1:
		return a, errors.New("it has no header")
	case checksum(h[mdaSign:]) != le.Uint32(h[mdaCRC:]):
		return a, errors.New("the checksum of its header is wrong")
	case le.Uint64(h[mdaStart:]) != uint64(sp.Start) || le.Uint64(h[mdaSize:]) != uint64(sp.Len()):
		return a, errors.New("its header is of another place")
	}
	if ahead := h[mdaSlots+slotLen:]; le.Uint64(ahead[slotOffset:]) != 0 && le.Uint64(ahead[slotSize:]) != 0 {
		return a, errors.New("a change of the group was begun and not ended")
	}
	slot := h[mdaSlots:]
	off, n := le.Uint64(slot[slotOffset:]), le.Uint64(slot[slotSize:])
	a.offset, a.crc, a.flags = int64(off), le.Uint32(slot[slotCRC:]), le.Uint32(slot[slotFlags:])
	if off == 0 || a.flags&flagIgnored != 0 {
		return a, nil
	}
	if off < mdaLen || off >= uint64(sp.Len()) || n > uint64(sp.Len()-mdaLen) || n > maxText {
		return a, fmt.Errorf("its text of %d bytes would begin at byte %d of it", n, off)
	}
	a.text = make([]byte, n)
	first := min(int64(n), sp.Len()-a.offset)
	if err := disk.ReadFull(p.member.R, a.text[:first], sp.Start+a.offset); err != nil {
		return a, err
	}
	if err := disk.ReadFull(p.member.R, a.text[first:], sp.Start+mdaLen); err != nil { // it goes on at the start
		return a, err
	}
	if checksum(a.text) != a.crc {
		return a, errors.New("the checksum of its text is wrong")
	}
	return a, nil
}

// silent says whether none of its metadata areas has a text.
func (p *physical) silent() bool {
	return !slices.ContainsFunc(p.areas, func(a area) bool { return a.text != nil })
}

// dashed is an ID as people write it.
func dashed(id string) string {
	if len(id) != pvIDLen {
		return id
	}
	out, at := []string{}, 0
	for _, n := range []int{6, 4, 4, 4, 4, 4, 6} {
		out = append(out, id[at:at+n])
		at += n
	}
	return strings.Join(out, "-")
}
