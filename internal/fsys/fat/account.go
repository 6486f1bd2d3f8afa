package fat

import (
	"context"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// accountWindow is how many table entries are read at once while all chains are followed.
const accountWindow = 1 << 16

var _ fsys.Accountable = (*Volume)(nil)

// Grid is the clusters of the data area.
func (v *Volume) Grid() fsys.Grid { return fsys.Grid{Start: v.dataAt, Unit: v.cluster, Count: v.count} }

// Account follows the chains of all folders and files. Every cluster belongs to one chain, so folders can't lie in a
// circle.
func (v *Volume) Account(ctx context.Context, l *fsys.Ledger) error {
	t := &links{v: v, step: accountWindow}
	root := entry{attr: attrDir}
	if v.bits == 32 {
		if err := v.own(l, t, entry{attr: attrDir, first: int64(v.rootClus), at: v.dataAt}); err != nil {
			return err
		}
	}
	folders := []entry{root}
	for len(folders) > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		f := folders[len(folders)-1]
		folders = folders[:len(folders)-1]
		entries, err := v.readDir(f)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if err := v.own(l, t, e); err != nil {
				return err
			}
			if e.attr&attrDir != 0 {
				folders = append(folders, e)
			}
		}
	}
	return nil
}

// own enters the clusters of a file or folder.
func (v *Volume) own(l *fsys.Ledger, t *links, e entry) error {
	if e.first == 0 {
		if e.size > 0 || e.attr&attrDir != 0 {
			return fsys.Contradiction(e.at, "%s has no cluster", e.name)
		}
		return nil
	}
	runs, err := t.chain(e.first)
	if err != nil {
		return err
	}
	has := int64(0)
	for _, r := range runs {
		has += r.Len()
		if err := l.Own(r, fsys.Owner{Kind: "the folder entry at byte", Number: e.at}); err != nil {
			return err
		}
	}
	if has < e.size {
		return fsys.Contradiction(e.at, "the clusters of %s end after %d of %d bytes", e.name, has, e.size)
	}
	return nil
}

// links reads the allocation table, a stretch of it at a time.
type links struct {
	v      *Volume
	step   int64    // entries read at once
	base   int64    // cluster of the first of
	window []uint32 // what was read last
}

// next is the table's entry of cluster c.
func (t *links) next(c int64) (uint32, error) {
	if c < t.base || c >= t.base+int64(len(t.window)) {
		window, err := t.v.entries(t.v.active, c, min(c+t.step, t.v.count+2))
		if err != nil {
			return 0, err
		}
		t.base, t.window = c, window
	}
	return t.window[c-t.base], nil
}

// chain follows the clusters from first on and gives their bytes as runs. It ends with an error where the table is in a
// circle or points to nowhere.
func (t *links) chain(first int64) ([]span.Span, error) {
	v := t.v
	var out []span.Span
	end := uint32(1)<<min(v.bits, 28) - 8
	for n, c := int64(0), first; ; n++ {
		if c < 2 || c >= v.count+2 {
			return out, fsys.Contradiction(v.fatAt, "a file goes on at cluster %d of %d", c, v.count)
		}
		if n > v.count {
			return out, fsys.Contradiction(v.fatAt, "the clusters of a file form a circle from cluster %d on", first)
		}
		sp := span.At(v.dataAt+(c-2)*v.cluster, v.cluster)
		if k := len(out); k > 0 && out[k-1].End == sp.Start {
			out[k-1].End = sp.End
		} else {
			out = append(out, sp)
		}
		e, err := t.next(c)
		switch {
		case err != nil:
			return out, err
		case e >= end:
			return out, nil
		case e == end-1:
			return out, fsys.Contradiction(v.fatAt+c*int64(v.bits)/8,
				"cluster %d belongs to a file and is marked as bad", c)
		case e == 0:
			return out, fsys.Contradiction(v.fatAt+c*int64(v.bits)/8,
				"cluster %d belongs to a file and is called free", c)
		}
		c = int64(e)
	}
}
