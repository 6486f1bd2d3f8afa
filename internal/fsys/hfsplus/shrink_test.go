package hfsplus

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// probed is the volume in bytes.
func probed(t testing.TB, b []byte) *Volume {
	t.Helper()
	p, err := Probe(bytes.NewReader(b), int64(len(b)), 512)
	if err != nil || p == nil {
		t.Fatalf("%v, %v", p, err)
	}
	return p.(*Volume)
}

// smaller is a volume as it is after Resize, over junk.
func smaller(t testing.TB, b []byte, size int64) ([]byte, *fsys.Change) {
	t.Helper()
	c, err := probed(t, b).Resize(fsys.Bounds{Size: size, Sector: 512})
	if err != nil {
		t.Fatal(err)
	}
	out := bytes.Repeat([]byte{0xE5}, int(size))
	for _, m := range c.Moves {
		copy(out[m.To:], b[m.From.Start:m.From.End])
	}
	for _, p := range c.Patches {
		if p.Data == nil {
			clear(out[p.Off : p.Off+p.Zeros])
		}
		copy(out[p.Off:], p.Data)
	}
	return out, c
}

// late is a volume with files of all kinds that begin at a block, and what they hold.
func late(t testing.TB, size, block int64) (b []byte, want map[string][]byte) {
	t.Helper()
	want = map[string][]byte{}
	var all []built
	for i := range 24 {
		x := built{name: fmt.Sprint("crossing ", i), mode: 0o100644, data: testkit.Noise(uint64(i), 9000*(1+i%9))}
		if i%4 == 0 {
			x.res = testkit.Noise(uint64(100+i), 50_000)
		}
		if i%5 == 0 {
			x.attrs = map[string][]byte{"berth": testkit.Noise(uint64(200+i), 30_000)}
		}
		all, want[x.name] = append(all, x), x.data
	}
	return buildAt(t, size, block, 2, all), want
}

// unchanged: a volume has the files of late.
func unchanged(t testing.TB, b []byte, want map[string][]byte) *Volume {
	t.Helper()
	v := inOrder(t, &disk.Memory{Bytes: b, Sector: 512})
	sameContents(t, b, want)
	tree, err := fsys.TreeOf(v)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 24 {
		e, err := fsys.Find(tree, fmt.Sprint("crossing ", i))
		if err != nil {
			t.Fatal(err)
		}
		if i%4 == 0 {
			res, err := tree.Open(e, "rsrc")
			got := make([]byte, 50_000)
			if err == nil {
				err = disk.ReadFull(res, got, 0)
			}
			if err != nil || !bytes.Equal(got, testkit.Noise(uint64(100+i), len(got))) {
				t.Errorf("crossing %d has other resources: %v", i, err)
			}
		}
		attrs, err := v.attributes.of(uint32(e.ID))
		if i%5 == 0 && (err != nil || len(attrs) != 1 || !bytes.Equal(attrs[0].Value, testkit.Noise(uint64(200+i),
			30_000))) {
			t.Errorf("crossing %d has other attributes: %v", i, err)
		}
	}
	return v
}

// TestShrinks: what lies beyond the new end goes into the room that there is, in one piece or in hundreds, with a list
// of pieces that needs another place; bad blocks are forgotten there and kept here.
func TestShrinks(t *testing.T) {
	const size, from = 48 * units.MiB, 7000
	plain, want := late(t, size, from)
	for name, change := range map[string]func(b []byte, v *Volume){
		"as it is": func([]byte, *Volume) {},
		"free here and there": func(b []byte, v *Volume) {
			islands(b, v, from, 3)
		},
		"with a short list": func(b []byte, v *Volume) {
			binary.BigEndian.PutUint32(b[v.extents.file.Places[0].At+treeNodes:], 2+v.extents.nodesUsed())
			islands(b, v, from, 2)
		},
		"with the journal at its end": func(b []byte, v *Volume) { journalTo(t, b, v, from+2000) },
	} {
		t.Run(name, func(t *testing.T) {
			b := bytes.Clone(plain)
			v := probed(t, b)
			change(b, v)
			unchanged(t, b, want)
			least, why, err := v.Least()
			if err != nil || least > from*4096 || why == "" {
				t.Fatalf("least %d, %q, %v", least, why, err)
			}
			for _, to := range []int64{least, least + 3584, from * 4096, (from + 300) * 4096, size - 4096, size - 512} {
				small, c := smaller(t, b, to)
				now := unchanged(t, small, want)
				if c.Size != to/4096*4096 || now.blocks != to/4096 {
					t.Errorf("on %d it becomes %d (%d blocks)", to, c.Size, now.blocks)
				}
				if _, err := now.journal(); err != nil {
					t.Error(err)
				}
			}
		})
	}
}

// nodesUsed is how many nodes a tree has in use.
func (t *btree) nodesUsed() uint32 { return t.nodes - t.free }

// islands marks most blocks before block end, so that only every n-th stays free; the header counts them.
func islands(b []byte, v *Volume, end, n int64) {
	be := binary.BigEndian
	bits := b[v.bitmap.first[0].first*4096:]
	marked := uint32(0)
	for block := int64(be.Uint32(v.head[headNextBlock:])); block < end; block++ {
		if block%n != 0 && bits[block/8]&(0x80>>(block%8)) == 0 {
			setBits(bits, block, 1)
			marked++
		}
	}
	for _, at := range v.headers() {
		be.PutUint32(b[at+headFree:], be.Uint32(b[at+headFree:])-marked)
	}
}

// journalTo moves the journal to a block.
func journalTo(t testing.TB, b []byte, v *Volume, block int64) {
	t.Helper()
	j, err := v.journal()
	if err != nil {
		t.Fatal(err)
	}
	bits, n := b[v.bitmap.first[0].first*4096:], j.area.Len()/4096
	clearBits(bits, j.area.Start/4096, n)
	setBits(bits, block, n)
	copy(b[block*4096:], b[j.area.Start:j.area.End])
	be := binary.BigEndian
	be.PutUint64(b[j.info.Start+journalAt:], uint64(block*4096))
	for e, err := range v.catalog.records() {
		if err != nil {
			t.Fatal(err)
		}
		if it, err := readItem(e.data); kindOf(e.data) == recFile && err == nil && len(it.data.first) > 0 &&
			it.data.first[0].first == j.area.Start/4096 {
			at := v.catalog.file.Places[0].At + e.at + fileData + forkExtents
			be.PutUint32(b[at:], uint32(block))
		}
	}
}

// TestBadBlocks: those beyond the new end are forgotten, the others stay where they are.
func TestBadBlocks(t *testing.T) {
	const size = 48 * units.MiB
	b, want := late(t, size, 5000)
	v := probed(t, b)
	var all []record
	for e, err := range v.extents.records() {
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, record{e.key, e.data})
	}
	bad := []extent{{4000, 3}, {9000, 5}}
	x := make([]byte, extentRecords)
	putExtents(x, bad)
	all = append(all, record{extentKey(forkIsData, idBad, 0), x})
	slices.SortFunc(all, func(a, b record) int { return compareExtent(a.key, b.key) })
	at := v.extents.file.Places[0].At
	copy(b[at:], bulkTree(b[at:at+overLen], all))
	bits := b[v.bitmap.first[0].first*4096:]
	for _, e := range bad {
		setBits(bits, e.first, e.count)
	}
	for _, h := range v.headers() {
		binary.BigEndian.PutUint32(b[h+headFree:], binary.BigEndian.Uint32(b[h+headFree:])-8)
	}
	small, _ := smaller(t, b, 30*units.MiB)
	now := unchanged(t, small, want)
	rec, err := now.overflow(fork{id: idBad, kind: forkIsData}, 0)
	if err != nil || !slices.Equal(rec, bad[:1]) {
		t.Errorf("bad are %v, %v", rec, err)
	}
	if err := now.marked(func(sp span.Span) bool { return true }); err != nil {
		t.Error(err)
	}
}

// TestDoesntShrink: what can't become smaller says why, and so does what contradicts itself.
func TestDoesntShrink(t *testing.T) {
	const size = 48 * units.MiB
	plain, _ := late(t, size, 7000)
	for why, change := range map[string]func(b []byte, v *Volume){
		"wasn't unmounted cleanly": func(b []byte, _ *Volume) { b[headerAt+headAttributes+2] &^= 1 },
		"isn't room":               func(b []byte, v *Volume) { islands(b, v, 7000, 7001) },
		"in one piece": func(b []byte, v *Volume) {
			j, _ := v.journal()
			journalTo(t, b, v, 9000)
			setBits(b[v.bitmap.first[0].first*4096:], j.area.Start/4096, j.area.Len()/8192)
			islands(b, v, 7000, 2)
		},
		"free by its map": func(b []byte, v *Volume) { clearBits(b[v.bitmap.first[0].first*4096:], 7001, 1) },
	} {
		b := bytes.Clone(plain)
		change(b, probed(t, b))
		_, err := probed(t, b).Resize(fsys.Bounds{Size: 26 * units.MiB, Sector: 512})
		var cant *fsys.Cant
		if !errors.As(err, &cant) || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", why, err)
		}
	}
	if _, err := probed(t, plain).Resize(fsys.Bounds{Size: units.MiB, Sector: 512}); err == nil {
		t.Error("it becomes smaller than any")
	}
}
