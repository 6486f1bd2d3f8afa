package hfsplus

import (
	"io"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// FuzzHFSPlus overwrites bytes of a volume with everything in it: nothing panics, all ends, and nothing outside of the
// part is read or would be written.
func FuzzHFSPlus(f *testing.F) {
	img, _ := ferry(f)
	v, err := Probe(&disk.Memory{Bytes: img, Sector: 512}, int64(len(img)), 512)
	if err != nil {
		f.Fatal(err)
	}
	p := v.(*Volume)
	for _, base := range []int64{headerAt, p.catalog.file.Places[0].At, p.catalog.file.Places[0].At + 8192,
		p.attributes.file.Places[0].At, p.extents.file.Places[0].At} {
		for _, at := range []int64{0, 8, 16, 40, 44, 112, 128, 272, 288} {
			f.Add(at%16 == 0, uint32(base+at), []byte{0xFF, 0xFF, 0xFF, 0xFF}, uint32(base+at+90), []byte{0, 0, 0, 0})
		}
	}
	asItIs, cut := img, unreplayed(f, build(f, int64(len(img)), nil), img)
	for _, at := range []int64{0, 8, 16, 24, 28, 32, 40, 512, 516, 528, 536} {
		j, err := p.journal()
		if err != nil {
			f.Fatal(err)
		}
		f.Add(true, uint32(j.area.Start+at), []byte{0xFF, 0, 0xFF}, uint32(j.info.Start+at), []byte{1})
	}
	f.Fuzz(func(t *testing.T, isCut bool, at uint32, patch []byte, at2 uint32, patch2 []byte) {
		img := asItIs
		if isCut {
			img = cut
		}
		size := int64(len(img))
		lower := []disk.Patch{{Off: int64(at) % (size - 4096), Data: patch[:min(len(patch), 4096)]}}
		upper := []disk.Patch{{Off: int64(at2) % (size - 4096), Data: patch2[:min(len(patch2), 4096)]}}
		o, err := disk.NewOverlay(&disk.Memory{Bytes: img, Sector: 512}, disk.Over(upper, lower), size)
		if err != nil {
			return
		}
		endure(t, o)
	})
}

// endure has everything done to a volume that can be.
func endure(t *testing.T, d disk.Device) {
	t.Helper()
	p, err := Probe(d, d.Size(), 512)
	if err != nil || p == nil {
		return
	}
	v := p.(*Volume)
	if _, err := fsys.Judge(t.Context(), v, d.Size()); err != nil {
		t.Error(err)
	}
	_, _ = v.Reidentify([16]byte{1})
	_, _ = v.Cut(t.Context(), false)
	if c, err := v.Resize(fsys.Bounds{Size: d.Size() * 2, Sector: 512}); err == nil {
		for _, q := range c.Patches {
			if !(span.Span{End: d.Size() * 2}).Covers(q.Span()) {
				t.Errorf("%s is outside", q.Span())
			}
		}
	}
	tree, err := v.Files()
	if err != nil {
		return
	}
	root, err := tree.Root()
	if err != nil {
		return
	}
	const most = 2000
	n := 0
	_ = fsys.Walk(tree, root, ".", func(_ string, _ fsys.Item, all []fsys.Entry, _ error) error {
		for _, e := range all {
			if n++; n > most {
				return io.EOF
			}
			if e.Err == nil {
				try(tree, e.Item)
			}
		}
		return nil
	})
}

// try reads an item.
func try(tree fsys.Tree, it fsys.Item) {
	_, _ = tree.More(it)
	for _, stream := range []string{"", resources} {
		if c, err := tree.Open(it, stream); err == nil {
			_, _ = c.ReadAt(make([]byte, 70_000), max(0, c.Size()-70_000))
			c.Spans()
		}
	}
}
