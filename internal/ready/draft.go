// Package ready lays out, formats and erases a disk for its purpose. A Draft is
// the layout as it is wished; its Plan is what would be written, readable as a
// Device before anything is; a Plan's Run keeps what will be overwritten, writes
// through the guard, and reads everything back.
//
// "Adds to what is there" and "lays the disk out anew" are different from the
// first moment: a Draft is made by Change or by Anew, and never turns into the other.
package ready

import (
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/sizes"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Part is a part of a draft.
type Part struct {
	table.Part
	// Old is the part as it is now; nil for a new one.
	Old *survey.Area
	// Form is the new file system; nil when the contents stay as they are.
	Form *fsys.Form
	// Files are what the new file system holds from the beginning.
	Files []File
	// Raw stands on the part instead of a file system: start-up code.
	Raw []byte
	// Rest says that the part was given a share of what was left.
	Rest bool
}

// rewritten says that what is on the part now goes.
func (p *Part) rewritten() bool { return p.Form != nil || p.Raw != nil }

// Title names the part for people.
func (p *Part) Title() string {
	switch {
	case p.Form != nil && p.Form.Label != "":
		return p.Form.Label
	case p.Form == nil && p.Old != nil:
		return p.Old.Title()
	case p.Name != "":
		return p.Name
	}
	return table.TypeName(p.Type)
}

// Holds says what will be on the part.
func (p *Part) Holds() string {
	switch {
	case p.Form != nil:
		return p.Form.Kind
	case p.Raw != nil:
		return "start-up code"
	case p.Old != nil:
		return p.Old.Holds()
	}
	return "nothing yet"
}

// Fate is what a plan means for a part.
type Fate string

const (
	Stays     Fate = "stays"
	Grows     Fate = "stays, resized"
	Formatted Fate = "formatted anew"
	New       Fate = "new"
)

// Fate says what becomes of the part.
func (p *Part) Fate() Fate {
	switch {
	case p.Old == nil:
		return New
	case p.rewritten():
		return Formatted
	case p.Span != p.Old.Span:
		return Grows
	}
	return Stays
}

// Draft is the layout of a disk as it is wished. Parts are ascending by place.
type Draft struct {
	Identity disk.Identity
	Align    int64 // bytes
	Kind     table.Kind
	ID       string
	// New says that the disk is laid out anew: nothing of it stays.
	New    bool
	Parts  []Part
	Before *survey.Survey
	// Code is start-up code for the first sector; nil leaves what is there, or none where the disk is laid out anew.
	Code []byte
	// Notes are things to know about it, in words.
	Notes []string

	entries int
	now     time.Time
}

// alignment is 1 MiB, or more when the disk asks for it.
func alignment(optimal int) int64 {
	a := int64(units.MiB)
	if n := int64(optimal); n > a && n%4096 == 0 && n <= 64*units.MiB {
		a = n
	}
	return a
}

// maxMBR is where the part that begins last must end, in sectors.
const maxMBR = 1 << 32

// Anew drafts a new layout that keeps nothing. kind may be None: GPT is taken then.
func Anew(s *survey.Survey, optimal int, kind table.Kind) *Draft {
	if kind == table.None {
		kind = table.GPT
	}
	d := &Draft{Identity: s.Device.Identity(), Align: alignment(optimal), Kind: kind, New: true, Before: s,
		entries: 128, now: time.Now()}
	d.ID = newGUID()
	if kind == table.MBR {
		d.ID = strings.ToLower(newGUID()[:8])
	}
	return d
}

// ErrOnlyAnew means that the disk's table can't be changed, only replaced.
var ErrOnlyAnew = errors.New("the disk can only be laid out anew")

// Change drafts a change of the table that is there; at first everything stays.
func Change(s *survey.Survey, optimal int) (*Draft, error) {
	t := s.Table
	switch {
	case t.Kind == table.None && s.Whole:
		return nil, fmt.Errorf("%w: it has no table, a file system fills all of it", ErrOnlyAnew)
	case t.Kind == table.None:
		return nil, fmt.Errorf("%w: it has no table", ErrOnlyAnew)
	case t.Kind == table.APM:
		return nil, fmt.Errorf("%w: it has an Apple partition map, which isn't changed here", ErrOnlyAnew)
	case !t.Sound(s.Device.Size()) || t.Worst() == table.Damage:
		return nil, fmt.Errorf("%w: its table is damaged (%s); capture it first if anything on it matters", ErrOnlyAnew,
			firstFinding(t))
	}
	d := &Draft{Identity: s.Device.Identity(), Align: alignment(optimal), Kind: t.Kind, ID: t.ID, Before: s,
		entries: t.Entries(), now: time.Now()}
	for _, a := range s.Parts() {
		area := a
		d.Parts = append(d.Parts, Part{Part: *a.Part, Old: &area})
	}
	return d, nil
}

func firstFinding(t *table.Table) string {
	if len(t.Findings) == 0 {
		return "its parts overlap or lie beyond its end"
	}
	return t.Findings[0].Text
}

func newGUID() string {
	return table.NewGUID(random16())
}

func random16() (b [16]byte) {
	_, _ = rand.Read(b[:]) // never fails
	return b
}

func (d *Draft) sector() int64 { return int64(d.Identity.Sector) }

func up(n, to int64) int64   { return (n + to - 1) / to * to }
func down(n, to int64) int64 { return n / to * to }

// Usable is where parts may lie, in bytes.
func (d *Draft) Usable() span.Span {
	s := d.sector()
	if d.Kind == table.MBR {
		return span.Span{Start: s, End: min(down(d.Identity.Size, s), maxMBR*s)}
	}
	array := up(int64(d.entries)*128, s)
	return span.Span{Start: 2*s + array, End: down(d.Identity.Size, s) - s - array}
}

// Gaps are the stretches, on whole alignments, in which a new part has room.
func (d *Draft) Gaps() []span.Span {
	var taken span.Set
	for _, p := range d.Parts {
		taken.Add(p.Span)
	}
	var out []span.Span
	for sp := range taken.Complement(d.Usable()).All() {
		if d.Kind == table.MBR && d.logicalNext() { // its link stands before it
			sp.Start += d.sector()
		}
		if g := (span.Span{Start: up(sp.Start, d.Align), End: down(sp.End, d.Align)}); g.Len() >= d.Align {
			out = append(out, g)
		}
	}
	return out
}

// Gap is the largest gap; empty when there is none.
func (d *Draft) Gap() span.Span {
	var best span.Span
	for _, g := range d.Gaps() {
		if g.Len() > best.Len() {
			best = g
		}
	}
	return best
}

// Rest is how many bytes no part takes.
func (d *Draft) Rest() int64 {
	n := int64(0)
	for _, g := range d.Gaps() {
		n += g.Len()
	}
	return n
}

// Room is what sizes are understood against, in the given gap.
func (d *Draft) Room(gap span.Span, used func(string) (int64, error)) sizes.Room {
	return sizes.Room{Disk: d.Identity.Size, Rest: gap.Len(), Used: used}
}

// maxPrimary is how many parts of an MBR are primary; further ones are logical.
const maxPrimary = 3

// logicalNext says whether the next new part of an MBR would be a logical one.
func (d *Draft) logicalNext() bool {
	primary := 0
	for _, p := range d.Parts {
		if p.Logical {
			return true
		}
		primary++
	}
	return primary >= maxPrimary
}

// number is the lowest free number for a new part.
func (d *Draft) number(logical bool) (int, error) {
	taken := map[int]bool{}
	for _, p := range d.Parts {
		taken[p.Number] = true
	}
	from, to := 1, d.entries
	if d.Kind == table.MBR {
		to = 4
		if logical {
			from, to = 5, 63
		}
	}
	for n := from; n <= to; n++ {
		if !taken[n] {
			return n, nil
		}
	}
	return 0, fmt.Errorf("the %s has room for %d parts and all are taken", d.Kind, to-from+1)
}

// Add puts a new part of n bytes at the start of a gap; the size is rounded up to whole
// alignments, and never over the end of the gap. It returns the part's index.
func (d *Draft) Add(gap span.Span, n int64, rest bool) (int, error) {
	switch {
	case gap.Empty():
		return 0, fmt.Errorf("there is no room for another part: nothing is left of %s", sizes.Words(d.Identity.Size))
	case n <= 0:
		return 0, fmt.Errorf("a part of %d bytes can't be", n)
	case n > gap.Len():
		return 0, fmt.Errorf("%s don't fit: the largest gap has %s, %s too little", sizes.Words(n),
			sizes.Words(gap.Len()), units.Bytes(n-gap.Len()))
	}
	logical := d.Kind == table.MBR && d.logicalNext()
	number, err := d.number(logical)
	if err != nil {
		return 0, err
	}
	p := Part{Part: table.Part{Number: number, Span: span.At(gap.Start, min(up(n, d.Align), gap.Len())),
		Logical: logical}, Rest: rest}
	p.Type = table.TypeLinuxData
	if d.Kind == table.MBR {
		p.Type = "0x83"
	} else {
		p.GUID = newGUID()
	}
	d.Parts = append(d.Parts, p)
	slices.SortFunc(d.Parts, func(a, b Part) int { return int(min(1, max(-1, a.Span.Start-b.Span.Start))) })
	return slices.IndexFunc(d.Parts, func(q Part) bool { return q.Span == p.Span }), nil
}

// Remove takes a part out of the layout.
func (d *Draft) Remove(i int) { d.Parts = slices.Delete(d.Parts, i, i+1) }

// Growable is up to how many bytes part i could have without anything moving.
func (d *Draft) Growable(i int) int64 {
	end := d.Usable().End
	if i+1 < len(d.Parts) {
		end = d.Parts[i+1].Span.Start
		if d.Parts[i+1].Logical {
			end -= d.sector()
		}
	}
	if end < d.Usable().End || end%d.Align != 0 {
		end = down(end, d.Align)
	}
	return max(d.Parts[i].Span.Len(), end-d.Parts[i].Span.Start)
}

// Resize gives part i another size; its start stays, and nothing moves. A part whose
// contents stay can't get smaller than what its file system covers.
func (d *Draft) Resize(i int, n int64) error {
	p := &d.Parts[i]
	least := d.Align
	if p.Old != nil && !p.rewritten() {
		least = p.Old.Span.Len()
		if size := p.Old.Content.Info.Size; size > 0 {
			least = size
		}
	}
	n = up(n, d.Align)
	most := d.Growable(i)
	if n > most && n-most < d.Align {
		n = most
	}
	switch {
	case n < least:
		return fmt.Errorf("part %d can't shrink to %s: what is on it reaches over %s; format it anew, or leave it "+
			"as it is", p.Number, units.Bytes(n), units.Bytes(least))
	case n > most:
		return fmt.Errorf("part %d can't grow to %s: there is room for %s before the next part, and nothing is "+
			"moved here", p.Number, units.Bytes(n), units.Bytes(most))
	}
	p.Span.End = p.Span.Start + n
	if p.Form != nil {
		p.Form.Size = n
	}
	return nil
}

// SetName names part i; only a GPT keeps names, of up to 36 UTF-16 units.
func (d *Draft) SetName(i int, name string) error {
	if d.Kind != table.GPT {
		return errors.New("an MBR keeps no names of parts; give the file system a label instead")
	}
	if err := fsys.PlainLabel("a part's name in a GPT", name, 36); err != nil {
		return err
	}
	d.Parts[i].Name = name
	return nil
}

// SetType sets what part i is for, by a plain name, a GUID or an MBR number.
func (d *Draft) SetType(i int, name string) error {
	t, err := table.TypeNamed(d.Kind, name)
	if err == nil {
		d.Parts[i].Type = t
	}
	return err
}

// SetForm gives part i a new file system; the type follows it unless the part
// is one that starts the machine. An empty kind leaves the contents alone again.
func (d *Draft) SetForm(i int, kind, label string, unit int64) error {
	p := &d.Parts[i]
	if kind == "" {
		p.Form = nil
		return nil
	}
	m, err := families.MakerOf(kind)
	if err != nil {
		return err
	}
	was := p.Span
	d.leaveRoom(i, m)
	f := fsys.Form{Kind: m.Kind, Label: label, Unit: unit, Size: p.Span.Len(), Sector: d.Identity.Sector,
		Start: p.Span.Start, ID: random16(), Now: d.now}
	if m.Written != nil {
		f.Label = m.Written(label)
	}
	f.ID[6], f.ID[8] = f.ID[6]&0x0F|0x40, f.ID[8]&0x3F|0x80 // also a valid UUID
	if err := m.Check(f); err != nil {
		p.Span = was
		return fmt.Errorf("part %d: %w", p.Number, err)
	}
	if p.Form != nil {
		f.ID = p.Form.ID
	}
	p.Form = &f
	role := table.RoleOf(p.Type)
	switch {
	case role == table.RoleStartup || role == table.RoleRecovery:
	case d.Kind == table.MBR:
		p.Type = m.MBRType
	default:
		p.Type = m.GPTType
	}
	return nil
}

// largeEnough is how many times the room after it a part must have, so that its systems leave that free.
const largeEnough = 16

// leaveRoom has a new part that takes the rest leave free after it what the systems of its file system do, and take
// back what another file system left.
func (d *Draft) leaveRoom(i int, m fsys.Maker) {
	p := &d.Parts[i]
	if !p.Rest || p.Old != nil || d.Kind != table.GPT {
		return
	}
	after := func(m fsys.Maker) int64 {
		if d.Growable(i) < largeEnough*m.RoomAfter {
			return 0
		}
		return m.RoomAfter
	}
	want := after(m)
	if p.Form != nil {
		if before, err := families.MakerOf(p.Form.Kind); err == nil && after(before) > want {
			p.Span.End = p.Span.Start + d.Growable(i)
		}
	}
	if free := d.Growable(i) - p.Span.Len(); free < want {
		p.Span.End -= up(want-free, d.Align)
	}
}

// leftAfter is how much was left free after a part for its systems, in bytes.
func (d *Draft) leftAfter(i int) int64 {
	p := &d.Parts[i]
	if p.Form == nil || !p.Rest || p.Old != nil || d.Kind != table.GPT {
		return 0
	}
	m, err := families.MakerOf(p.Form.Kind)
	if err != nil || d.Growable(i) < largeEnough*m.RoomAfter || d.Growable(i)-p.Span.Len() < m.RoomAfter {
		return 0
	}
	return m.RoomAfter
}

// SplitRest shares the largest gap out evenly among n new parts and returns the first one's index.
func (d *Draft) SplitRest(n int) (int, error) {
	gap := d.Gap()
	each := down(gap.Len()/int64(max(1, n)), d.Align)
	if n < 1 || each < d.Align {
		return 0, fmt.Errorf("%s can't be shared out among %d parts", sizes.Words(gap.Len()), n)
	}
	first := -1
	for k := range n {
		g := d.gapAt(gap)
		size := each
		if k == n-1 || size > g.Len() {
			size = g.Len() // the last one takes the remainder
		}
		i, err := d.Add(g, size, true)
		if err != nil {
			return first, err
		}
		if first < 0 {
			first = i
		}
	}
	return first, nil
}

// gapAt is what is still free of a gap.
func (d *Draft) gapAt(gap span.Span) span.Span {
	for _, g := range d.Gaps() {
		if g.Overlaps(gap) {
			return g.Intersect(gap)
		}
	}
	return span.Span{}
}

// Lost are the old parts whose contents don't stay.
func (d *Draft) Lost() []survey.Area {
	return slices.DeleteFunc(d.Before.Parts(), func(a survey.Area) bool {
		return slices.ContainsFunc(d.Parts, func(p Part) bool {
			return !p.rewritten() && p.Old != nil && p.Old.Span.Start == a.Span.Start &&
				p.Old.Part.Number == a.Part.Number
		})
	})
}

// find gives the index of the part with a number, or -1.
func (d *Draft) find(number int) int {
	return slices.IndexFunc(d.Parts, func(p Part) bool { return p.Number == number })
}

// Number gives the index of the part with a number.
func (d *Draft) Number(number int) (int, error) {
	if i := d.find(number); i >= 0 {
		return i, nil
	}
	return 0, fmt.Errorf("there is no part %d on this disk", number)
}

// Clone is a copy that can be changed without changing d.
func (d *Draft) Clone() *Draft {
	c := *d
	c.Parts, c.Notes = slices.Clone(d.Parts), slices.Clone(d.Notes)
	for i := range c.Parts {
		if f := c.Parts[i].Form; f != nil {
			form := *f
			c.Parts[i].Form = &form
		}
	}
	return &c
}
