package hfsplus

import (
	"bytes"
	"testing"
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
