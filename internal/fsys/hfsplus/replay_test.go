package hfsplus

import (
	"bytes"
	"encoding/binary"
	"io/fs"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// unreplayed is a volume as it was, whose journal makes it what it shall be: in transactions, some of which are
// written over by later ones, around the end of the journal.
func unreplayed(t testing.TB, was, shall []byte) []byte {
	t.Helper()
	const sector, listSize = 512, 4096
	le := binary.LittleEndian
	p, err := Probe(bytes.NewReader(was), int64(len(was)), 512)
	if err != nil {
		t.Fatal(err)
	}
	v := p.(*Volume)
	j, err := v.journal()
	if err != nil || !j.fresh {
		t.Fatalf("%+v, %v", j, err)
	}
	out := bytes.Clone(was)
	data := j.area.End // contents are written at once, only structures through the journal
	copy(out[data:len(out)-copyAt], shall[data:])
	log := out[j.area.Start:j.area.End]
	clear(log)
	head := log[:sector]
	start := int64(len(log)) - 5*sector // it goes on at the beginning soon
	at := start
	put := func(b []byte) {
		for _, c := range b {
			log[at] = c
			if at++; at == int64(len(log)) {
				at = sector
			}
		}
	}
	transaction := func(sectors []int64, from []byte) {
		list := make([]byte, listSize)
		le.PutUint16(list[listCount:], uint16(len(sectors)+2))
		le.PutUint32(list[listBytes:], uint32(listSize+(len(sectors)+1)*sector))
		for i, s := range append([]int64{-1}, sectors...) { // the first was given up
			e := list[listEntries+listEntry*(i+1):]
			le.PutUint64(e, uint64(s))
			le.PutUint32(e[entrySize:], sector)
		}
		le.PutUint32(list[listSum:], journalSum(list[:summed], listSum))
		put(list)
		put(bytes.Repeat([]byte{0xEE}, sector))
		for _, s := range sectors {
			put(from[s*sector : (s+1)*sector])
		}
	}
	var differ []int64
	for s := int64(0); s < data/sector; s++ {
		if b := span.At(s*sector, sector); !j.area.Covers(b) && !bytes.Equal(was[b.Start:b.End], shall[b.Start:b.End]) {
			differ = append(differ, s)
		}
	}
	if len(differ) < 20 {
		t.Fatalf("only %d sectors differ", len(differ))
	}
	wrong := bytes.Repeat([]byte{0x77}, len(was))
	transaction(differ[:10], wrong)
	for all := differ; len(all) > 0; all = all[min(len(all), 200):] {
		transaction(all[:min(len(all), 200)], shall)
	}
	le.PutUint32(head, logMagic)
	le.PutUint32(head[4:], logEndian)
	le.PutUint64(head[logStart:], uint64(start))
	le.PutUint64(head[logEnd:], uint64(at))
	le.PutUint64(head[logSize:], uint64(len(log)))
	le.PutUint32(head[logListSize:], listSize)
	le.PutUint32(head[logHeadSize:], sector)
	le.PutUint32(head[logSum:], journalSum(head[:logHeadLen], logSum))
	binary.BigEndian.PutUint32(out[j.info.Start:], journalHere)
	h := out[headerAt:]
	binary.BigEndian.PutUint32(h[headAttributes:], binary.BigEndian.Uint32(h[headAttributes:])&^flagUnmounted)
	return out
}

// sameContents holds the files of a volume to what they should hold.
func sameContents(t testing.TB, b []byte, want map[string][]byte) {
	t.Helper()
	p, err := Probe(bytes.NewReader(b), int64(len(b)), 512)
	if err != nil {
		t.Fatal(err)
	}
	tree, err := fsys.TreeOf(p)
	if err != nil {
		t.Fatal(err)
	}
	for name, content := range want {
		if got, err := fs.ReadFile(fsys.FS(tree), name); err != nil || !bytes.Equal(got, content) {
			t.Errorf("%s: %d bytes of %d, %v", name, len(got), len(content), err)
		}
	}
}

// TestReplay: a volume whose journal wasn't replayed isn't quiet, and is read as the journal makes it; captured as if
// the power had been cut, everything is there that the journal and the volume need.
func TestReplay(t *testing.T) {
	const size = 24 * units.MiB
	was := build(t, size, []built{{name: "fares", data: bytes.Repeat([]byte("one way 12\n"), 9000), mode: 0o100644}})
	shall, want := ferry(t)
	img := unreplayed(t, was, shall)
	d := &disk.Memory{Bytes: img, Sector: 512}
	p, err := Probe(d, size, 512)
	if err != nil {
		t.Fatal(err)
	}
	c, err := fsys.Judge(t.Context(), p, size)
	if err != nil || c.Maps || !strings.Contains(c.Info.Unclean, "log hasn't been replayed") {
		t.Fatalf("%+v, %v", c.Info, err)
	}
	same := func(b []byte) { sameContents(t, b, want) }
	same(img)
	if err := c.AsCut(t.Context()); err != nil {
		t.Fatal(err)
	}
	kept := bytes.Repeat([]byte{0xA5}, size)
	for sp, err := range c.Spans() {
		if err != nil {
			t.Fatal(err)
		}
		copy(kept[sp.Start:sp.End], img[sp.Start:sp.End])
	}
	same(kept)
	if c.Used > size/2 {
		t.Errorf("%d bytes of %d are kept", c.Used, size)
	}
	// A damaged journal is believed in nothing.
	j, _ := p.(*Volume).raw.journal()
	hurt := bytes.Clone(img)
	hurt[j.area.Start+j.start+20] ^= 1
	p, err = Probe(bytes.NewReader(hurt), size, 512)
	if err != nil || !strings.Contains(p.Info().Unclean, "can't be followed") {
		t.Fatalf("%+v, %v", p, err)
	}
	if _, err := p.(*Volume).Cut(t.Context(), false); err == nil {
		t.Error("a journal that can't be followed is kept as if it could")
	}
}
