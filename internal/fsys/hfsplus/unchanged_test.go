package hfsplus

import (
	"bytes"
	"context"
	"errors"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// TestUnchanged: files with the same record prove their blocks, in both forks and in many pieces; a time, another place
// or another volume proves nothing, and neither do files that a system holds open.
func TestUnchanged(t *testing.T) {
	const size = 48 * units.MiB
	b, _ := late(t, size, 7000)
	v := probed(t, b)
	proven := func(now, before fsys.Volume) (all span.Set) {
		t.Helper()
		if err := now.(*Volume).Unchanged(t.Context(), before, func(sp span.Span) error {
			if all.Overlaps(sp) {
				t.Errorf("%s is proven twice", sp)
			}
			all.Add(sp)
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		return all
	}
	whole := proven(v, v)
	want := int64(0)
	for e, err := range v.catalog.records() {
		if err != nil {
			t.Fatal(err)
		}
		if it, err := readItem(e.data); kindOf(e.data) == recFile && err == nil && it.id >= 100 {
			want += (it.data.blocks + it.res.blocks) * 4096
		}
	}
	if whole.Total() != want {
		t.Errorf("%d bytes are proven of %d", whole.Total(), want)
	}
	at := func(id uint32) int64 { // of its record
		for e := range v.catalog.records() {
			if it, err := readItem(e.data); kindOf(e.data) == recFile && err == nil && it.id == id {
				return v.catalog.file.Places[0].At + e.at
			}
		}
		t.Fatalf("there is no file %d", id)
		return 0
	}
	const file = 109
	it, err := v.catalog.byID(file)
	if err != nil || it.data.blocks <= countOf(it.data.first) {
		t.Fatalf("%+v, %v", it, err)
	}
	for what, c := range map[string]struct {
		change func(b []byte)
		proven bool
	}{
		"a write":               {func(b []byte) { b[at(file)+itemModified+3] ^= 1 }, false},
		"a change of its owner": {func(b []byte) { b[at(file)+itemChanged+3] ^= 1 }, false},
		"an access":             {func(b []byte) { b[at(file)+itemRead+3] ^= 1 }, true},
		"other extents": {func(b []byte) {
			f := v.extents.file.Places[0].At
			for e := range v.extents.records() {
				if forkOf(e.key).id == file {
					copy(b[f+e.at:], b[f+e.at+8:f+e.at+16])
				}
			}
		}, false},
		"a power cut": {func(b []byte) { b[headerAt+headAttributes+2] &^= 1 }, false},
	} {
		changed := bytes.Clone(b)
		c.change(changed)
		got := proven(probed(t, changed), v).Overlaps(span.At(it.data.first[0].first*4096, 4096))
		if got != c.proven {
			t.Errorf("after %s it is proven: %v", what, got)
		}
	}
	other := bytes.Clone(b)
	for _, h := range v.headers() {
		other[h+headIdentity] ^= 1
	}
	if n := proven(v, probed(t, other)).Total(); n != 0 {
		t.Errorf("of another volume %d bytes are proven", n)
	}
	over, cancel := context.WithCancel(t.Context())
	cancel()
	if err := v.Unchanged(over, v, func(span.Span) error { return nil }); !errors.Is(err, context.Canceled) {
		t.Errorf("when it is over: %v", err)
	}
	held := build(t, size, []built{{name: "swapfile0", data: make([]byte, 50_000), mode: 0o100600}})
	if n := proven(probed(t, held), probed(t, held)).Total(); n != 0 {
		t.Errorf("of what is swapped to %d bytes are proven", n)
	}
}
