package apfs

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// changed is a device with one of its objects changed, and its checksum made anew.
func changed(t testing.TB, d disk.Device, block int64, change func(b []byte)) disk.Device {
	t.Helper()
	b := make([]byte, minBlock)
	if err := disk.ReadFull(d, b, block*minBlock); err != nil {
		t.Fatal(err)
	}
	change(b)
	binary.LittleEndian.PutUint64(b, sum(b))
	o, err := disk.NewOverlay(d, []disk.Patch{{Off: block * minBlock, Data: b}}, d.Size())
	if err != nil {
		t.Fatal(err)
	}
	return o
}

func opened(t testing.TB, name string) (disk.Device, *Container) {
	t.Helper()
	d, err := disk.Open(Image(t, name), disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	v, err := Probe(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	return d, v.(*Container)
}

// TestEncrypted: of an encrypted volume the maps are believed as of any other; its files are said to be encrypted.
func TestEncrypted(t *testing.T) {
	d, c := opened(t, "noon")
	d = changed(t, d, c.volumes[0].at, func(b []byte) { b[volFlags] &^= volUnencrypted })
	v, err := Probe(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	content, err := fsys.Judge(t.Context(), v, d.Size())
	if err != nil || !content.Sound {
		t.Fatalf("%v, %s", err, content.Why)
	}
	tree, err := fsys.TreeOf(v)
	if err != nil {
		t.Fatal(err)
	}
	root, _ := tree.Root()
	folders, err := fsys.Entries(tree, root)
	if err != nil || len(folders) != 2 {
		t.Fatalf("%v, %v", folders, err)
	}
	for _, f := range folders { // the snapshot's keys are the volume's
		var locked *fsys.Unreadable
		if _, err := fsys.Entries(tree, f.Item); !errors.As(err, &locked) || !strings.Contains(err.Error(),
			"encrypted") {
			t.Errorf("%s: %v", f.Name, err)
		}
		if _, err := tree.Lookup(f.Item, "fares"); !errors.As(err, &locked) {
			t.Errorf("a file in %s: %v", f.Name, err)
		}
		if more, err := tree.More(f.Item); err != nil || !strings.Contains(more.Remark, "encrypted") {
			t.Errorf("%s: %+v, %v", f.Name, more, err)
		}
	}
}

// TestRecordsThatLie: objects that name places of others, or beyond the end, make the container one that is read whole.
func TestRecordsThatLie(t *testing.T) {
	d, c := opened(t, "ferry")
	le := binary.LittleEndian
	v := c.volumes[0]
	extents, err := v.physical(volExtents, v.extentsPhysical)
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := extents.node(extents.root, nil)
	for err == nil && !leaf.leaf {
		_, value, _ := extents.record(leaf, 0)
		leaf, err = extents.child(leaf, value, leaf)
	}
	if err != nil {
		t.Fatal(err)
	}
	key := func(b []byte) []byte { return b[leaf.area+int(le.Uint16(b[leaf.table:])):] }
	for why, x := range map[string]struct {
		block  int64
		change func(b []byte)
	}{
		"reaches beyond the container": {leaf.at, func(b []byte) { le.PutUint64(key(b), 1<<40|recExtent<<keyKind) }},
		"something else names " +
			"too": {leaf.at, func(b []byte) { le.PutUint64(key(b), uint64(c.space.pool.first)|recExtent<<keyKind) }},
		"stands among extents": {leaf.at, func(b []byte) { le.PutUint64(key(b), 7|recInode<<keyKind) }},
		"call": {leaf.at, func(b []byte) { // the last block is free
			le.PutUint64(key(b), uint64(c.blocks-2)|recExtent<<keyKind)
		}},
		"isn't in order": {extents.root, func(b []byte) { le.PutUint32(b[nodeKeys:], 60_000) }},
		"of kind":        {v.objects.at, func(b []byte) { b[objType] = typeNode }},
	} {
		o := changed(t, d, x.block, x.change)
		said := ""
		if p, err := Probe(o, o.Size(), 512); err != nil {
			said = err.Error()
		} else {
			content, err := fsys.Judge(t.Context(), p, o.Size())
			if err != nil {
				t.Fatal(err)
			}
			said = content.Why
		}
		if !strings.Contains(said, why) {
			t.Errorf("%s: %q", why, said)
		}
	}
}

// TestOlderCheckpoint: where the newest superblock is hurt, the one before it counts.
func TestOlderCheckpoint(t *testing.T) {
	d, c := opened(t, "ferry")
	at := int64(-1)
	for i := range c.descriptions.count {
		b, err := c.block(c.descriptions.first + i)
		if err == nil && slices.Equal(b, c.super) {
			at = c.descriptions.first + i
		}
	}
	if at < 0 {
		t.Fatal("the newest superblock isn't among them")
	}
	o, err := disk.NewOverlay(d, []disk.Patch{{Off: at*minBlock + 100, Data: []byte{0xFF, 0x01}}}, d.Size())
	if err != nil {
		t.Fatal(err)
	}
	v, err := Probe(o, o.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	if old := v.(*Container); old.xid >= c.xid {
		t.Errorf("transaction %d after %d", old.xid, c.xid)
	}
}

// TestNames: what the volume takes for the same name is, and names that can't be are errors.
func TestNames(t *testing.T) {
	any, own := &volume{anyCase: true}, &volume{}
	for _, c := range []struct {
		a, b      string
		any, form bool
	}{
		{"fares", "fares", true, true}, {"Fares", "fARES", true, false}, {"\u00DCber", "U\u0308ber", true, true},
		{"stra\u00DFe", "STRASSE", true, false}, {"pier", "piers", false, false},
	} {
		if any.alike(c.a, c.b) != c.any || own.alike(c.a, c.b) != c.form {
			t.Errorf("%q and %q: %v %v", c.a, c.b, any.alike(c.a, c.b), own.alike(c.a, c.b))
		}
	}
	hashed := append(make([]byte, 8), 6, 0, 0xAB, 0xCD)
	for key, want := range map[string]string{
		string(append(slices.Clone(hashed), "fares\x00"...)):       "fares",
		string(append(make([]byte, 8), "\x06\x00pier/\x00"...)):    "pier:",
		string(append(make([]byte, 8), "\x03\x00..\x00"...)):       "",
		string(append(make([]byte, 8), "\x09\x00fares\x00"...)):    "",
		string(append(slices.Clone(hashed), "fa\x00s\x00\x00"...)): "fa",
	} {
		got, err := nameOf([]byte(key))
		if (err != nil) != (want == "") || err == nil && got != want {
			t.Errorf("%q: %q, %v", key, got, err)
		}
	}
	if mode := modeOf(0o104755); mode != 0o755|fs.ModeSetuid {
		t.Errorf("%v", mode)
	}
}

// TestHurtSnapshot: a snapshot that can't be read is listed with the reason; volume and loaders are found beside it.
func TestHurtSnapshot(t *testing.T) {
	d, c := opened(t, "noon")
	d = changed(t, d, c.volumes[0].snapshots[0].super, func(b []byte) { clear(b[volMagic : volMagic+4]) })
	v, err := Probe(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	tree, err := fsys.TreeOf(v)
	if err != nil {
		t.Fatal(err)
	}
	root, _ := tree.Root()
	all, err := fsys.Entries(tree, root)
	if err != nil || len(all) != 2 || all[0].Err != nil || all[1].Err == nil ||
		!strings.Contains(all[1].Err.Error(), "no volume") {
		t.Fatalf("%+v, %v", all, err)
	}
	if _, err := tree.Lookup(root, all[1].Name); err == nil {
		t.Error("it is found as if it could be read")
	}
	if inside, err := fsys.Entries(tree, all[0].Item); err != nil || len(inside) < 10 {
		t.Errorf("%d items in the volume, %v", len(inside), err)
	}
	if loaders, err := v.(*Container).Blessed(); err != nil || len(loaders) > 0 {
		t.Errorf("%q, %v", loaders, err)
	}
}

// TestFields: fields of a record are found by their kind, each at eight bytes, and none outside of it.
func TestFields(t *testing.T) {
	b := []byte{2, 0, 24, 0, extName, 0, 5, 0, extStream, 0, 16, 0}
	b = append(b, "pier\x00..."...)
	b = binary.LittleEndian.AppendUint64(b, 4711)
	b = binary.LittleEndian.AppendUint64(b, 8192)
	var seen []string
	fields(b, func(kind byte, x []byte) {
		switch kind {
		case extName:
			seen = append(seen, string(x))
		case extStream:
			if binary.LittleEndian.Uint64(x) == 4711 {
				seen = append(seen, "stream")
			}
		}
	})
	if want := []string{"pier\x00", "stream"}; !slices.Equal(seen, want) {
		t.Errorf("%q", seen)
	}
	for n := range len(b) {
		fields(b[:n], func(_ byte, x []byte) {
			if len(x) > n {
				t.Errorf("%d bytes of %d", len(x), n)
			}
		})
	}
}

// TestReservedBits: those of a chunk's numbers don't count.
func TestReservedBits(t *testing.T) {
	d, c := opened(t, "ferry")
	d = changed(t, d, c.space.infos[0], func(b []byte) {
		b[listEntries+chunkBlocks+3] |= 0x30
		b[listEntries+chunkFree+3] |= 0x10
	})
	v, err := Probe(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	if content, err := fsys.Judge(t.Context(), v, d.Size()); err != nil || !content.Sound {
		t.Errorf("%v, %s", err, content.Why)
	}
}

// TestLargeSpaceManager: the space manager's object may take several blocks.
func TestLargeSpaceManager(t *testing.T) {
	d, c := opened(t, "ferry")
	le := binary.LittleEndian
	small, err := c.object(c.space.at, typeSpace)
	if err != nil {
		t.Fatal(err)
	}
	large := append(slices.Clone(small), make([]byte, minBlock)...)
	le.PutUint64(large, sum(large))
	to := c.data.first + c.data.count - 2
	index := c.descriptions.first + int64(le.Uint32(c.super[superDescIndex:]))
	d = changed(t, d, index, func(b []byte) {
		for e := b[checkEntries:]; len(e) >= checkEntry; e = e[checkEntry:] {
			if int64(le.Uint64(e[checkAddress:])) == c.space.at {
				le.PutUint32(e[checkSize:], uint32(len(large)))
				le.PutUint64(e[checkAddress:], uint64(to))
			}
		}
	})
	o, err := disk.NewOverlay(d, []disk.Patch{{Off: to * minBlock, Data: large}}, d.Size())
	if err != nil {
		t.Fatal(err)
	}
	v, err := Probe(o, o.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	now := v.(*Container)
	if content, err := fsys.Judge(t.Context(), v, d.Size()); err != nil || !content.Sound || now.space.at != to {
		t.Errorf("%d, %v, %s", now.space.at, err, content.Why)
	}
	change, err := now.Resize(fsys.Bounds{Size: 3 * d.Size(), Sector: 512})
	if err != nil || change.Size != 3*d.Size() {
		t.Errorf("%+v, %v", change, err)
	}
	for _, p := range change.Patches {
		if p.Off == to*minBlock && !(len(p.Data) == len(large) && sound(p.Data)) {
			t.Error("it is written as another one")
		}
	}
}
