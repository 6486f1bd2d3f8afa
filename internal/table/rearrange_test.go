package table

import (
	"bytes"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// over reads the table of a disk with patches laid over it.
func over(t *testing.T, m *disk.Memory, size int64, patches []disk.Patch) (*Table, *disk.Memory) {
	t.Helper()
	n := disk.NewMemory(size, m.SectorSize())
	copy(n.Bytes, m.Bytes[:min(len(m.Bytes), 1<<20)])
	for _, p := range patches {
		copy(n.Bytes[p.Off:], p.Data)
	}
	return read(t, n), n
}

// rearranged gives the parts of a disk that begins with "boot code" other places on one of 128 MiB: all of them are
// there, and so are the disk's identity and its boot code.
func rearranged(t *testing.T, was *Table, m *disk.Memory, places map[int]span.Span) *Table {
	t.Helper()
	patches, err := was.Rearrange(m, places, 128<<20)
	if err != nil {
		t.Fatal(err)
	}
	now, n := over(t, m, 128<<20, patches)
	if now.Worst() != "" || now.ID != was.ID || len(now.Parts) != len(was.Parts) ||
		!bytes.HasPrefix(n.Bytes, []byte("boot code")) {
		t.Fatalf("%+v", now)
	}
	return now
}

// TestRearrangeKeepsTheRest: only places change; identities, names, attributes, order and boot code stay.
func TestRearrangeKeepsTheRest(t *testing.T) {
	for _, sector := range []int{512, 4096} {
		l := gptLayout(sector, 128)
		m := written(t, l, 64<<20)
		copy(m.Bytes, "boot code")
		was := read(t, m)
		places := map[int]span.Span{}
		shift := int64(0)
		for _, p := range was.Parts {
			sp := p.Span.Shift(shift)
			sp.End += 2 << 20
			shift += 2 << 20
			places[p.Number] = sp
		}
		now := rearranged(t, was, m, places)
		for i, p := range now.Parts {
			q := was.Parts[i]
			q.Span = places[q.Number]
			if p != q {
				t.Errorf("part %+v, want %+v", p, q)
			}
		}
		delete(places, was.Parts[0].Number)
		patches, err := was.Rearrange(m, places, 128<<20)
		if err != nil {
			t.Fatal(err)
		}
		if now, _ := over(t, m, 128<<20, patches); len(now.Parts) != len(was.Parts)-1 ||
			now.Parts[0].Number != was.Parts[1].Number {
			t.Errorf("a part that was left out: %+v", now.Parts)
		}
		places[2] = span.At(64<<20, 128<<20)
		if _, err := was.Rearrange(m, places, 128<<20); err == nil {
			t.Error("a part beyond the end is taken")
		}
		places[2] = span.At(100, int64(sector))
		if _, err := was.Rearrange(m, places, 128<<20); err == nil || !strings.Contains(err.Error(), "whole sectors") {
			t.Errorf("%v", err)
		}
	}
}

// TestRearrangeChain moves the parts of an extended chain, and leaves one of them out.
func TestRearrangeChain(t *testing.T) {
	l := mbrLayout()
	m := written(t, l, 64<<20)
	copy(m.Bytes, "boot code")
	was := read(t, m)
	places := map[int]span.Span{}
	for _, p := range was.Parts {
		places[p.Number] = p.Span
		if p.Logical {
			places[p.Number] = p.Span.Shift(8 << 20)
		}
	}
	now := rearranged(t, was, m, places)
	for i, p := range now.Parts {
		q := was.Parts[i]
		if p.Span != places[q.Number] || p.Type != q.Type || p.Active != q.Active || p.Logical != q.Logical ||
			q.Logical && p.TableAt != q.TableAt+8<<20 {
			t.Errorf("part %+v was %+v", p, q)
		}
	}
	left := 0
	for _, p := range was.Parts {
		if p.Logical && left == 0 {
			left = p.Number
			delete(places, p.Number)
		}
	}
	patches, err := was.Rearrange(m, places, 128<<20)
	if err != nil {
		t.Fatal(err)
	}
	if now, _ := over(t, m, 128<<20, patches); now.Worst() != "" || len(now.Parts) != len(was.Parts)-1 {
		t.Errorf("without part %d: %+v", left, now.Parts)
	}
	for _, p := range was.Parts {
		places[p.Number] = span.At((1<<41)+p.Span.Start, p.Span.Len())
	}
	if _, err := was.Rearrange(m, places, 4<<40); err == nil ||
		!strings.Contains(err.Error(), "beyond what an MBR can address") {
		t.Errorf("%v", err)
	}
}

func TestCHS(t *testing.T) {
	for _, c := range []struct {
		lba  int64
		want [3]byte
	}{{0, [3]byte{0, 1, 0}}, {62, [3]byte{0, 63, 0}}, {63, [3]byte{1, 1, 0}}, {16065 * 300, [3]byte{0, 1 | 0x40, 44}},
		{16065 * 1023, [3]byte{0, 1 | 0xC0, 255}}, {16065 * 1024, [3]byte{254, 63 | 0xC0, 255}}} {
		var b [3]byte
		if putCHS(b[:], c.lba); b != c.want {
			t.Errorf("sector %d: %v, want %v", c.lba, b, c.want)
		}
	}
}
