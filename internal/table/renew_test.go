package table

import (
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// TestRenewAndAdd gives tables other identities and one more part; everything else stays.
func TestRenewAndAdd(t *testing.T) {
	const size, miB = 100 << 20, 1 << 20
	for _, l := range []Layout{
		{Kind: MBR, Sector: 512, ID: "00b21d9e",
			Parts: []Part{{Number: 1, Span: span.At(miB, 20*miB), Type: "0x07", Active: true},
				{Number: 5, Span: span.At(30*miB, 20*miB), Type: "0x83", Logical: true}}},
		{Kind: GPT, Sector: 4096, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000C100",
			Parts: []Part{{Number: 2, Span: span.At(miB, 20*miB), Type: TypeESP,
				GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000C102", Name: "start", Attrs: 5}}},
	} {
		m := disk.NewMemory(size, l.Sector)
		patches, err := Build(l, size)
		put := func() *Table {
			t.Helper()
			if err != nil {
				t.Fatal(err)
			}
			for _, p := range patches {
				copy(m.Bytes[p.Off:], p.Data)
			}
			got, err := Read(m, size, l.Sector)
			if err != nil || got.Worst() != "" {
				t.Fatalf("%v %+v", err, got)
			}
			return got
		}
		was := put()
		var ids map[string]string
		patches, ids, err = was.Renew(m, func(old string) string {
			if l.Kind == MBR {
				return "0fe11abc"
			}
			return strings.Replace(old, "9C00", "9C77", 1)
		}, size)
		now := put()
		if now.ID == was.ID || len(now.Parts) != len(was.Parts) || len(ids) == 0 {
			t.Errorf("%s: %+v, %v", l.Kind, now, ids)
		}
		for i, p := range now.Parts {
			if q := was.Parts[i]; p.Span != q.Span || p.Type != q.Type || p.Name != q.Name || p.Attrs != q.Attrs ||
				p.Active != q.Active || (p.GUID == q.GUID) != (l.Kind == MBR) {
				t.Errorf("%s: %+v was %+v", l.Kind, p, q)
			}
		}
		number := 0
		patches, number, err = now.Add(m,
			Part{Span: span.At(60*miB, 30*miB), Type: TypeFor(l.Kind, "ext4"),
				GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000C1FF", Name: "spare"}, size)
		more := put()
		found := false
		for _, p := range more.Parts {
			found = found || p.Number == number && p.Span == span.At(60*miB, 30*miB)
		}
		if !found || len(more.Parts) != len(now.Parts)+1 {
			t.Errorf("%s: %d in %+v", l.Kind, number, more.Parts)
		}
		if _, _, err := more.Add(m, Part{Span: span.At(70*miB, miB), Type: TypeFor(l.Kind, "NTFS"), GUID: l.ID},
			size); err == nil {
			t.Errorf("%s: a part over another one is added", l.Kind)
		}
	}
}
