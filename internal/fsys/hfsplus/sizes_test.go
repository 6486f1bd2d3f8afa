package hfsplus

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// laid is a part of so many bytes with patches over junk, as far as they are written; zeros elsewhere take no memory.
func laid(t testing.TB, under disk.Device, size int64, patches []disk.Patch) disk.Device {
	t.Helper()
	sorted, err := disk.SortPatches(patches, size)
	if err != nil {
		t.Fatal(err)
	}
	o, err := disk.NewOverlay(under, sorted, size)
	if err != nil {
		t.Fatal(err)
	}
	return o
}

// holes is a device of a size that reads as zeros.
type holes struct{ size int64 }

func (h holes) ReadAt(p []byte, off int64) (int, error) {
	clear(p)
	return len(p), nil
}
func (h holes) Size() int64             { return h.size }
func (h holes) SectorSize() int         { return 512 }
func (h holes) Identity() disk.Identity { return disk.Identity{Size: h.size, Sector: 512} }

// inOrder holds a volume to what checkers ask for: records and map agree, the header counts what is free, and its copy
// says the same.
func inOrder(t testing.TB, d disk.Device) *Volume {
	t.Helper()
	p, err := Probe(d, d.Size(), 512)
	if err != nil || p == nil {
		t.Fatalf("%v, %v", p, err)
	}
	v := p.(*Volume)
	c, err := fsys.Judge(t.Context(), v, d.Size())
	if err != nil || !c.Sound {
		t.Fatalf("%v, %s", err, c.Why)
	}
	used := int64(0)
	if err := v.marked(func(sp span.Span) bool {
		used += sp.Len() / v.unit
		return true
	}); err != nil {
		t.Fatal(err)
	}
	if free := int64(binary.BigEndian.Uint32(v.head[headFree:])); free != v.blocks-used {
		t.Errorf("the header counts %d free blocks of %d, the map %d", free, v.blocks, v.blocks-used)
	}
	head := make([]byte, headerLen)
	if err := disk.ReadFull(d, head, d.Size()/minBlock*minBlock-copyAt); err != nil || !bytes.Equal(head, v.head) {
		t.Errorf("the header's copy is another one: %v", err)
	}
	return v
}

// TestSizes: new volumes of all sizes and with all blocks are in order, and so are those that grow, by little and by
// much, also where their size isn't one of whole blocks.
func TestSizes(t *testing.T) {
	for _, c := range []struct{ size, unit, grown int64 }{
		{4 * units.MiB, 4096, 5 * units.MiB},
		{10*units.MiB + 512, 4096, 10*units.MiB + 8192},
		{10*units.MiB + 1024, 4096, 200*units.MiB + 1536},
		{127*units.MiB + 4096, 4096, 128 * units.MiB},
		{100 * units.MiB, 65536, 101 * units.MiB},
		{units.GiB, 8192, 3*units.GiB + 7*4096},
		{20 * units.GiB, 4096, 2 * units.TiB},
		{500*units.GB + 3584, 4096, 4 * units.TiB},
		{16*units.TiB - 4096, 4096, 16*units.TiB - 4096},
	} {
		t.Run(fmt.Sprintf("%s, %d", units.Bytes(c.size), c.unit), func(t *testing.T) {
			f := fsys.Form{Kind: "HFS+", Label: "Pier", Size: c.size, Unit: c.unit, Sector: 512, ID: [16]byte{5},
				Now: time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)}
			patches, err := maker().Format(f)
			if err != nil {
				t.Fatal(err)
			}
			d := laid(t, holes{c.size}, c.size, patches)
			v := inOrder(t, d)
			change, err := v.Resize(fsys.Bounds{Size: c.grown, Sector: 512})
			if err != nil {
				t.Fatal(err)
			}
			if c.grown == c.size {
				if change.Size != v.info.Size || len(change.Patches) > 0 {
					t.Errorf("of the same size it becomes %+v", change)
				}
				return
			}
			if want := c.grown / c.unit * c.unit; change.Size != want {
				t.Fatalf("it becomes %d bytes, not %d: %q", change.Size, want, change.Notes)
			}
			o, err := disk.NewOverlay(d, nil, c.size)
			if err != nil {
				t.Fatal(err)
			}
			larger := laid(t, wider{o, c.grown}, c.grown, change.Patches)
			if now := inOrder(t, larger); now.info.Label != "Pier" || now.info.ID != v.info.ID {
				t.Errorf("it is %+v now", now.info)
			}
		})
	}
}

// wider is a device with junk after its end.
type wider struct {
	disk.Device
	size int64
}

func (w wider) Size() int64 { return w.size }
func (w wider) ReadAt(p []byte, off int64) (int, error) {
	for i := range p {
		p[i] = 0xE5
	}
	if n := w.Device.Size() - off; n > 0 {
		if _, err := w.Device.ReadAt(p[:min(n, int64(len(p)))], off); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// TestKeepsItsSize: volumes that can't grow say why.
func TestKeepsItsSize(t *testing.T) {
	const size = 16 * units.MiB
	plain := build(t, size, nil)
	for why, change := range map[string]func(b []byte){
		"wasn't unmounted cleanly": func(b []byte) { b[headerAt+headAttributes+2] &^= 1 },
		"too many pieces": func(b []byte) {
			f := b[headerAt+headBitmap:]
			for i := range extents {
				copy(f[forkExtents+i*extentLen:], []byte{0, 0, 0, byte(2 + i), 0, 0, 0, 1})
			}
			binary.BigEndian.PutUint32(f[forkBlocks:], extents)
		},
	} {
		b := bytes.Clone(plain)
		change(b)
		p, err := Probe(bytes.NewReader(b), size, 512)
		if err != nil {
			t.Fatal(err)
		}
		c, err := p.(*Volume).Resize(fsys.Bounds{Size: 1000 * size, Sector: 512})
		if err != nil || c.Size != size || len(c.Patches) > 0 || !strings.Contains(strings.Join(c.Notes, ";"), why) {
			t.Errorf("%s: %+v, %v", why, c, err)
		}
	}
	p, _ := Probe(bytes.NewReader(plain), size, 512)
	c, err := p.(*Volume).Resize(fsys.Bounds{Size: size + 2048, Sector: 512})
	if err != nil || c.Size != size || !strings.Contains(c.Notes[0], "too little new room") {
		t.Errorf("with half a block more: %+v, %v", c, err)
	}
}

// TestLabels: what can be the name of a volume is, and nothing else.
func TestLabels(t *testing.T) {
	m := maker()
	for label, bad := range map[string]string{"": "", "Harbour": "", "Wälder/2": "", strings.Repeat("x", 255): "",
		"a:b": "colon", strings.Repeat("x", 256): "255", strings.Repeat("ä", 200): "units of 16 bits",
		"a\tb": "can't be shown"} {
		err := m.Label(label)
		if (err == nil) != (bad == "") || err != nil && !strings.Contains(err.Error(), bad) {
			t.Errorf("%q: %v", label, err)
		}
		if err != nil {
			continue
		}
		f := fsys.Form{Label: m.Written(label), Size: 8 * units.MiB, Unit: 4096, Sector: 512, Now: time.Now()}
		patches, err := m.Format(f)
		if err != nil {
			t.Fatal(err)
		}
		v := inOrder(t, laid(t, holes{f.Size}, f.Size, patches))
		if want := utf16.Encode([]rune(written(label))); !bytes.Equal(bytesOf(Decomposed(v.info.Label)),
			bytesOf(Decomposed(string(utf16.Decode(want))))) {
			t.Errorf("%q is called %q", label, v.info.Label)
		}
	}
	for _, f := range []fsys.Form{{Size: units.MiB, Sector: 512}, {Size: 17 * units.TiB, Sector: 512},
		{Size: units.GiB, Sector: 512, Unit: 1000}, {Size: units.GiB, Sector: 2048}} {
		if _, err := m.Format(f); err == nil {
			t.Errorf("%+v is made", f)
		}
	}
}

func bytesOf(units []uint16) (out []byte) {
	for _, u := range units {
		out = binary.BigEndian.AppendUint16(out, u)
	}
	return out
}

// TestWrapped: a volume in an HFS volume is found and read there; everything around it counts as used, and it keeps its
// size.
func TestWrapped(t *testing.T) {
	inner, want := ferry(t)
	const block, first, start = 4096, 16, 25 // bytes, sectors, blocks
	at := int64(first*wrapSector + start*block)
	img := bytes.Repeat([]byte{0xC3}, int(at)+len(inner)+3*block)
	copy(img[at:], inner)
	be := binary.BigEndian
	head := img[headerAt : headerAt+wrapLen]
	clear(head)
	be.PutUint16(head, signHFS)
	be.PutUint16(head[18:], 7000)
	be.PutUint32(head[wrapBlockSize:], block)
	be.PutUint16(head[wrapFirst:], first)
	be.PutUint16(head[wrapSignature:], signPlus)
	be.PutUint16(head[wrapStart:], start)
	be.PutUint16(head[wrapCount:], uint16(len(inner)/block))
	d := &disk.Memory{Bytes: img, Sector: 512}
	p, err := Probe(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	c, err := fsys.Judge(t.Context(), p, d.Size())
	if err != nil || !c.Sound {
		t.Fatalf("%v, %s", err, c.Why)
	}
	kept := bytes.Repeat([]byte{0xA5}, len(img))
	for sp, err := range c.Spans() {
		if err != nil {
			t.Fatal(err)
		}
		copy(kept[sp.Start:sp.End], img[sp.Start:sp.End])
	}
	if !bytes.Equal(kept[:at], img[:at]) || !bytes.Equal(kept[len(img)-3*block:], img[len(img)-3*block:]) {
		t.Error("what is around it isn't kept")
	}
	sameContents(t, kept, want)
	if c, err := p.(*Volume).Resize(fsys.Bounds{Size: 2 * d.Size(), Sector: 512}); err != nil ||
		c.Size != p.Info().Size || !strings.Contains(c.Notes[0], "wrapped") {
		t.Errorf("%+v, %v", c, err)
	}
	patches, err := p.(*Volume).Reidentify([16]byte{9, 9, 9})
	if err != nil || len(patches) != 2 || patches[0].Off != at+headerAt+headIdentity {
		t.Errorf("%+v, %v", patches, err)
	}
	be.PutUint16(head[wrapCount:], 60_000)
	if _, err := Probe(d, d.Size(), 512); err == nil || !strings.Contains(err.Error(), "beyond the part") {
		t.Errorf("one that ends outside: %v", err)
	}
	be.PutUint16(head[wrapSignature:], 0)
	if v, err := Probe(d, d.Size(), 512); v != nil || err != nil {
		t.Errorf("an HFS volume that wraps nothing: %v, %v", v, err)
	}
}

// TestCaseCounts: in an HFSX volume that orders names by their bytes, names that differ in case are two.
func TestCaseCounts(t *testing.T) {
	const size = 16 * units.MiB
	b := build(t, size, []built{{name: "fares", data: []byte("small"), mode: 0o100644},
		{name: "FARES", data: []byte("LARGE"), mode: 0o100644}, {name: "b", data: []byte("b"), mode: 0o100644}})
	be := binary.BigEndian
	p, err := Probe(bytes.NewReader(b), size, 512)
	if err != nil {
		t.Fatal(err)
	}
	v := p.(*Volume)
	at := v.catalog.file.Places[0].At
	var all []record
	for e, err := range v.catalog.records() {
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, record{bytes.Clone(e.key), bytes.Clone(e.data)})
	}
	order := catalog{}
	sortBy(all, order)
	copy(b[at:], treeOf(catalogLen, v.catalog.own.size, catalogKey, 6, all))
	b[at+treeCompare] = compareBinary
	for _, h := range []int64{headerAt, size - copyAt} {
		be.PutUint16(b[h:], signX)
		be.PutUint16(b[h+headVersion:], versionX)
	}
	x := inOrder(t, &disk.Memory{Bytes: b, Sector: 512})
	tree, err := fsys.TreeOf(x)
	if err != nil || x.info.Kind != "HFSX" {
		t.Fatalf("%+v, %v", x.info, err)
	}
	for name, want := range map[string]string{"fares": "small", "FARES": "LARGE", "b": "b"} {
		if got, err := fs.ReadFile(fsys.FS(tree), name); err != nil || string(got) != want {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
	if _, err := fsys.Find(tree, "Fares"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("in a third case: %v", err)
	}
	b[at+treeCompare] = 7
	if _, err := Probe(bytes.NewReader(b), size, 512); err == nil || !strings.Contains(err.Error(), "orders names") {
		t.Errorf("an order that isn't known: %v", err)
	}
}

// TestNotBelieved: headers that claim what can't be make the volume one that is read whole, with the reason.
func TestNotBelieved(t *testing.T) {
	const size = 16 * units.MiB
	plain := build(t, size, []built{{name: "fares", data: bytes.Repeat([]byte("fare "), 9000), mode: 0o100644}})
	p, err := Probe(bytes.NewReader(plain), size, 512)
	if err != nil {
		t.Fatal(err)
	}
	v := p.(*Volume)
	tree, leaf, bitmap := v.catalog.file.Places[0].At, v.catalog.file.Places[0].At+catalogLen,
		v.span(v.bitmap.first[0].first, 1).Start
	be := binary.BigEndian
	for why, change := range map[string]func(b []byte){
		"blocks of 1000 bytes":    func(b []byte) { be.PutUint32(b[headerAt+headBlockSize:], 1000) },
		"more than its place":     func(b []byte) { be.PutUint32(b[headerAt+headBlocks:], 1<<30) },
		"isn't the header":        func(b []byte) { b[tree+nodeKind] = kindLeaf },
		"nodes of 100 bytes":      func(b []byte) { be.PutUint16(b[tree+treeNodeSize:], 100) },
		"don't fit into":          func(b []byte) { be.PutUint32(b[tree+treeNodes:], 1<<30) },
		"with its root in node 0": func(b []byte) { be.PutUint32(b[tree+treeRoot:], 0) },
		"isn't on level":          func(b []byte) { b[leaf+nodeHeight] = 3 },
		"out of order":            func(b []byte) { be.PutUint16(b[leaf+catalogLen-4:], 5) },
		"a key of":                func(b []byte) { be.PutUint16(b[leaf+nodeHeadLen:], 5000) },
		"doesn't say where":       func(b []byte) { be.PutUint32(b[leaf+nodeHeadLen+2:], 77) },
		"of 9 records":            func(b []byte) { be.PutUint32(b[tree+treeLeaves:], 9) },
		"map calls free": func(b []byte) {
			clear(b[bitmap : bitmap+(v.blocks+7)/8])
			setBits(b[bitmap:], 0, 3)
		},
		"beyond the end of the volume": func(b []byte) {
			i := bytes.Index(b[leaf:leaf+catalogLen], []byte("f\x00a\x00r\x00e\x00s"))
			rec := leaf + int64(i) + 9 + fileData + forkExtents
			be.PutUint32(b[rec:], 1<<31)
		},
		"a file or folder has the number 3": func(b []byte) {
			i := bytes.Index(b[leaf:leaf+catalogLen], []byte("f\x00a\x00r\x00e\x00s"))
			be.PutUint32(b[leaf+int64(i)+9+itemID:], 3)
		},
	} {
		b := bytes.Clone(plain)
		change(b)
		said := ""
		if p, err := Probe(bytes.NewReader(b), size, 512); err != nil {
			said = err.Error()
		} else {
			c, err := fsys.Judge(t.Context(), p, size)
			if err != nil {
				t.Fatal(err)
			}
			if said = c.Why; c.Maps {
				said = "its maps are believed"
			}
		}
		if !strings.Contains(said, why) {
			t.Errorf("%s: %s", why, said)
		}
	}
}
