package names

import (
	"context"
	"iter"
	"slices"
	"strings"
)

// Way is how an item differs between two dates.
type Way byte

// The ways.
const (
	Added Way = iota
	Removed
	Changed
	Moved
)

func (w Way) String() string { return [...]string{"new", "gone", "changed", "moved"}[w] }

// Difference is an item that isn't the same in two indexes.
type Difference struct {
	Way  Way
	Path string // now; of one that is gone, before
	From string // before, of one that moved
	Old  Entry
	New  Entry
	// Below is how many items moved along with a folder.
	Below int
	// Unsure says that the size is the same and only the time or identity differs: the contents may be equal.
	Unsure bool
}

// Compare gives the differences between two indexes of a volume below a folder ("" for all), by path as the index has
// them. What chunks have in common isn't looked at. An item that has another path and the same identity counts as
// moved; a file must have the same size and time too, since identities are used again.
func Compare(ctx context.Context, old, now *Index, folder string) ([]Difference, error) {
	var out []Difference
	c := &comparison{a: cursor{x: old}, b: cursor{x: now}}
	for {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		d, more, err := c.next(ctx)
		if err != nil {
			return nil, err
		}
		if !more {
			break
		}
		if below(d.Path, folder) {
			out = append(out, d)
		}
	}
	return moved(out), nil
}

func below(path, folder string) bool {
	return folder == "" || folder == "." || strings.HasPrefix(path, folder+"/")
}

// cursor walks an index entry by entry, or chunk by chunk.
type cursor struct {
	x     *Index
	chunk int
	held  []Entry // of the chunk before, not yet looked at
}

// fill makes sure that there is an entry unless the end is reached.
func (c *cursor) fill(ctx context.Context) error {
	for len(c.held) == 0 && c.chunk < len(c.x.chunks) {
		for e, err := range iterate(ctx, c.x, c.chunk) {
			if err != nil {
				return err
			}
			c.held = append(c.held, e)
		}
		c.chunk++
	}
	return nil
}

func iterate(ctx context.Context, x *Index, i int) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) { x.in(ctx, i, yield) }
}

type comparison struct{ a, b cursor }

// skip passes chunks that are the same on both sides.
func (c *comparison) skip() {
	for len(c.a.held) == 0 && len(c.b.held) == 0 && c.a.chunk < len(c.a.x.chunks) && c.b.chunk < len(c.b.x.chunks) &&
		c.a.x.chunks[c.a.chunk] == c.b.x.chunks[c.b.chunk] {
		c.a.chunk++
		c.b.chunk++
	}
}

// next gives the next difference; more is false at the end.
func (c *comparison) next(ctx context.Context) (d Difference, more bool, err error) {
	for {
		c.skip()
		if err := c.a.fill(ctx); err != nil {
			return d, false, err
		}
		if err := c.b.fill(ctx); err != nil {
			return d, false, err
		}
		a, b := c.a.held, c.b.held
		order := 0
		switch {
		case len(a) == 0 && len(b) == 0:
			return d, false, nil
		case len(a) == 0:
			order = 1
		case len(b) == 0:
			order = -1
		default:
			order = compare(a[0].Path, b[0].Path)
		}
		if order < 0 {
			c.a.held = a[1:]
			return Difference{Way: Removed, Path: a[0].Path, Old: a[0]}, true, nil
		}
		if order > 0 {
			c.b.held = b[1:]
			return Difference{Way: Added, Path: b[0].Path, New: b[0]}, true, nil
		}
		c.a.held, c.b.held = a[1:], b[1:]
		if !a[0].Same(b[0]) {
			return Difference{Way: Changed, Path: b[0].Path, Old: a[0], New: b[0], Unsure: a[0].Kind == b[0].Kind &&
				a[0].Size == b[0].Size}, true, nil
		}
	}
}

// moved joins what went with what came where their identities tell, and folds what moved along with a folder into it.
func moved(all []Difference) []Difference {
	gone := map[uint64]int{}
	for i, d := range all {
		if d.Way == Removed && d.Old.ID != 0 {
			gone[d.Old.ID] = i
		}
	}
	from := map[int]int{} // of what came: the number of what went
	went := map[int]bool{}
	for i, d := range all {
		if d.Way != Added || d.New.ID == 0 {
			continue
		}
		if j, ok := gone[d.New.ID]; ok && !went[j] && all[j].Old.Kind == d.New.Kind &&
			(d.New.Kind == Folder || all[j].Old.Same(d.New)) {
			from[i] = j
			went[j] = true
		}
	}
	var out []Difference
	folders := map[string]int{} // folders that moved, by their path now, and their number in out
	for i, d := range all {
		j, ok := from[i]
		switch {
		case ok:
			if n, along := carried(folders, out, d.Path, all[j].Path); along {
				out[n].Below++
				continue
			}
			if d.New.Kind == Folder {
				folders[d.Path] = len(out)
			}
			out = append(out, Difference{Way: Moved, Path: d.Path, From: all[j].Path, Old: all[j].Old, New: d.New})
		case !went[i]:
			out = append(out, d)
		}
	}
	slices.SortStableFunc(out, func(a, b Difference) int { return compare(a.Path, b.Path) })
	return out
}

// carried says whether an item moved only because a folder above it did, and which.
func carried(folders map[string]int, out []Difference, path, was string) (int, bool) {
	for dir, _ := split(path); dir != ""; dir, _ = split(dir) {
		if n, ok := folders[dir]; ok && was == out[n].From+strings.TrimPrefix(path, dir) {
			return n, true
		}
	}
	return 0, false
}
