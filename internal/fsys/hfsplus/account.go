package hfsplus

import (
	"context"
	"encoding/binary"
	"fmt"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

var _ fsys.Accountable = (*Volume)(nil)

// Grid is the allocation blocks.
func (v *Volume) Grid() fsys.Grid { return fsys.Grid{Start: v.at, Unit: v.unit, Count: v.blocks} }

// accounting enters what a volume's structures name.
type accounting struct {
	v *Volume
	l *fsys.Ledger
}

// Account enters both volume headers, the files that the volume consists of, all extents that catalog and attributes
// name, and everything that the extents overflow file has, bad blocks among it.
func (v *Volume) Account(ctx context.Context, l *fsys.Ledger) error {
	a := accounting{v, l}
	if err := a.system(); err != nil {
		return err
	}
	for e, err := range v.extents.records() {
		if err == nil {
			err = ctx.Err()
		}
		if err == nil {
			err = a.overflow(e)
		}
		if err != nil {
			return fmt.Errorf("extents overflow file: %w", err)
		}
	}
	for e, err := range v.catalog.records() {
		if err == nil {
			err = ctx.Err()
		}
		if err == nil {
			err = a.item(e)
		}
		if err != nil {
			return fmt.Errorf("catalog: %w", err)
		}
	}
	if v.attributes != nil {
		for e, err := range v.attributes.records() {
			if err == nil {
				err = ctx.Err()
			}
			if err == nil {
				err = a.attribute(e)
			}
			if err != nil {
				return fmt.Errorf("attributes file: %w", err)
			}
		}
	}
	return a.fixed()
}

// fixed enters what lies where it does whoever else names it, too: both headers and the journal.
func (a accounting) fixed() error {
	within := span.At(a.v.at, a.v.blocks*a.v.unit)
	for _, at := range a.v.headers() {
		sp := span.At(at, headerLen).Intersect(within) // a copy may lie after the last block
		if err := a.l.Need(sp, fsys.Owner{Kind: "the volume header at byte", Number: at}); err != nil {
			return err
		}
	}
	return a.journal()
}

// system enters the files that the volume consists of.
func (a accounting) system() error {
	special := []fork{a.v.bitmap, a.v.extents.own, a.v.catalog.own, a.v.specialFork(headAttributesF, idAttributes),
		a.v.specialFork(headStartup, idStartup)}
	for _, f := range special {
		if err := a.fork(f); err != nil {
			return err
		}
	}
	return nil
}

// fork enters what a fork's record has, and makes sure that the rest is in the extents overflow file, from where
// it is entered once for all.
func (a accounting) fork(f fork) error {
	all, err := a.v.all(f)
	if err != nil {
		return err
	}
	if n := countOf(all); n*a.v.unit < f.size {
		return fsys.Contradiction(a.v.at, "the extents of %s end after %d of %d bytes", f.owner(), n*a.v.unit, f.size)
	}
	return a.own(f.first, f.owner())
}

func (a accounting) own(all []extent, o fsys.Owner) error {
	spans, err := a.v.spans(all, o)
	if err != nil {
		return err
	}
	for _, sp := range spans {
		if err := a.l.Own(sp, o); err != nil {
			return err
		}
	}
	return nil
}

func (a accounting) overflow(e entry) error {
	if len(e.key) < extentKeyLen || len(e.data) < extentRecords {
		return a.v.extents.hurt(e.node, "a record of %d bytes", len(e.data))
	}
	f := fork{id: binary.BigEndian.Uint32(e.key[extentFile-extentFork:]), kind: e.key[0]}
	return a.own(readExtents(e.data), f.owner())
}

func (a accounting) item(e entry) error {
	if _, err := readKey(e.key); err != nil {
		return err
	}
	switch kindOf(e.data) {
	case recFolderTo, recFileTo:
		return nil
	case recFolder, recFile:
	default:
		return a.v.catalog.hurt(e.node, "a record of kind %d", kindOf(e.data))
	}
	it, err := readItem(e.data)
	if err != nil || it.folder {
		return err
	}
	if err := a.fork(it.data); err != nil {
		return err
	}
	return a.fork(it.res)
}

// attribute enters the extents of an attribute that doesn't stand in the tree itself.
func (a accounting) attribute(e entry) error {
	if len(e.key) < attrName-2 {
		return a.v.attributes.hurt(e.node, "a record with a key of %d bytes", len(e.key))
	}
	at, _, err := a.v.attributes.extentsAt(e)
	if err != nil || at == 0 {
		return err
	}
	return a.own(readExtents(e.data[at:]), fsys.Owner{Kind: "an attribute of file",
		Number: int64(binary.BigEndian.Uint32(e.key[attrFile-2:]))})
}
