// Package survey says what a Device holds: its table, and area by area what is
// on it and which of its bytes have to be captured. It only reads.
package survey

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/signature"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// Area is a part, or the area between parts.
type Area struct {
	Span    span.Span    // bytes on the disk
	Part    *table.Part  // nil between parts
	Content fsys.Content // Content.Used is what a capture keeps, in bytes
	// ToRead is how much of Content.Used has to be read, in bytes: less only
	// where the device knows its holes.
	ToRead int64
	Role   table.Role

	r       *io.SectionReader
	touched *touched // what r reads; nil where nobody wants to know
}

// Survey is what was found on a device. Areas are ascending and cover it.
type Survey struct {
	Device disk.Device
	Table  *table.Table
	Areas  []Area
	// Whole says that the disk has no table, and a file system on all of it.
	Whole bool
	// Notes are things to know, in words.
	Notes []string
	// Remains are what begins at usual places of a disk without a table: what a lost table named, or leftovers.
	Remains []Remain

	touched *touched

	blank  bool
	whole  bool // everything is taken, by wish
	random bool // its first bytes bear no order
}

// Of looks at a device. inUse names the parts (by number; 0 for the whole disk) that somebody writes
// to now: their maps are not trusted, whatever they say.
func Of(ctx context.Context, d disk.Device, inUse map[int]string) (*Survey, error) {
	return of(ctx, d, func(s *Survey, p *table.Part, others []families.Member) error {
		return s.part(ctx, p, others, inUse)
	})
}

// Divided looks at a device's table only: what lies in its parts isn't known, so all of each is wanted.
func Divided(ctx context.Context, d disk.Device) (*Survey, error) {
	return of(ctx, d, func(s *Survey, p *table.Part, _ []families.Member) error {
		a := Area{Span: p.Span, Part: p, r: disk.Section(d, p.Span.Start, p.Span.Len())}
		a.take(d, fsys.Everything(p.Span.Len(), "it hasn't been looked at yet"))
		s.Areas = append(s.Areas, a)
		return nil
	})
}

// of divides a device by its table, and has each part looked at.
func of(ctx context.Context, d disk.Device, part func(*Survey, *table.Part, []families.Member) error) (*Survey, error) {
	seen := &touched{Device: d}
	t, err := table.Read(seen, d.Size(), d.SectorSize())
	if err != nil {
		return nil, err
	}
	s := &Survey{Device: d, Table: t, touched: seen}
	parts := slices.Clone(t.Parts)
	switch {
	case !t.Sound(d.Size()):
		s.Notes = append(s.Notes, "the table doesn't add up, so the disk is taken as a whole, every block that "+
			"isn't zero")
		parts = nil
	case t.Kind != table.None && signature.Disc(d, d.Size()):
		s.Notes = append(s.Notes, "an image of a disc (ISO 9660) lies over the whole disk and has parts in it; "+
			"everything is kept as it is")
		parts = nil
	case t.Kind == table.None:
		if v, _ := families.Identify(ctx, d, d.Size(), d.SectorSize()); v != nil {
			s.Whole = true
			parts = []table.Part{{Number: 1, Span: span.Span{End: d.Size()}}}
		}
	}
	slices.SortFunc(parts, func(a, b table.Part) int { return int(min(1, max(-1, a.Span.Start-b.Span.Start))) })
	at := int64(0)
	for i := range parts {
		if gap := (span.Span{Start: at, End: parts[i].Span.Start}); !gap.Empty() {
			s.gap(gap)
		}
		if err := part(s, &parts[i], members(d, parts, &parts[i])); err != nil {
			return nil, err
		}
		at = parts[i].Span.End
	}
	if gap := (span.Span{Start: at, End: d.Size()}); !gap.Empty() {
		s.gap(gap)
	}
	s.roles()
	if t.Kind == table.None && !s.Whole {
		if err := s.lookForRemains(ctx); err != nil {
			return nil, err
		}
	}
	return s, nil
}

func (s *Survey) gap(sp span.Span) {
	a := Area{Span: sp, r: disk.Section(s.Device, sp.Start, sp.Len()), touched: s.touched}
	a.Content = fsys.Everything(sp.Len(), "between the parts")
	a.Content.Used = dataIn(s.Device, sp)
	a.ToRead = a.Content.Used
	s.Areas = append(s.Areas, a)
}

func (s *Survey) part(ctx context.Context, p *table.Part, others []families.Member, inUse map[int]string) error {
	a := Area{Span: p.Span, Part: p, r: disk.Section(s.touched, p.Span.Start, p.Span.Len()), touched: s.touched}
	c, err := families.Examine(ctx, a.r, p.Span.Len(), s.Device.SectorSize(), others...)
	if err != nil {
		return err
	}
	for _, n := range []int{0, p.Number} {
		if why := inUse[n]; why != "" {
			c.Distrust(why)
		}
	}
	a.take(s.Device, c)
	s.Areas = append(s.Areas, a)
	return nil
}

// take gives the area its contents.
func (a *Area) take(d disk.Device, c fsys.Content) {
	if !c.Maps {
		c.Used = dataIn(d, a.Span)
	}
	a.Content, a.ToRead = c, c.Used
	if c.Maps {
		a.ToRead = dataWithin(d, &c, a.Span.Start)
	}
}

// TakeWhole has every byte of all parts captured that isn't zero, whatever their maps say.
func (s *Survey) TakeWhole(why string) {
	s.whole = true
	for i := range s.Areas {
		a := &s.Areas[i]
		if a.Part == nil || !a.Content.Maps {
			continue
		}
		a.Content.TakeWhole(why)
		a.Content.Used = dataIn(s.Device, a.Span)
		a.ToRead = a.Content.Used
	}
}

// maxHoles bounds how many holes of a sparse image are counted.
const maxHoles = 1 << 17

// dataIn is how many bytes of sp have to be read: less than all only where the
// device knows its holes.
func dataIn(d disk.Device, sp span.Span) int64 {
	sparse, ok := d.(disk.Sparse)
	if !ok {
		return sp.Len()
	}
	var n int64
	off := sp.Start
	for range maxHoles {
		data, err := sparse.NextData(off)
		if errors.Is(err, io.EOF) || err == nil && data.Start >= sp.End {
			return n
		}
		if err != nil {
			break
		}
		n += data.Intersect(sp).Len()
		off = data.End
	}
	return n + max(0, sp.End-off)
}

// dataWithin is how much of a part's used spans has to be read. It counts like
// dataIn; the part begins at byte base.
func dataWithin(d disk.Device, c *fsys.Content, base int64) int64 {
	sparse, ok := d.(disk.Sparse)
	if !ok {
		return c.Used
	}
	var n, left int64 = 0, c.Used
	var data span.Span
	looks := 0
	for sp, err := range c.Spans() {
		if err != nil {
			return c.Used
		}
		sp = sp.Shift(base)
		left -= sp.Len()
		for !sp.Empty() {
			if data.End <= sp.Start {
				next, err := sparse.NextData(sp.Start)
				if errors.Is(err, io.EOF) {
					return n
				}
				if looks++; err != nil || looks > maxHoles {
					return n + sp.Len() + left
				}
				data = next
			}
			hit := data.Intersect(sp)
			n += hit.Len()
			if hit.Empty() {
				break
			}
			sp.Start = hit.End
		}
	}
	return n
}

// roles says what each part is for: its type tells, its contents tell more, and of a disk that starts up the largest
// data part on which a system was found, or the largest one, is taken for the system.
func (s *Survey) roles() {
	starts, may := false, []*Area(nil)
	for i := range s.Areas {
		a := &s.Areas[i]
		if a.Part == nil {
			continue
		}
		a.Role = table.RoleOf(a.Part.Type)
		if s.Whole {
			a.Role = table.RoleData
		}
		if a.Content.Info.Swap {
			a.Role = table.RoleSwap
		}
		if a.Role == table.RoleUnknown && slices.ContainsFunc(a.Inner(), func(x fsys.Inner) bool {
			return x.Content.Volume != nil
		}) {
			a.Role = table.RoleData
		}
		starts = starts || a.Role == table.RoleStartup || a.Part.Active
		// A volume group or what is encrypted may be the system as well.
		if a.Role == table.RoleData ||
			a.Role == table.RoleUnknown && (a.Content.Info.Opaque != "" || len(a.Inner()) > 0) {
			may = append(may, a)
		}
	}
	if !starts || len(may) == 0 {
		return
	}
	if len(may) > 1 {
		if found := slices.DeleteFunc(slices.Clone(may), func(a *Area) bool { return !a.hasSystem() }); len(found) > 0 {
			may = found
		}
	}
	system := slices.MaxFunc(may, func(a, b *Area) int { return cmp.Compare(a.Span.Len(), b.Span.Len()) })
	system.Role = table.RoleSystem
}

// marksOfSystems are what the systems of Windows, Linux and Macs can't be without.
var marksOfSystems = []string{"Windows/System32/config/SYSTEM", "etc/fstab", "etc/passwd",
	"System/Library/CoreServices/SystemVersion.plist"}

// hasSystem says whether an area holds the files of a system, as far as they can be read.
func (a *Area) hasSystem() bool {
	for _, h := range fsys.Homes(a.Content.Volume, 0) {
		tree, err := fsys.TreeOf(h.Volume)
		if err != nil {
			continue
		}
		for _, name := range marksOfSystems {
			if _, err := fsys.Find(tree, name); err == nil {
				return true
			}
		}
	}
	return false
}

// Section reads an area of the device.
func (a *Area) Section() *io.SectionReader { return a.r }

// Number is the part's number; 0 between parts.
func (a *Area) Number() int {
	if a.Part == nil {
		return 0
	}
	return a.Part.Number
}

// Title names the area for people.
func (a *Area) Title() string {
	switch {
	case a.Part == nil:
		return "between the parts"
	case a.Content.Info.Label != "":
		return a.Content.Info.Label
	case a.Part.Name != "":
		return a.Part.Name
	case a.Content.Info.Known():
		return a.Content.Info.Kind
	}
	return table.TypeName(a.Part.Type)
}

// Holds says in a few words what is on the area.
func (a *Area) Holds() string {
	switch {
	case a.Content.Info.Known():
		return a.Content.Info.Kind
	case a.Part == nil:
		return "no part"
	case a.Part.Type == "":
		return "unknown contents"
	}
	return table.TypeName(a.Part.Type)
}

// Used is the number of bytes in all areas that a capture reads.
func (s *Survey) Used() int64 {
	n := int64(0)
	for _, a := range s.Areas {
		n += a.Content.Used
	}
	return n
}

// Parts are the areas that are parts.
func (s *Survey) Parts() []Area {
	return slices.DeleteFunc(slices.Clone(s.Areas), func(a Area) bool { return a.Part == nil })
}

// Warnings are the reasons why a capture now may not be a quiet one, in words.
func (s *Survey) Warnings() []string {
	var out []string
	for _, a := range s.Parts() {
		if why := a.Content.Info.Unclean; why != "" && a.Content.Cut() == nil {
			read := "all of it is read"
			if a.Content.Maps {
				read = "all of that volume is read"
			}
			out = append(out, fmt.Sprintf("part %d (%s): %s; %s, and the twin says so for ever", a.Part.Number,
				a.Title(), why, read))
		}
	}
	return out
}
