package apfs

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"

	"twinshelf/internal/fsys"
)

var _ fsys.Accountable = (*Container)(nil)

// Grid is the container's blocks.
func (c *Container) Grid() fsys.Grid { return fsys.Grid{Unit: c.unit, Count: c.blocks} }

// accounting enters what a container's structures name.
type accounting struct {
	c   *Container
	l   *fsys.Ledger
	ctx context.Context
}

// Account enters the space manager with its bitmaps, all object maps with everything that they have ever named and
// still do, the extents of all volumes and snapshots, and those that files themselves name, as far as these can be
// read. Clones and snapshots share extents.
func (c *Container) Account(ctx context.Context, l *fsys.Ledger) error {
	a := accounting{c, l, ctx}
	if err := a.spaceManager(); err != nil {
		return fmt.Errorf("space manager: %w", err)
	}
	if err := a.objects(c.objects, "the container's object map at block"); err != nil {
		return err
	}
	for _, v := range c.volumes {
		if err := a.volume(v); err != nil {
			return fmt.Errorf("volume %q: %w", v.name, err)
		}
	}
	if t, err := a.c.middleTree(); err == nil && t != nil && a.c.ephemeral[a.c.middle()].count == 0 {
		if err := a.nodes(t, nil); err != nil {
			return fmt.Errorf("what the first device keeps of the second: %w", err)
		}
	}
	return a.fixed()
}

func (a accounting) own(at, n int64, kind string) error {
	e := extent{at, n}
	if !a.c.within(e) {
		return fsys.Contradiction(0, "%s %d reaches beyond the container", kind, at)
	}
	return a.l.Own(a.c.span(e), fsys.Owner{Kind: kind, Number: at})
}

func (a accounting) share(at, n int64, o fsys.Owner) error {
	e := extent{at, n}
	if !a.c.within(e) {
		return fsys.Contradiction(0, "what %s names reaches beyond the container", o)
	}
	return a.l.Share(a.c.span(e), o)
}

// spaceManager enters bitmaps; blocks of chunks and of addresses lie among the manager's own, like bitmaps that were
// changed, and aren't entered one by one.
func (a accounting) spaceManager() error {
	s := a.c.space
	if err := a.own(s.pool.first, s.pool.count, "the space manager's own blocks from"); err != nil {
		return err
	}
	if err := a.own(s.bitmaps.first, s.bitmaps.count, "their bitmaps from block"); err != nil {
		return err
	}
	outside := func(at int64) error {
		if at == 0 || at >= s.pool.first && at < s.pool.first+s.pool.count {
			return nil
		}
		return a.own(at, 1, "a bitmap at block")
	}
	for _, at := range append(append([]int64(nil), s.infos...), s.lists...) {
		if err := outside(at); err != nil {
			return err
		}
	}
	for k, err := range a.c.chunks() {
		if err == nil {
			err = outside(k.bitmap)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// objects enters an object map with its tree, and all that it names at any transaction.
func (a accounting) objects(o *objects, kind string) error {
	if err := a.own(o.at, 1, kind); err != nil {
		return err
	}
	if o.snapshots != 0 {
		if err := a.nodes(&btree{c: a.c, root: o.snapshots}, nil); err != nil {
			return fmt.Errorf("snapshots of an object map: %w", err)
		}
	}
	le := binary.LittleEndian
	t := *o.tree
	t.visited = func(at int64) error {
		return errors.Join(a.ctx.Err(), a.own(at, 1, "a node of an object map at block"))
	}
	return t.all(func(key, value []byte) error {
		if len(key) < mapKeyLen || len(value) < mapValueLen {
			return fmt.Errorf("an entry of an object map has %d and %d bytes", len(key), len(value))
		}
		if le.Uint32(value[mapFlags:])&mapIsDeleted != 0 {
			return nil
		}
		n := (int64(le.Uint32(value[4:])) + a.c.unit - 1) / a.c.unit
		at := a.c.address(le.Uint64(value[mapAddress:]))
		return a.share(at, max(1, n), fsys.Owner{Kind: "object", Number: int64(le.Uint64(key) & (1<<62 - 1))})
	})
}

// volume enters a volume with its snapshots.
func (a accounting) volume(v *volume) error {
	if err := a.objects(v.objects, "a volume's object map at block"); err != nil {
		return err
	}
	if err := a.extents(v); err != nil {
		return err
	}
	t, err := v.physical(volSnapshots, v.snapshotsPhysical)
	if err == nil && t != nil {
		err = a.nodes(t, nil)
	}
	if err != nil {
		return err
	}
	for _, s := range v.snapshots {
		if err := a.share(s.super, 1, fsys.Owner{Kind: "snapshot", Number: int64(s.xid)}); err != nil {
			return err
		}
		if s.extents == 0 {
			continue
		}
		if err := a.extentTree(&btree{c: a.c, root: s.extents}); err != nil {
			return fmt.Errorf("snapshot %q: %w", s.name, err)
		}
	}
	return a.fileExtents(v)
}

// extents enters a volume's own extents.
func (a accounting) extents(v *volume) error {
	t, err := v.physical(volExtents, v.extentsPhysical)
	if err != nil || t == nil {
		return err
	}
	return a.extentTree(t)
}

func (a accounting) extentTree(t *btree) error {
	le := binary.LittleEndian
	return a.nodes(t, func(key, value []byte) error {
		head := le.Uint64(key)
		if head>>keyKind != recExtent || len(value) < 8 {
			return fmt.Errorf("a record of kind %d stands among extents", head>>keyKind)
		}
		n := int64(le.Uint64(value) & extentLenMask)
		at := a.c.address(head & keyIDMask)
		return a.share(at, n, fsys.Owner{Kind: "the extent at block", Number: at})
	})
}

// nodes enters the nodes of a tree, and calls each with its records.
func (a accounting) nodes(t *btree, each func(key, value []byte) error) error {
	t.visited = func(at int64) error {
		return errors.Join(a.ctx.Err(), a.share(at, 1, fsys.Owner{Kind: "a node of a tree at block", Number: at}))
	}
	return t.all(func(key, value []byte) error {
		if each == nil {
			return nil
		}
		return each(key, value)
	})
}

// fileExtents enters what files name, where the volume isn't encrypted.
func (a accounting) fileExtents(v *volume) error {
	le := binary.LittleEndian
	name := func(id uint64, value []byte) error {
		if len(value) < filePhysical+8 {
			return fmt.Errorf("an extent of file %d has %d bytes", id, len(value))
		}
		at, n := a.c.address(le.Uint64(value[filePhysical:])), int64(le.Uint64(value)&fileLenMask)
		if at == 0 {
			return nil // a hole
		}
		return a.share(at, (n+a.c.unit-1)/a.c.unit, fsys.Owner{Kind: "file", Number: int64(id)})
	}
	if v.sealed {
		if t := v.sealedExtents(); t != nil {
			return a.nodes(t, func(key, value []byte) error { return name(le.Uint64(key), value) })
		}
	}
	t, err := v.files()
	var locked *fsys.Unreadable
	if errors.As(err, &locked) {
		return nil
	} else if err != nil {
		return err
	}
	t.visited = func(int64) error { return a.ctx.Err() }
	return t.all(func(key, value []byte) error {
		head := le.Uint64(key)
		if head>>keyKind != recFile {
			return nil
		}
		return name(head&keyIDMask, value)
	})
}

// fixed enters what lies where it does: the first block, checkpoints, keys, and what starts a Mac.
func (a accounting) fixed() error {
	c := a.c
	le := binary.LittleEndian
	need := func(e extent, kind string) error {
		if e.count == 0 {
			return nil
		}
		if !c.within(e) {
			return fsys.Contradiction(0, "%s %d reaches beyond the container", kind, e.first)
		}
		return a.l.Need(c.span(e), fsys.Owner{Kind: kind, Number: e.first})
	}
	all := map[string]extent{"the first block": {0, 1}, "checkpoints from block": c.descriptions,
		"their objects from block": c.data}
	for name, at := range map[string]int{"keys at block": superKeys, "keys of files at block": superMediaKeys,
		"what waits for the second device from block": superCache} {
		all[name] = extent{c.address(le.Uint64(c.super[at:])), int64(min(le.Uint64(c.super[at+8:]), 1<<40))}
	}
	if c.second > 0 {
		all["the second device's first block"] = extent{c.second, 1}
	}
	for kind, e := range all {
		if err := need(e, kind); err != nil {
			return err
		}
	}
	return c.jumpstart(func(e extent) error { return need(e, "the start-up driver at block") })
}

// How a Mac's firmware finds the driver of the file system (EFI Jumpstart).
const (
	jumpMagic   = 32
	jumpLen     = 40
	jumpCount   = 44
	jumpExtents = 176
	magicJump   = "RDSJ"
	mostJump    = 64
)

// jumpstart gives each the runs of what firmware starts.
func (c *Container) jumpstart(each func(extent) error) error {
	le := binary.LittleEndian
	at := c.address(le.Uint64(c.super[superJumpstart:]))
	if at == 0 {
		return nil
	}
	b, err := c.object(at, typeJumpstart)
	if err != nil {
		return err
	}
	n := int(le.Uint32(b[jumpCount:]))
	if n > mostJump {
		return fsys.Contradiction(at*c.unit, "the start-up driver lies in %d pieces", n)
	}
	if err := each(extent{at, 1}); err != nil {
		return err
	}
	for i := range n {
		e := b[jumpExtents+16*i:]
		if err := each(extent{c.address(le.Uint64(e)), int64(min(le.Uint64(e[8:]), 1<<40))}); err != nil {
			return err
		}
	}
	return nil
}
