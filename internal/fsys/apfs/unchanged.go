package apfs

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"slices"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

var _ fsys.Unchanging = (*Container)(nil)

// Caveat is empty: objects of the file system are never written over (Objects), and each write to a file's data
// raises a counter in the file's record (File-System Objects, write_generation_counter), whether the data lie
// elsewhere then or not.
func (c *Container) Caveat() string { return "" }

// mostHeld bounds the extents and the files that are remembered while a volume is compared; what is beyond that isn't
// proven.
const mostHeld = 1 << 23

// comparison is what two dates of a volume have in common.
type comparison struct {
	ctx      context.Context
	now, was *volume
	// same are the blocks whose objects are what they were.
	same map[int64]bool
	// files are the numbers of contents whose files' records are what they were, extents those that are.
	files   []uint64
	extents []heldExtent
	spans   []span.Span
}

type heldExtent struct {
	contents uint64
	blocks   extent
}

// Unchanged yields the blocks of a volume's objects that have the number, the transaction and the place that they had
// on before; the extents of snapshots that both dates have, which nothing overwrites; and those of files whose record
// and extents are the same but for the time of the last access. Nothing is said of what a system swaps to, and of
// files in sealed volumes.
func (c *Container) Unchanged(ctx context.Context, before fsys.Volume, proven func(span.Span) error) error {
	old, ok := before.(*Container)
	if !ok || old.info.ID != c.info.ID || old.unit != c.unit || old.xid > c.xid {
		return nil // not the same container: nothing is proven
	}
	var all []span.Span
	for _, v := range c.volumes {
		i := slices.IndexFunc(old.volumes, func(o *volume) bool { return o.uuid() == v.uuid() })
		if i < 0 {
			continue
		}
		x := &comparison{ctx: ctx, now: v, was: old.volumes[i], same: map[int64]bool{}}
		for _, step := range []func() error{x.objects, x.snapshots, x.contents} {
			if err := step(); err != nil {
				return err
			}
		}
		all = append(all, x.spans...)
	}
	for sp := range span.Of(all...).All() {
		if err := proven(sp); err != nil {
			return err
		}
	}
	return nil
}

// prove enters blocks, where both dates have them.
func (x *comparison) prove(e extent) {
	if x.now.c.within(e) && x.was.c.within(e) {
		x.spans = append(x.spans, x.now.c.span(e))
	}
}

// objects proves those that have the same number, transaction and place in both maps.
func (x *comparison) objects() error {
	le := binary.LittleEndian
	was := map[[2]uint64]place{}
	each := func(o *objects, do func(id [2]uint64, p place)) error {
		t := *o.tree
		t.visited = func(int64) error { return x.ctx.Err() }
		return t.all(func(key, value []byte) error {
			if len(key) >= mapKeyLen && len(value) >= mapValueLen {
				do([2]uint64{le.Uint64(key), le.Uint64(key[8:])}, place{o.c.address(le.Uint64(value[mapAddress:])),
					le.Uint32(value[mapFlags:])})
			}
			return nil
		})
	}
	if err := each(x.was.objects, func(id [2]uint64, p place) {
		if len(was) < mostHeld {
			was[id] = p
		}
	}); err != nil {
		return err
	}
	return each(x.now.objects, func(id [2]uint64, p place) {
		if old, there := was[id]; there && old == p && p.flags&mapIsDeleted == 0 && id[1] <= x.was.c.xid {
			x.same[p.at] = true
			x.prove(extent{p.at, 1})
		}
	})
}

// snapshots proves what those have that both dates have: it stays as long as they do.
func (x *comparison) snapshots() error {
	le := binary.LittleEndian
	for _, s := range x.now.snapshots {
		if !slices.ContainsFunc(x.was.snapshots, func(o snapshot) bool {
			return o.xid == s.xid && o.extents == s.extents && o.super == s.super
		}) || s.extents == 0 {
			continue
		}
		x.prove(extent{s.super, 1})
		t := &btree{c: x.now.c, root: s.extents, visited: func(int64) error { return x.ctx.Err() }}
		if err := t.all(func(key, value []byte) error {
			if head := le.Uint64(key); head>>keyKind == recExtent && len(value) >= 8 {
				x.prove(extent{x.now.c.address(head & keyIDMask), int64(le.Uint64(value) & extentLenMask)})
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// swapped is the role of a volume that a system swaps to.
const swapped = 8

// contents proves the extents of files whose records are the same.
func (x *comparison) contents() error {
	if binary.LittleEndian.Uint16(x.now.super[volRole:])&swapped != 0 || x.now.sealed || x.was.sealed {
		return nil
	}
	t, err := x.now.files()
	var locked *fsys.Unreadable
	if errors.As(err, &locked) {
		return nil
	} else if err != nil {
		return err
	}
	if _, err := x.was.files(); err != nil {
		return nil // it wasn't readable then
	}
	leaf := int64(0)
	t.visited = func(at int64) error {
		leaf = at
		return x.ctx.Err()
	}
	if err := t.all(func(key, value []byte) error { return x.record(key, value, x.same[leaf]) }); err != nil {
		return err
	}
	slices.Sort(x.files)
	for _, e := range x.extents {
		if _, is := slices.BinarySearch(x.files, e.contents); is {
			x.prove(e.blocks)
		}
	}
	return nil
}

// record looks at a record of a file; same says that it lies in an object that is what it was.
func (x *comparison) record(key, value []byte, same bool) error {
	le := binary.LittleEndian
	head := le.Uint64(key)
	id, kind := head&keyIDMask, head>>keyKind
	if kind != recInode && kind != recFile || kind == recFile && len(key) < fileAt+8 {
		return nil
	}
	if !same {
		was, err := x.old(key)
		if err != nil || was == nil || !sameRecord(kind, value, was) {
			return err
		}
	}
	switch {
	case kind == recInode && len(value) >= inoLen && len(x.files) < mostHeld:
		x.files = append(x.files, le.Uint64(value[inoPrivate:]))
	case kind == recFile && len(value) >= filePhysical+8 && len(x.extents) < mostHeld:
		at, n := x.now.c.address(le.Uint64(value[filePhysical:])), int64(le.Uint64(value)&fileLenMask)
		if at != 0 {
			x.extents = append(x.extents, heldExtent{id, extent{at, (n + x.now.c.unit - 1) / x.now.c.unit}})
		}
	}
	return nil
}

// old is the value that a record of a file had; nil where there was none.
func (x *comparison) old(key []byte) (found []byte, err error) {
	t, err := x.was.files()
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	compare := func(k []byte) int {
		a, b := le.Uint64(k), le.Uint64(key)
		c := cmp.Or(cmp.Compare(a&keyIDMask, b&keyIDMask), cmp.Compare(a>>keyKind, b>>keyKind))
		if c == 0 && len(k) >= fileAt+8 && len(key) >= fileAt+8 {
			c = cmp.Compare(le.Uint64(k[fileAt:]), le.Uint64(key[fileAt:]))
		}
		return c
	}
	err = t.seek(compare, func(k, value []byte) (bool, error) {
		if bytes.Equal(k, key) {
			found = value
		}
		return false, nil
	})
	return found, err
}

// sameRecord says whether two records are the same but for the time of the last access.
func sameRecord(kind uint64, a, b []byte) bool {
	if kind != recInode || len(a) < inoLen || len(b) < inoLen {
		return bytes.Equal(a, b)
	}
	return bytes.Equal(a[:inoRead], b[:inoRead]) && bytes.Equal(a[inoRead+8:], b[inoRead+8:])
}
