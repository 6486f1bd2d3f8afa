package fit

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// random makes a disk with a random layout and new file systems on some of its parts.
func random(t *testing.T, r *rand.Rand) *disk.Memory {
	t.Helper()
	size := int64(64+r.IntN(192)) * miB
	d := disk.NewMemory(size, 512)
	l := table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-000000000001"}
	if r.IntN(2) == 0 {
		l.Kind, l.ID = table.MBR, "00b21d9e"
	}
	at := int64(miB)
	logical := l.Kind == table.MBR && r.IntN(2) == 0
	kinds := []string{"ext4", "NTFS", "FAT16", "exFAT", ""}
	var made []string
	for n := 1; n <= 4; n++ {
		p := table.Part{Number: n, Type: "0x83"}
		if logical && n > 1 {
			p.Number, p.Logical = n+3, true
		}
		at += int64(1+r.IntN(3)) * miB / 2 / miB * miB
		if p.Logical {
			at += miB
		}
		length := int64(8+r.IntN(24))*miB + int64(r.IntN(3))*512
		if at+length > size-miB {
			break
		}
		p.Span = span.At(at, length)
		at = (p.Span.End + miB - 1) / miB * miB
		if l.Kind == table.GPT {
			p.Type, p.GUID = table.TypeLinuxData, fmt.Sprintf("7A5E0F10-3B1C-4D5A-9C00-00000000001%d", n)
		}
		l.Parts = append(l.Parts, p)
		made = append(made, kinds[r.IntN(len(kinds))])
	}
	patches, err := table.Build(l, size)
	if err != nil {
		t.Fatal(err)
	}
	for i, kind := range made {
		m, err := families.MakerOf(kind)
		if err != nil {
			continue
		}
		p := l.Parts[i]
		fs, err := m.Format(fsys.Form{Kind: kind, Size: p.Span.Len(), Sector: 512, Start: p.Span.Start,
			ID: [16]byte{byte(i + 1), 2, 3}})
		if err != nil {
			continue // too small or too large for it
		}
		for _, q := range fs {
			q.Off += p.Span.Start
			patches = append(patches, q)
		}
	}
	for _, p := range patches {
		copy(d.Bytes[p.Off:], p.Bytes())
	}
	for _, p := range l.Parts { // something in each that must arrive
		copy(d.Bytes[p.Span.Start+p.Span.Len()/2:], fmt.Sprintf("cargo of part %d", p.Number))
	}
	return d
}

// TestRandomPlans: whatever the layout, the target and the wishes, nothing overlaps or gets lost, what was aligned
// stays aligned, the planned table is sound, and the sums are right.
func TestRandomPlans(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 11))
	planned, refused := 0, 0
	for range 250 {
		src := random(t, r)
		tab, err := table.Read(src, src.Size(), 512)
		if err != nil {
			t.Fatal(err)
		}
		target := src.Size() + int64(r.IntN(600)-100)*miB + int64(r.IntN(9))*512
		wish := Wish{Keep: r.IntN(4) == 0, Parts: map[int]PartWish{}}
		for _, p := range tab.Parts {
			switch r.IntN(8) {
			case 0:
				wish.Parts[p.Number] = PartWish{Leave: true}
			case 1:
				wish.Parts[p.Number] = PartWish{Share: 1 + r.IntN(3)}
			case 2:
				wish.Parts[p.Number] = PartWish{Size: p.Span.Len() + int64(r.IntN(100)-20)*miB}
			case 3:
				wish.Parts[p.Number] = PartWish{Least: true}
			}
		}
		p, err := Make(context.Background(), src, disk.Identity{Size: target, Sector: 512}, wish)
		var small *TooSmall
		if errors.As(err, &small) && (small.Need <= target || small.Have != target) {
			t.Fatalf("too small although %d are needed of %d", small.Need, target)
		}
		if err != nil {
			refused++
			continue
		}
		planned++
		check(t, src, p, wish)
		if t.Failed() {
			t.Fatalf("target %d, wish %+v, parts %+v", target, wish, tab.Parts)
		}
	}
	if planned < 100 || refused == 0 {
		t.Errorf("%d planned, %d refused", planned, refused)
	}
}

func check(t *testing.T, src *disk.Memory, p *Layout, wish Wish) {
	t.Helper()
	order, err := disk.Arrange(src, p.Size, p.Moves)
	if err != nil {
		t.Fatal(err)
	}
	o, err := disk.NewOverlay(order, p.Patches, p.Size)
	if err != nil {
		t.Fatal(err)
	}
	now, err := table.Read(o, p.Size, 512)
	if err != nil || now.Worst() != "" || now.Kind != p.Table.Kind || now.ID != p.Table.ID {
		t.Fatalf("the planned table: %v %+v", err, now.Findings)
	}
	at := int64(0)
	for piece, err := range o.Pieces() {
		if err != nil || piece.Start != at || piece.Empty() {
			t.Fatalf("piece %+v begins elsewhere than at %d: %v", piece, at, err)
		}
		at = piece.End
	}
	if at != p.Size {
		t.Errorf("the pieces end at %d of %d", at, p.Size)
	}
	kept := 0
	for _, x := range p.Parts {
		w := wish.Parts[x.Part.Number]
		if x.To.Empty() != w.Leave {
			t.Errorf("part %d left out: %v, wished: %v", x.Part.Number, x.To.Empty(), w.Leave)
		}
		if x.To.Empty() {
			continue
		}
		kept++
		if x.From.Start%miB == 0 && x.To.Start%miB != 0 || x.Shrunk() > 0 && x.Kind != "NTFS" && x.Kind != "ext4" ||
			x.Shrunk()%miB != 0 {
			t.Errorf("part %d goes from %v to %v", x.Part.Number, x.From, x.To)
		}
		found := false
		for _, q := range now.Parts {
			found = found || q.Number == x.Part.Number && q.Span == x.To && q.Type == x.Part.Type &&
				q.GUID == x.Part.GUID && q.Logical == x.Part.Logical
		}
		if !found && !(x.Part.Logical) { // logical parts are counted anew when one before them goes
			t.Errorf("part %d isn't in the planned table at %v: %+v", x.Part.Number, x.To, now.Parts)
		}
		v, err := families.Identify(t.Context(), disk.Section(o, x.To.Start, x.To.Len()), x.To.Len(), 512)
		if x.Kind != "" && (err != nil || v == nil || v.Info().Kind != x.Kind || v.Info().Size != x.Becomes) {
			t.Errorf("part %d should hold %s of %d bytes: %v %+v", x.Part.Number, x.Kind, x.Becomes, err, v)
		}
		if x.Kind == "" || x.Grown() == 0 && x.Shrunk() == 0 {
			b := make([]byte, 16)
			if err := disk.ReadFull(o, b, x.To.Start+x.From.Len()/2); err != nil || string(b[:13]) != "cargo of part" {
				t.Errorf("part %d: its contents are gone: %q %v", x.Part.Number, b, err)
			}
		}
	}
	if len(now.Parts) != kept {
		t.Errorf("%d parts in the table, %d kept", len(now.Parts), kept)
	}
}
