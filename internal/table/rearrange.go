package table

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// Rearrange gives the patches that put the parts of a table elsewhere, on a disk of size bytes: places names the
// new span of each part by its number; parts that it doesn't name lose their entries. Everything
// else that stands in the table (identities, names, attributes, boot code, order) stays. r is the disk that
// the table was read from.
func (t *Table) Rearrange(r io.ReaderAt, places map[int]span.Span, size int64) ([]disk.Patch, error) {
	s := int64(t.Sector)
	check := Table{Sector: t.Sector}
	for _, p := range t.Parts {
		if sp, ok := places[p.Number]; ok {
			if sp.Start%s != 0 || sp.End%s != 0 {
				return nil, fmt.Errorf("part %d at %s would not be on whole sectors of %d bytes", p.Number, sp,
					t.Sector)
			}
			p.Span = sp
			check.Parts = append(check.Parts, p)
		}
	}
	if !check.Sound(size) {
		return nil, fmt.Errorf("the parts would overlap or lie beyond the end of the disk at byte %d", size)
	}
	switch t.Kind {
	case GPT:
		return t.rearrangeGPT(places, size)
	case MBR:
		return t.rearrangeMBR(r, places, size)
	case APM:
		return t.rearrangeAPM(places, size)
	}
	return nil, nil
}

// Hybrid says whether a GPT's protective MBR names parts of its own: they would have to follow when parts move, and
// nobody knows which belongs to which.
func (t *Table) Hybrid() bool {
	if t.Kind != GPT || len(t.gpt.first) < mbrBootSig+2 || !hasBootSig(t.gpt.first) {
		return false
	}
	for i := range 4 {
		if kind := mbrEntryAt(t.gpt.first, i).kind; kind != mbrTypeEmpty && kind != mbrProtective {
			return true
		}
	}
	return false
}

// Reserve is what a table needs of a disk before and after the parts, in bytes.
func (t *Table) Reserve() (before, behind int64) {
	s := int64(t.Sector)
	if t.Kind == APM {
		return t.apm.end, 0
	}
	if t.Kind != GPT || t.gpt.header == nil {
		return s, 0
	}
	n := (int64(len(t.gpt.entries)) + s - 1) / s
	return (int64(t.gpt.entriesLBA) + n) * s, (n + 1) * s
}

func (t *Table) rearrangeGPT(places map[int]span.Span, size int64) ([]disk.Patch, error) {
	if t.gpt.header == nil {
		return nil, fmt.Errorf("the GPT is too damaged to be built anew: %v", t.Findings)
	}
	before, behind := t.Reserve()
	g := t.gpt
	g.entries = bytes.Clone(g.entries)
	s := uint64(t.Sector)
	le := binary.LittleEndian
	for _, p := range t.Parts {
		e := g.entries[(p.Number-1)*int(g.entrySize):][:g.entrySize]
		sp, ok := places[p.Number]
		if !ok {
			clear(e)
			continue
		}
		if sp.Start < before || sp.End > size-behind {
			return nil, fmt.Errorf("part %d at %s would lie where the GPT itself has to be", p.Number, sp)
		}
		le.PutUint64(e[entFirst:], uint64(sp.Start)/s)
		le.PutUint64(e[entLast:], uint64(sp.End)/s-1)
	}
	return g.patches(t.Sector, size), nil
}

// rearrangeMBR changes the entries where they stand. Links of the extended chain keep their distance to
// their parts.
func (t *Table) rearrangeMBR(r io.ReaderAt, places map[int]span.Span, size int64) ([]disk.Patch, error) {
	first := make([]byte, t.Sector)
	if err := readAt(r, first, 0); err != nil {
		return nil, err
	}
	patches := []disk.Patch{{Data: first, Why: "MBR with the new places"}}
	var chain []Part
	for _, p := range t.Parts {
		if p.Logical {
			if _, ok := places[p.Number]; ok {
				chain = append(chain, p)
			}
			continue
		}
		e := first[mbrEntries+(p.Number-1)*mbrEntryLen:][:mbrEntryLen]
		sp, ok := places[p.Number]
		if !ok {
			clear(e)
			continue
		}
		if err := t.putEntry(e, p, sp, sp.Start); err != nil {
			return nil, err
		}
	}
	for i := range 4 {
		if e := first[mbrEntries+i*mbrEntryLen:][:mbrEntryLen]; isExtended(e[entMBRType]) {
			links, err := t.rearrangeChain(r, e, chain, places)
			if err != nil {
				return nil, err
			}
			patches = append(patches, links...)
			break // the first one is followed
		}
	}
	return patches, nil
}

// putEntry writes the place sp of part p into an entry that counts sectors from byte start - first.
func (t *Table) putEntry(e []byte, p Part, sp span.Span, first int64) error {
	s := int64(t.Sector)
	if sp.End/s > maxMBRSector+1 || sp.Len()/s > maxMBRSector {
		return fmt.Errorf("part %d would end beyond what an MBR can address (%d sectors)", p.Number,
			int64(maxMBRSector))
	}
	if sp != p.Span {
		putCHS(e[1:4], sp.Start/s)
		putCHS(e[5:8], sp.End/s-1)
	}
	binary.LittleEndian.PutUint32(e[entMBRFirst:], uint32(first/s))
	binary.LittleEndian.PutUint32(e[entMBRCount:], uint32(sp.Len()/s))
	return nil
}

// rearrangeChain writes the extended entry e and the links of the parts in it.
func (t *Table) rearrangeChain(r io.ReaderAt, e []byte, chain []Part, places map[int]span.Span) ([]disk.Patch, error) {
	if len(chain) == 0 {
		clear(e)
		return nil, nil
	}
	s := int64(t.Sector)
	at := func(p Part) int64 { // of its link, bytes
		return places[p.Number].Start - (p.Span.Start - (p.TableAt - mbrEntries))
	}
	whole := span.Span{Start: at(chain[0])}
	for _, p := range chain {
		whole.End = max(whole.End, places[p.Number].End)
	}
	ext := Part{Number: 0, Span: span.Span{}}
	if err := t.putEntry(e, ext, whole, whole.Start); err != nil {
		return nil, err
	}
	var patches []disk.Patch
	for i, p := range chain {
		b := make([]byte, t.Sector)
		if err := readAt(r, b, p.TableAt-mbrEntries); err != nil {
			return nil, err
		}
		sp := places[p.Number]
		if at(p) < whole.Start || at(p)+s > sp.Start {
			return nil, fmt.Errorf("the link of part %d has no room before it", p.Number)
		}
		if err := t.putEntry(b[mbrEntries:][:mbrEntryLen], p, sp, sp.Start-at(p)); err != nil {
			return nil, err
		}
		next := b[mbrEntries+mbrEntryLen:][:mbrEntryLen]
		if clear(next); i+1 < len(chain) {
			n := chain[i+1]
			next[entMBRType] = 0x05
			to := span.Span{Start: at(n), End: places[n.Number].End}
			if err := t.putEntry(next, ext, to, to.Start-whole.Start); err != nil {
				return nil, err
			}
		}
		patches = append(patches,
			disk.Patch{Off: at(p), Data: b, Why: fmt.Sprintf("link of logical part %d", p.Number)})
	}
	return patches, nil
}

// putCHS writes a sector's number in cylinders, heads and sectors of the usual geometry
// (255 heads, 63 sectors), or the mark for what lies beyond its reach.
func putCHS(b []byte, lba int64) {
	c, h, s := lba/(255*63), lba/63%255, lba%63+1
	if c > 1023 {
		c, h, s = 1023, 254, 63
	}
	b[0], b[1], b[2] = byte(h), byte(s)|byte(c>>8<<6), byte(c)
}
