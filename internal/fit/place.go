package fit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/signature"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// maker is a plan while it is made.
type maker struct {
	ctx     context.Context // of the one call that makes the plan
	source  disk.Device
	wish    Wish
	t       *table.Table
	plan    *Plan
	volumes []fsys.Volume // of the parts; nil where none is known
	// movable says that the table can be understood well enough to put parts elsewhere.
	movable bool
	// bound says why every part has to stay where it is, whatever the table allows; empty when nothing says so.
	bound string
	// leasts are the least sizes of parts that were looked at; forced is by how much parts have to shrink for the
	// target.
	leasts map[int]least
	forced map[int]int64
	// sound are the parts whose accounts were found to agree, by number.
	sound map[int]bool
}

// least is how small a part can be, in bytes, and why not smaller.
type least struct {
	size int64
	why  string
}

// parts looks at what there is. A disk without a table, all of it one file system, is one part.
func (m *maker) parts() error {
	p, size := m.plan, m.source.Size()
	parts := slices.Clone(m.t.Parts)
	slices.SortFunc(parts, func(a, b table.Part) int { return cmp.Compare(a.Span.Start, b.Span.Start) })
	m.bound = boundWhy(m.source, m.t, parts)
	m.movable = m.t.Kind != table.None && m.t.Sound(size) && len(parts) > 0 && m.t.Worst() != table.Damage &&
		m.bound == ""
	if m.t.Kind == table.None {
		if v, _ := families.Identify(m.source, size, m.source.SectorSize()); v != nil {
			parts = []table.Part{{Number: 1, Span: span.Span{End: size}}}
			m.movable = true
		}
	}
	for _, part := range parts {
		x := Placed{Part: part, From: part.Span}
		var v fsys.Volume
		if part.Span.End <= size {
			v, _ = families.Identify(disk.Section(m.source, part.Span.Start, part.Span.Len()), part.Span.Len(),
				m.source.SectorSize())
		}
		if v != nil {
			x.Kind, x.ID, x.Volume = v.Info().Kind, v.Info().ID, v.Info().Size
			x.Becomes = x.Volume
		}
		x.Fixed = fixed(part, v)
		if m.bound != "" {
			x.Fixed = m.bound
		}
		m.volumes = append(m.volumes, v)
		p.Parts = append(p.Parts, x)
	}
	for n := range m.wish.Parts {
		if !slices.ContainsFunc(p.Parts, func(x Placed) bool { return x.Part.Number == n }) {
			return fmt.Errorf("there is no part %d", n)
		}
	}
	_, behind := m.t.Reserve()
	p.Least = size
	if m.movable && m.t.Kind != table.None {
		p.Least = p.Parts[len(p.Parts)-1].From.End + behind
	}
	return nil
}

// boundWhy says what keeps all parts of a disk in their places.
func boundWhy(d disk.Device, t *table.Table, parts []table.Part) string {
	switch {
	case t.Hybrid():
		return "an MBR with parts of its own stands beside the GPT, which couldn't follow"
	case slices.ContainsFunc(parts, func(p table.Part) bool { return table.Dynamic(p.Type) }):
		return "it belongs to a dynamic disk, whose database at the end of the disk names the places of everything"
	case t.Kind != table.None && signature.Disc(d, d.Size()):
		return "an image of a disc (ISO 9660) lies over the whole disk"
	case t.Worst() == table.Damage:
		i := slices.IndexFunc(t.Findings, func(f table.Finding) bool { return f.Severity == table.Damage })
		return "its table is damaged: " + t.Findings[i].Text
	}
	return ""
}

// fixed says why a part can't grow.
func fixed(part table.Part, v fsys.Volume) string {
	if v == nil {
		return "its contents aren't known"
	}
	if of := table.PartOf(part.Type); of != "" {
		return "it is part of " + of
	}
	if why := v.Info().Opaque; why != "" {
		return why
	}
	if why := v.Info().Unclean; why != "" {
		return why
	}
	if _, ok := v.(fsys.Resizer); !ok {
		return v.Info().Kind + " isn't made larger here"
	}
	return ""
}

// main is the part that takes the room when nothing else is wished: the one that holds most, if it can grow. Where it
// can't no smaller one is blown up instead.
func (m *maker) main() int {
	best := m.plan.largest(m.leaves)
	if best < 0 || m.plan.Parts[best].Fixed != "" {
		return -1
	}
	return best
}

func (m *maker) leaves(x Placed) bool { return m.wish.Parts[x.Part.Number].Leave }

// place fills in where the parts go, and what becomes of their volumes. again says that a part turned out not to
// grow, and that the plan has to be made anew without it.
func (m *maker) place() (changes []*fsys.Change, again bool, err error) {
	p := m.plan
	if p.Notes = nil; m.wish.Places != nil {
		for i := range p.Parts {
			p.Parts[i].To = m.wish.Places[p.Parts[i].Part.Number]
		}
	} else if err := m.distribute(); err != nil {
		return nil, false, err
	}
	for i := range p.Parts {
		x := &p.Parts[i]
		x.Becomes = x.Volume
		if x.To.Empty() || x.To == x.From {
			changes = append(changes, nil)
			continue
		}
		if x.Grown() > 0 || x.Shrunk() > 0 {
			if doubtful, err := m.doubt(i); doubtful || err != nil {
				return nil, doubtful, err
			}
		}
		c, err := m.change(i)
		if err != nil {
			return nil, false, fmt.Errorf("part %d: %w", x.Part.Number, err)
		}
		if c != nil && x.Shrunk() > 0 {
			x.Becomes = c.Size
		}
		if c != nil && x.Grown() > 0 {
			if c.Size <= x.Volume && m.wish.Places == nil {
				x.Fixed = "it can't become larger"
				if len(c.Notes) > 0 {
					x.Fixed = c.Notes[0]
				}
				return nil, true, nil
			}
			if behind(c.Size, x.To.Len()) && x.most == 0 && m.wish.Places == nil &&
				m.wish.Parts[x.Part.Number].Size == 0 {
				x.most = (c.Size + step - 1) / step * step
				return nil, true, nil
			}
			x.Becomes = c.Size
		}
		changes = append(changes, c)
	}
	return changes, false, nil
}

// behind says whether a file system falls so far short of its part that the rest would be of no use to anybody.
func behind(volume, part int64) bool { return part-volume > max(16*units.MiB, part/16) }

// doubt looks whether the accounts of a volume whose size is to change agree, once; the part of one that contradicts
// itself is fixed.
func (m *maker) doubt(i int) (bool, error) {
	x := &m.plan.Parts[i]
	if m.volumes[i] == nil || x.Fixed != "" || m.sound[x.Part.Number] || m.wish.Places != nil {
		return false, nil
	}
	why, known := "", false
	if e, ok := m.source.(Examined); ok {
		why, known = e.Examined(x.Part.Number)
	}
	if !known {
		c, err := families.Examine(m.ctx, disk.Section(m.source, x.From.Start, x.From.Len()), x.From.Len(),
			m.source.SectorSize())
		if err != nil {
			return false, err
		}
		why = c.Why
	}
	if x.Fixed = why; why == "" {
		if m.sound == nil {
			m.sound = map[int]bool{}
		}
		m.sound[x.Part.Number] = true
	}
	return why != "", nil
}

// distribute decides the spans. Parts keep their order and their distances; what is behind a part that grows moves.
func (m *maker) distribute() error {
	p := m.plan
	m.forced = nil
	before, behind := m.t.Reserve()
	end := p.Size - behind
	if m.t.Kind == table.MBR {
		end = min(end, int64(m.t.Sector)<<32)
	}
	grow := make([]int64, len(p.Parts)) // bytes
	at, shift := before, int64(0)
	if m.t.Kind == table.None {
		at = 0
	}
	last := int64(0)
	for i := range p.Parts {
		x := &p.Parts[i]
		w := m.wish.Parts[x.Part.Number]
		x.Share = 0
		switch {
		case w.Leave:
			shift -= (x.From.End - max(at, last)) / step * step
			x.To = span.Span{}
			last = x.From.End
			continue
		case w.Least || w.Size > 0 && w.Size < x.From.Len():
			n, err := m.shrunk(i, w)
			if err != nil {
				return err
			}
			grow[i] = n - x.From.Len()
		case (w.Size > x.From.Len() || w.Share > 0) && x.Fixed != "":
			return fmt.Errorf("part %d can't grow: %s", x.Part.Number, x.Fixed)
		case w.Size > 0:
			grow[i] = (w.Size - x.From.Len() + step - 1) / step * step
		case w.Share > 0:
			x.Share = w.Share
		}
		x.To = x.From.Shift(shift)
		last = x.From.End
		shift += grow[i]
	}
	lastEnd := int64(0)
	for i, x := range p.Parts {
		lastEnd = max(lastEnd, x.To.End+grow[i])
	}
	room := end - lastEnd
	if room < 0 {
		more, err := m.shrinkFor(grow, -room, lastEnd+behind)
		if err != nil {
			return err
		}
		room += more
	}
	p.Room = max(0, room)
	if m.forced == nil {
		m.share(grow, room)
	}
	shift = 0
	for i := range p.Parts {
		if x := &p.Parts[i]; !x.To.Empty() {
			x.To.Start += shift
			if x.Share > 0 || m.forced[i] != 0 {
				shift += grow[i]
			}
			x.To.End = x.To.Start + x.From.Len() + grow[i]
		}
	}
	return nil
}

// least is how small a part can become, in bytes, as a multiple of step less than what it has; and why it can't be
// smaller.
func (m *maker) least(i int) (int64, string, error) {
	if _, err := m.doubt(i); err != nil {
		return 0, "", err
	}
	x := m.plan.Parts[i]
	s, ok := m.volumes[i].(fsys.Shrinker)
	if !ok || x.Fixed != "" {
		why := x.Fixed
		if why == "" {
			why = x.Kind + " isn't made smaller here"
		}
		return x.From.Len(), why, nil
	}
	if m.leasts == nil {
		m.leasts = map[int]least{}
	}
	l, known := m.leasts[i]
	if !known {
		n, why, err := s.Least()
		if err != nil {
			return 0, "", fmt.Errorf("part %d: %w", x.Part.Number, err)
		}
		l = least{x.From.Len() - max(0, x.From.Len()-n)/step*step, why}
		m.leasts[i] = l
	}
	return l.size, l.why, nil
}

// shrunk is the size that a part gets that shall become smaller.
func (m *maker) shrunk(i int, w PartWish) (int64, error) {
	x := m.plan.Parts[i]
	n, why, err := m.least(i)
	if err != nil {
		return 0, err
	}
	switch {
	case w.Least:
		return n, nil
	case w.Size < n:
		return 0, fmt.Errorf("part %d can't be smaller than %s: %s", x.Part.Number, units.Exact(n), why)
	}
	return x.From.Len() - (x.From.Len()-w.Size)/step*step, nil
}

// shrinkFor makes parts smaller until the source fits, those that give most first, and says how much that is. need is
// the size of a target that would do without.
func (m *maker) shrinkFor(grow []int64, missing, need int64) (int64, error) {
	p := m.plan
	tooSmall := &TooSmall{Need: need, Have: p.Size}
	if m.wish.Keep && len(m.wish.Parts) == 0 {
		return 0, tooSmall
	}
	type gain struct {
		i int
		n int64
	}
	var gains []gain
	all := int64(0)
	for i, x := range p.Parts {
		if w := m.wish.Parts[x.Part.Number]; m.leaves(x) || w.Size > 0 || w.Least || w.Share > 0 {
			continue
		}
		n, _, err := m.least(i)
		if err != nil {
			return 0, err
		}
		if n < x.From.Len() {
			gains = append(gains, gain{i, x.From.Len() - n})
			all += x.From.Len() - n
		}
	}
	if all < missing {
		tooSmall.Need -= all
		return 0, tooSmall
	}
	slices.SortStableFunc(gains, func(a, b gain) int { return cmp.Compare(b.n, a.n) })
	got := int64(0)
	m.forced = map[int]int64{}
	for _, g := range gains {
		if got >= missing {
			break
		}
		n := min(g.n, (missing-got+step-1)/step*step)
		grow[g.i] -= n
		m.forced[g.i] = n
		got += n
	}
	p.Smallest = need - all
	return got, nil
}

// share hands the room out among the parts that want a share of it.
func (m *maker) share(grow []int64, room int64) {
	p := m.plan
	total := 0
	for _, x := range p.Parts {
		total += x.Share
	}
	if total == 0 && !m.wish.Keep && m.wish.Fill == "" && !m.anySize() {
		if i := m.main(); i >= 0 {
			p.Parts[i].Share, total = 1, 1
		}
	}
	if total == 0 {
		return
	}
	unit := int64(step)
	if len(p.Parts) == 1 && m.t.Kind == table.None {
		unit = int64(m.t.Sector)
	}
	left := room / unit * unit
	for i := len(p.Parts) - 1; i >= 0; i-- {
		x := &p.Parts[i]
		if x.Share == 0 {
			continue
		}
		n := left / int64(total) * int64(x.Share) / unit * unit
		if x.Share == total { // the last one takes what is left
			n = left
		}
		if x.most > 0 {
			n = min(n, max(0, x.most-x.From.Len())/unit*unit)
		}
		grow[i], left, total = n, left-n, total-x.Share
	}
}

// anySize says whether some part was given a size: then none takes the room unasked.
func (m *maker) anySize() bool {
	for _, w := range m.wish.Parts {
		if w.Size > 0 || w.Least {
			return true
		}
	}
	return false
}

// change asks the volume of part i what becomes of it at its new place; nil when its structures don't depend on it.
func (m *maker) change(i int) (*fsys.Change, error) {
	x := m.plan.Parts[i]
	placer, ok := m.volumes[i].(fsys.Resizer)
	if !ok && x.Shrunk() > 0 {
		return nil, errors.New("what it holds isn't made smaller here")
	}
	if !ok {
		return nil, nil
	}
	place := fsys.Bounds{Was: x.From.Start, Start: x.To.Start, Sector: m.source.SectorSize()}
	if x.Grown() > 0 && x.Fixed == "" || x.Shrunk() > 0 && x.Volume > x.To.Len() {
		place.Size = x.To.Len()
	}
	if _, can := m.volumes[i].(fsys.Shrinker); x.Shrunk() > 0 && x.Volume > x.To.Len() && !can {
		return nil, fmt.Errorf("its %s isn't made smaller here", x.Kind)
	}
	c, err := placer.Resize(place)
	if err != nil {
		return nil, err
	}
	for _, q := range c.Patches {
		if q.Off < 0 || q.Span().End > x.To.Len() {
			return nil, errors.New("its new structures would reach beyond it; nothing was planned")
		}
	}
	for _, q := range c.Moves {
		if q.From.Start < 0 || q.From.End > x.From.Len() || q.To < 0 || q.Target().End > x.To.Len() {
			return nil, errors.New("its contents would reach beyond it; nothing was planned")
		}
	}
	return c, nil
}

// compose turns the places into moves and patches.
func (m *maker) compose(changes []*fsys.Change) error {
	p := m.plan
	places := map[int]span.Span{}
	last := int64(0) // end of the part before, on the source
	end := int64(0)  // and on the target
	for i, x := range p.Parts {
		gap := span.Span{Start: last, End: x.From.Start}
		last = max(last, x.From.End)
		if i == 0 && !gap.Empty() { // boot code, and what starts from behind it
			gap.End = min(gap.End, m.firstTo())
			p.Moves = append(p.Moves, disk.Move{From: gap, To: 0})
			end, gap = gap.End, span.Span{}
		}
		if x.To.Empty() {
			p.Notes = append(p.Notes, fmt.Sprintf("part %d is left out", x.Part.Number))
			if x.Part.Logical {
				p.Notes = append(p.Notes, "logical parts behind it get other numbers")
			}
			continue
		}
		if to := x.To.Start - gap.Len(); !gap.Empty() && to >= end {
			p.Moves = append(p.Moves, disk.Move{From: gap, To: to})
		}
		places[x.Part.Number] = x.To
		end = x.To.End
		c := changes[i]
		if c == nil || len(c.Moves) == 0 {
			from := x.From
			from.End = min(from.End, from.Start+x.To.Len())
			p.Moves = append(p.Moves, disk.Move{From: from, To: x.To.Start})
		}
		if c != nil {
			for _, q := range c.Moves {
				p.Moves = append(p.Moves, disk.Move{From: q.From.Shift(x.From.Start), To: x.To.Start + q.To})
			}
			for _, q := range c.Patches {
				q.Off += x.To.Start
				p.Patches = append(p.Patches, q)
			}
			for _, n := range c.Notes {
				p.Notes = append(p.Notes, fmt.Sprintf("part %d: %s", x.Part.Number, n))
			}
		}
		p.note(x)
	}
	patches, err := m.t.Place(m.source, places, p.Size)
	if err != nil {
		return err
	}
	p.Patches = append(p.Patches, patches...)
	p.leftover(m.source.Size())
	p.clearEnd(end)
	return nil
}

// firstTo is where the first part of the target begins.
func (m *maker) firstTo() int64 {
	for _, x := range m.plan.Parts {
		if !x.To.Empty() {
			return x.To.Start
		}
	}
	return m.plan.Size
}

func (p *Plan) note(x Placed) {
	n := x.Part.Number
	if x.Grown() > 0 && x.Becomes > x.Volume && behind(x.Becomes, x.To.Len()) {
		p.Notes = append(p.Notes,
			fmt.Sprintf("part %d grows from %s to %s, and its %s to %s only: the rest of it can't be used", n,
				units.Bytes(x.From.Len()), units.Bytes(x.To.Len()), x.Kind, units.Bytes(x.Becomes)))
	} else if x.Grown() > 0 && x.Becomes > x.Volume {
		p.Notes = append(p.Notes,
			fmt.Sprintf("part %d grows from %s to %s, and its %s with it", n, units.Bytes(x.From.Len()),
				units.Bytes(x.To.Len()), x.Kind))
	}
	if x.Shrunk() > 0 {
		p.Notes = append(p.Notes,
			fmt.Sprintf("part %d shrinks from %s to %s, and its %s with it", n, units.Bytes(x.From.Len()),
				units.Bytes(x.To.Len()), x.Kind))
	}
	if x.Moved() && x.Kind == "" && table.RoleOf(x.Part.Type) != table.RoleReserved {
		p.Notes = append(p.Notes,
			fmt.Sprintf("part %d is moved as it is: what it holds isn't known, and if it names its place on the "+
				"disk it "+
				"will have to be told", n))
	}
	if x.Moved() {
		p.Notes = append(p.Notes, fmt.Sprintf("part %d begins %s further on", n, units.Bytes(x.To.Start-x.From.Start)))
		if x.To.Start < x.From.Start {
			p.Notes[len(p.Notes)-1] = fmt.Sprintf("part %d begins %s earlier", n, units.Bytes(x.From.Start-x.To.Start))
		}
	}
}
