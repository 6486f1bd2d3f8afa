package fit

import (
	"cmp"
	"fmt"
	"slices"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// distribute decides the spans. Parts keep their order and their distances; what is after a part that grows moves.
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
	if total == 0 && !m.wish.Keep && !m.wish.Spare && !m.anySize() {
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
