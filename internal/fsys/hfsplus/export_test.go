package hfsplus

import (
	"bytes"
	"encoding/binary"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// Seeds are a volume with everything in it, one whose journal makes it that, and where their structures begin, in
// bytes.
func Seeds(t testing.TB) (asItIs, cut []byte, places []int64) {
	t.Helper()
	asItIs, _ = ferry(t)
	p, err := Probe(bytes.NewReader(asItIs), int64(len(asItIs)), 512)
	if err != nil {
		t.Fatal(err)
	}
	v := p.(*Volume)
	places = []int64{headerAt}
	for _, b := range []*btree{v.catalog.btree, v.attributes.btree, v.extents} {
		at := b.file.Places[0].At
		places = append(places, at, at+b.size)
	}
	j, err := v.journal()
	if err != nil {
		t.Fatal(err)
	}
	return asItIs, unreplayed(t, build(t, int64(len(asItIs)), nil), asItIs), append(places, j.info.Start, j.area.Start,
		j.area.Start+512)
}

// Marking gives what marks blocks of a volume's first part as used, from the first free one up to block end, or frees
// them except where keep says so.
func Marking(t testing.TB, volume fsys.Volume, end int64, used bool, keep func(block int64) bool) []disk.Patch {
	t.Helper()
	v := volume.(*Volume)
	file, err := v.mapped(v.bitmap)
	if err != nil {
		t.Fatal(err)
	}
	b := make([]byte, (v.blocks+7)/8)
	if err := disk.ReadFull(file, b, 0); err != nil {
		t.Fatal(err)
	}
	head, free := bytes.Clone(v.head), int64(0)
	for block := int64(binary.BigEndian.Uint32(v.head[headNextBlock:])); block < end && used; block++ {
		setBits(b, block, 1)
	}
	for block := int64(0); block < end && !used; block++ {
		if !keep(block) {
			clearBits(b, block, 1)
		}
	}
	for block := range v.blocks {
		if b[block/8]&(0x80>>(block%8)) == 0 {
			free++
		}
	}
	binary.BigEndian.PutUint32(head[headFree:], uint32(free))
	out := []disk.Patch{{Off: file.Places[0].At, Data: b}}
	for _, at := range v.headers() {
		out = append(out, disk.Patch{Off: at, Data: head})
	}
	return out
}

// Named are the blocks that something in the volume names.
func Named(t testing.TB, volume fsys.Volume) span.Set {
	t.Helper()
	v := volume.(*Volume)
	all := []span.Span{span.At(0, 1)}
	add := func(f fork) {
		found, err := v.all(f)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range found {
			all = append(all, span.At(e.first, e.count))
		}
	}
	for _, f := range []fork{v.bitmap, v.extents.own, v.catalog.own, v.attributes.own} {
		add(f)
	}
	for e, err := range v.catalog.records() {
		if err != nil {
			t.Fatal(err)
		}
		if kindOf(e.data) != recFile {
			continue
		}
		it, err := readItem(e.data)
		if err != nil {
			t.Fatal(err)
		}
		add(it.data)
		add(it.res)
	}
	return span.Of(all...)
}
