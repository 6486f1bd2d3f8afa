package rehearse

import (
	"bytes"
	"encoding/hex"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/disktest"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

// layout is what a planned disk is composed from.
type layout struct {
	Size    int64
	Moves   []disk.Move
	Patches []disk.Patch
}

// plan moves the first half of a disk of n bytes after the other, onto a larger target, with patches over both.
func plan(n int64) layout {
	half := n / 2
	return layout{Size: n + 1<<20,
		Moves: []disk.Move{{From: span.Span{Start: half, End: n}, To: 0},
			{From: span.Span{End: half}, To: half + 1<<20}},
		Patches: []disk.Patch{{Off: 100, Data: []byte("patched")}, {Off: half, Zeros: 4096},
			{Off: n + 1<<20 - 3, Data: []byte("end")}}}
}

// want are the bytes of the planned disk.
func want(from []byte, p layout) []byte {
	out := make([]byte, p.Size)
	for _, m := range p.Moves {
		copy(out[m.To:], from[m.From.Start:m.From.End])
	}
	for _, x := range p.Patches {
		copy(out[x.Off:], append(bytes.Clone(x.Data), make([]byte, x.Zeros)...))
	}
	return out
}

func TestPlannedConforms(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(32, 3)
	d, err := s.OpenDisk(t.Context(), shelftest.Commit(t, s, "Kiosk", blocks), 0)
	if err != nil {
		t.Fatal(err)
	}
	from := bytes.Join(blocks, nil)
	p := plan(int64(len(from)))
	planned, err := Compose(d, p.Size, 512, p.Moves, p.Patches)
	if err != nil {
		t.Fatal(err)
	}
	disktest.Conform(t, planned, want(from, p))
	for _, at := range []int64{0, p.Size / 2, p.Size - 512} {
		for got := range planned.Sources(span.At(at, 512)) {
			moved := want(from, layout{Size: p.Size, Moves: p.Moves})
			if !bytes.Equal(from[got.Start:got.End], moved[at:][:got.Len()]) {
				t.Errorf("byte %d is said to come from %v", at, got)
			}
			break
		}
	}
}

// TestPiecesTogether: many small moves give few pieces, over short gaps too, and none reaches over the end of a part or
// over a long gap; what is read there is what was put there, and zeros.
func TestPiecesTogether(t *testing.T) {
	const size = 8 << 20
	base := disk.NewMemory(size, 512)
	copy(base.Bytes, testkit.Noise(4, size))
	part := table.Layout{Kind: table.MBR, Sector: 512, ID: "00b21d9e", Parts: []table.Part{
		{Number: 1, Span: span.At(1<<20, 2<<20), Type: "0x07"}, {Number: 2, Span: span.At(3<<20, 4<<20), Type: "0x07"}}}
	patches, err := table.Build(part, size)
	if err != nil {
		t.Fatal(err)
	}
	var moves []disk.Move
	for at := int64(2 << 20); at < 4<<20; at += 32 << 10 { // over the end of a part, each second 16 KiB
		moves = append(moves, disk.Move{From: span.At(size-at, 16<<10), To: at})
	}
	moves = append(moves, disk.Move{From: span.At(0, 4096), To: 5 << 20}, disk.Move{From: span.At(4096, 4096),
		To: 5<<20 + 100<<10}) // too far from each other
	p, err := Compose(base, size, 512, moves, patches)
	if err != nil {
		t.Fatal(err)
	}
	disktest.Conform(t, p, want(base.Bytes, layout{Size: size, Moves: moves, Patches: patches}))
	var got []span.Span
	for x, err := range p.Pieces() {
		if err != nil {
			t.Fatal(err)
		}
		if x.Kind == disk.Data && x.Start >= 1<<20 {
			got = append(got, x.Span)
		}
	}
	expect := []span.Span{span.At(2<<20, 1<<20-16<<10), span.At(3<<20, 1<<20-16<<10), span.At(5<<20, 4096),
		span.At(5<<20+100<<10, 4096)}
	if !slices.Equal(got, expect) {
		t.Errorf("%v, want %v", got, expect)
	}
}

// TestMarkedConforms: a source with marks is a device like any other, with them in their places and nowhere else.
func TestMarkedConforms(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(16, 3)
	d, err := s.OpenDisk(t.Context(), shelftest.Commit(t, s, "Kiosk", blocks), 0)
	if err != nil {
		t.Fatal(err)
	}
	want := bytes.Join(blocks, nil)
	const text = "lost at sea"
	unit := bytes.Repeat([]byte(text+"\n"), 50)[:512]
	places := span.Of(span.At(512, 1024), span.At(int64(len(blocks[0]))-512, 5120), span.At(int64(len(want))-700, 700))
	for sp := range places.All() {
		for at := sp.Start; at < sp.End; at++ {
			want[at] = unit[at%512]
		}
	}
	m, err := Mark(d, places, text)
	if err != nil {
		t.Fatal(err)
	}
	disktest.Conform(t, m, want)
	planned, err := Compose(m, d.Size(), 512, []disk.Move{{From: span.Span{End: d.Size()}}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	disktest.Conform(t, planned, want)
	if got := MarkIn(want[512:]); got != text {
		t.Errorf("the mark reads %q", got)
	}
	if got := MarkIn(blocks[1]); got != "" {
		t.Errorf("where none is it reads %q", got)
	}
}

// TestHurtMapEndures: where a twin's block map is hurt, the rest of the planned disk is named all the same, and what
// lies there counts as data that can't be read.
func TestHurtMapEndures(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(6, 4)
	c := shelftest.Begin(t, s, "Kiosk")
	tw := shelftest.TwinOf(t, c, "Kiosk", blocks, time.Now())
	if err := c.Commit(t.Context(), tw); err != nil {
		t.Fatal(err)
	}
	node := tw.Disks[0].Regions[0].Nodes[0]
	if packs := shelftest.List(t, s, "packs"); len(packs) != 1 {
		t.Fatalf("%d packs", len(packs))
	} else {
		hurtBlock(t, filepath.Join(s.Place(), "packs", packs[0]), node)
	}
	again := shelftest.Reopen(t, s)
	d, err := again.OpenDisk(t.Context(), tw, 0)
	if err != nil {
		t.Fatal(err)
	}
	size := d.Size()
	planned, err := Compose(d, size, 512, []disk.Move{{From: span.Span{End: size}}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	at := int64(0)
	for p, err := range planned.Pieces() {
		if err != nil || p.Start != at || p.Kind != disk.Data {
			t.Fatalf("%+v behind %d: %v", p, at, err)
		}
		if _, err := planned.Read(p, nil); err == nil {
			t.Errorf("%+v can be read", p)
		}
		at = p.End
	}
	if at != size {
		t.Errorf("named to %d of %d", at, size)
	}
}

// hurtBlock turns a bit over in a block of a pack.
func hurtBlock(t *testing.T, pack, name string) {
	t.Helper()
	b, err := os.ReadFile(pack)
	if err != nil {
		t.Fatal(err)
	}
	n, err := hex.DecodeString(name)
	if err != nil {
		t.Fatal(err)
	}
	i := bytes.Index(b, n)
	if i < 0 {
		t.Fatal("the block isn't there")
	}
	shelftest.Flip(t, pack, int64(i)-16+96+1)
}
