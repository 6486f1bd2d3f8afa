package apfs

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

func le64(b []byte) uint64 { return binary.LittleEndian.Uint64(b) }

// provenBy is what a container proves unchanged since another date; each byte of it must be what it was.
func provenBy(t *testing.T, now, before *Container, a, b disk.Device) (all span.Set) {
	t.Helper()
	if err := now.Unchanged(t.Context(), before, func(sp span.Span) error {
		if all.Overlaps(sp) {
			t.Errorf("%s is proven twice", sp)
		}
		all.Add(sp)
		x, y := make([]byte, sp.Len()), make([]byte, sp.Len())
		if disk.ReadFull(a, x, sp.Start) != nil || disk.ReadFull(b, y, sp.Start) != nil || !bytes.Equal(x, y) {
			t.Errorf("%s is proven, and isn't the same", sp)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return all
}

// TestProves: between two dates of a container that the driver worked on, most of its files' blocks are proven to be
// what they were, and they are; of one and the same date all but what the space manager has.
func TestProves(t *testing.T) {
	first, ferry := opened(t, "ferry")
	later, noon := opened(t, "noon")
	if ferry.info.ID != noon.info.ID {
		t.Fatal("they aren't the same container")
	}
	whole := provenBy(t, ferry, ferry, first, first).Total()
	if whole < 8<<20 {
		t.Errorf("%d bytes are proven of a container that is itself", whole)
	}
	if n := provenBy(t, noon, ferry, later, first).Total(); n < whole*7/10 || n > whole {
		t.Errorf("%d bytes are proven of %d", n, whole)
	}
	if n := provenBy(t, noon, noon, later, later).Total(); n < whole {
		t.Errorf("with a snapshot %d bytes are proven, without %d", n, whole)
	}
	if n := provenBy(t, ferry, noon, first, later).Total(); n != 0 {
		t.Errorf("from an older date %d bytes are proven", n)
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	if err := noon.Unchanged(over, ferry, func(span.Span) error { return nil }); !errors.Is(err, context.Canceled) {
		t.Errorf("when it is over: %v", err)
	}
	if err := noon.Unchanged(t.Context(), fsys.Volume(nil), func(span.Span) error {
		return errors.New("of another family something is proven")
	}); err != nil {
		t.Error(err)
	}
}

// TestWritesShow: a file whose counter of writes went up proves nothing, and neither do files of a volume that a system
// swaps to; the time of the last access may change.
func TestWritesShow(t *testing.T) {
	d, c := opened(t, "ferry")
	all := provenBy(t, c, c, d, d)
	v := c.volumes[0]
	tr, err := v.files()
	if err != nil {
		t.Fatal(err)
	}
	// The leaf with the inode of a file that has contents of its own.
	var at int64
	var id uint64
	leaf := int64(0)
	tr.visited = func(b int64) error {
		leaf = b
		return nil
	}
	if err := tr.all(func(key, value []byte) error {
		if k := le64(key); k>>keyKind == recInode && len(value) > inoLen+40 &&
			le64(value[inoPrivate:]) == k&keyIDMask &&
			value[inoMode+1]&0xF0 == 0x80 && at == 0 && k&keyIDMask > 20 {
			at, id = leaf, k&keyIDMask
		}
		return nil
	}); err != nil || at == 0 {
		t.Fatalf("%d, %v", at, err)
	}
	var held span.Set
	contents, err := v.stream(id, 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	for _, sp := range contents.Spans() {
		held.Add(span.At(sp.Start/minBlock*minBlock, minBlock))
	}
	if held.Empty() || all.Intersect(held).Total() != held.Total() {
		t.Fatalf("file %d has %d bytes that aren't proven", id, held.Total())
	}
	for what, c2 := range map[string]struct {
		offset int
		proven bool
	}{"a write": {inoGeneration, false}, "another time": {inoChanged, false}, "an access": {inoRead, true}} {
		o := changed(t, d, at, func(b []byte) {
			b[objXID] ^= 0x40 // written in another transaction
			n, err := (&btree{c: c}).node(at, &node{})
			if err != nil {
				t.Fatal(err)
			}
			mine := *n
			mine.b = b
			for i := range mine.keys {
				key, value, err := tr.record(&mine, i)
				if err == nil && le64(key) == id|recInode<<keyKind {
					value[c2.offset] ^= 1
				}
			}
		})
		p, err := Probe(o, o.Size(), 512)
		if err != nil {
			t.Fatal(err)
		}
		now := p.(*Container)
		x := &comparison{ctx: t.Context(), now: now.volumes[0], was: v, same: map[int64]bool{}}
		if err := x.contents(); err != nil {
			t.Fatal(err)
		}
		if got := !span.Of(x.spans...).Intersect(held).Empty(); got != c2.proven {
			t.Errorf("after %s it is proven: %v", what, got)
		}
	}
	v.super[volRole] |= swapped
	x := &comparison{ctx: t.Context(), now: v, was: v, same: map[int64]bool{}}
	if err := x.contents(); err != nil || len(x.spans) > 0 {
		t.Errorf("of a volume that is swapped to %d runs are proven: %v", len(x.spans), err)
	}
}
