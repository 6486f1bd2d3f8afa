package ready

import (
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/sizes"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// A purpose fills a draft that can then be edited like any other. It only adds: what it
// is given, a new layout or a change of what is there, decides what goes.

// Purpose is what a disk is made ready for.
type Purpose string

const (
	ForStorage Purpose = "storage"
	ForSharing Purpose = "shared"
	ForSystem  Purpose = "system"
	ForKinds   Purpose = "split"
)

// Purposes are all of them, in the order in which they are usually wanted.
var Purposes = []Purpose{ForStorage, ForSharing, ForSystem, ForKinds}

// Title says in words what a purpose is.
func (p Purpose) Title() string {
	switch p {
	case ForStorage:
		return "storage drive for a shelf"
	case ForSharing:
		return "shared drive for several kinds of systems"
	case ForSystem:
		return "system disk in the shape of a twin"
	}
	return "one part for each kind of file system"
}

// About says what a purpose does to the draft.
func (p Purpose) About() string {
	switch p {
	case ForStorage:
		return "a part sized for the machines you choose, with room for as many dates as you want; the rest stays free"
	case ForSharing:
		return "one part with a file system that all of them read and write, and its limit on the size of files"
	case ForSystem:
		return "empty parts like those of the captured machine; the main one takes what the new disk has more or less"
	}
	return "the room shared out evenly among parts that each suit other systems"
}

// Storage adds a part for a shelf: of need bytes, or of all the room when need is 0.
func (d *Draft) Storage(need int64, label string) error {
	gap := d.Gap()
	if need == 0 {
		need = gap.Len()
	}
	if need > gap.Len() {
		return fmt.Errorf("a shelf for this needs %s and there is room for %s: %s are missing; choose fewer dates "+
			"or machines, or a larger disk", sizes.Words(need), sizes.Words(gap.Len()), units.Bytes(need-gap.Len()))
	}
	return d.addMade(need, need == gap.Len(), UsualHere(), label)
}

// addMade adds a part with a new file system in the largest gap. Nothing stays of it when the file system can't be.
func (d *Draft) addMade(n int64, rest bool, kind, label string) error {
	i, err := d.Add(d.Gap(), n, rest)
	if err != nil {
		return err
	}
	if err := d.SetForm(i, kind, label, 0); err != nil {
		d.Remove(i)
		return err
	}
	if d.Kind == table.GPT {
		d.Parts[i].Name = label
	}
	return nil
}

// Systems are the kinds of systems that a shared drive can be for.
func Systems() []string {
	var out []string
	for _, m := range families.Makers() {
		for _, s := range m.Systems {
			if !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	slices.Sort(out)
	return out
}

// UsualHere is the kind of file system that systems of this kind make by themselves.
func UsualHere() string {
	m, _ := families.All().UsualFor("Linux")
	return m.Kind
}

// preferred are the kinds that a shared drive takes, the best first: without a limit on files, then without one that
// hurts.
func preferred() []fsys.Maker {
	out := slices.DeleteFunc(families.Makers(), func(m fsys.Maker) bool { return m.Shared == 0 })
	slices.SortFunc(out, func(a, b fsys.Maker) int { return a.Shared - b.Shared })
	return out
}

// SharedKind is the file system that all the given kinds of systems write, for a part of n bytes.
func SharedKind(systems []string, n int64, sector int) (fsys.Maker, error) {
	if len(systems) == 0 {
		return fsys.Maker{}, fmt.Errorf("for which systems? Possible are %s", strings.Join(Systems(), ", "))
	}
	for _, s := range systems {
		if !slices.ContainsFunc(Systems(), func(known string) bool { return strings.EqualFold(known, s) }) {
			return fsys.Maker{},
				fmt.Errorf("%q is no kind of system that is known here; choose %s", s, units.Choices(Systems()))
		}
	}
	if m, ok := families.All().UsualFor(systems[0]); ok && len(systems) == 1 {
		return m, nil
	}
	why := ""
	for _, m := range preferred() {
		all := !slices.ContainsFunc(systems, func(s string) bool {
			return !slices.ContainsFunc(m.Systems, func(own string) bool { return strings.EqualFold(own, s) })
		})
		switch {
		case all && n >= m.Min(sector) && n <= m.Max(sector):
			return m, nil
		case all:
			why = fmt.Sprintf(" (%s would, from %s to %s)", m.Kind, units.Bytes(m.Min(sector)),
				units.Bytes(m.Max(sector)))
		}
	}
	return fsys.Maker{},
		fmt.Errorf("no file system of %s is written by all of %s%s", units.Bytes(n), strings.Join(systems, ", "), why)
}

// Shared adds one part that all the given kinds of systems can write.
func (d *Draft) Shared(systems []string, label string) error {
	gap := d.Gap()
	m, err := SharedKind(systems, gap.Len(), d.Identity.Sector)
	if err != nil {
		return err
	}
	if err := d.addMade(gap.Len(), true, m.Kind, label); err != nil {
		return err
	}
	d.Notes = append(d.Notes, fmt.Sprintf("%s is read and written by %s; %s", m.Kind, strings.Join(systems, ", "),
		FileLimit(m)))
	return nil
}

// FileLimit says how large a file may be.
func FileLimit(m fsys.Maker) string {
	if m.FileLimit == 0 {
		return "a file may be as large as the part"
	}
	return "no file may be larger than " + units.Binary(m.FileLimit)
}

// Split shares the largest gap out evenly, one part for each of the kinds of file systems.
func (d *Draft) Split(kinds []string) error {
	if len(kinds) == 0 {
		return fmt.Errorf("for which kinds of file systems?")
	}
	c := d.Clone()
	at := len(c.Parts)
	gap := c.Gap()
	if _, err := c.SplitRest(len(kinds)); err != nil {
		return err
	}
	if len(c.Parts) != at+len(kinds) {
		return fmt.Errorf("%s can't be shared out among %d parts", sizes.Words(gap.Len()), len(kinds))
	}
	k := 0
	for i := range c.Parts {
		if p := &c.Parts[i]; p.Old == nil && gap.Covers(p.Span) {
			if err := c.SetForm(i, kinds[k], "", 0); err != nil {
				return err
			}
			k++
		}
	}
	*d = *c
	return nil
}

// Shape is the layout that a system disk takes from a captured one.
type Shape struct {
	Machine string
	Kind    table.Kind
	Parts   []ShapePart
}

// ShapePart is one part of it.
type ShapePart struct {
	table.Part
	FileSystem, Label string
	Role              table.Role
	Used              int64 // bytes
}

// main is the part that takes what the new disk has more or less: the system's, or the largest.
func (s Shape) main() int {
	best := -1
	better := func(a, b ShapePart) bool {
		if sa, sb := a.Role == table.RoleSystem, b.Role == table.RoleSystem; sa != sb {
			return sa
		}
		return a.Span.Len() > b.Span.Len()
	}
	for i, p := range s.Parts {
		if (p.Role == table.RoleSystem || p.Role == table.RoleData) && (best < 0 || better(p, s.Parts[best])) {
			best = i
		}
	}
	return best
}

// System adds empty parts in the shape of a captured system disk. The draft must have no parts yet.
func (d *Draft) System(s Shape) error {
	if len(d.Parts) > 0 {
		return fmt.Errorf("a system disk is laid out anew, and this disk has %s that would stay",
			units.Plural(len(d.Parts), "part"))
	}
	grows := s.main()
	if grows < 0 {
		return fmt.Errorf("the twin of %s has no part with a system or data that could take the room of the new disk",
			s.Machine)
	}
	c := d.Clone()
	others := int64(0)
	for i, p := range s.Parts {
		if i != grows {
			others += up(p.Span.Len(), d.Align)
		}
		if c.Kind == table.MBR && i >= maxPrimary {
			others += d.Align // its link
		}
	}
	room := down(c.Gap().Len()-others, d.Align)
	if least := s.Parts[grows].Used; room < least {
		return fmt.Errorf("%s is too small for the shape of %s: its other parts take %s and %s of the main one are "+
			"in use, %s are missing", units.Bytes(d.Identity.Size), s.Machine, units.Bytes(others), units.Bytes(least),
			units.Bytes(least-room))
	}
	if m, err := families.MakerOf(s.Parts[grows].FileSystem); err == nil {
		if most := down(m.Max(d.Identity.Sector), d.Align); room > most {
			c.Notes = append(c.Notes,
				fmt.Sprintf("%s reaches up to %s, so %s stay free", m.Kind, units.Bytes(most), units.Bytes(room-most)))
			room = most
		}
	}
	for i, p := range s.Parts {
		n := p.Span.Len()
		if i == grows {
			n = room
		}
		gap := c.Gap()
		at, err := c.Add(gap, min(up(n, d.Align), gap.Len()), i == grows)
		if err != nil {
			return err
		}
		q := &c.Parts[at]
		q.Type, q.Name, q.Attrs, q.Active = p.Type, p.Name, p.Attrs, p.Active
		if p.FileSystem == "" || p.Role == table.RoleSwap {
			continue
		}
		if err := c.SetForm(at, p.FileSystem, p.Label, 0); err != nil {
			c.Notes = append(c.Notes, fmt.Sprintf("part %d stays without a file system: %v", q.Number, err))
		}
		q.Type = p.Type
	}
	c.Notes = append(c.Notes,
		fmt.Sprintf("the parts are empty: a restore of %s brings its own table and contents and doesn't need this",
			s.Machine))
	*d = *c
	return nil
}
