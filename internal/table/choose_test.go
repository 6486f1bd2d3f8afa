package table

import (
	"bytes"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

func TestTypesByName(t *testing.T) {
	for _, k := range []Kind{GPT, MBR} {
		seen := map[string]bool{}
		for _, c := range Types(k) {
			if c.Name == "" || seen[c.Type] {
				t.Errorf("%s: %+v", k, c)
			}
			seen[c.Type] = true
			got, err := TypeNamed(k, strings.ToUpper(c.Name))
			if err != nil || TypeName(got) != c.Name {
				t.Errorf("%s %q gives %s: %v", k, c.Name, got, err)
			}
		}
	}
	for _, c := range []struct {
		kind       Kind
		name, want string
	}{
		{GPT, "linux swap", TypeLinuxSwap},
		{GPT, "c12a7328-f81f-11d2-ba4b-00a0c93ec93b", TypeESP},
		{GPT, "0x83", ""},
		{GPT, "C12A7328-F81F-11D2-BA4B-00A0C93EC9ZZ", ""},
		{MBR, "0x83", "0x83"},
		{MBR, "0xEF", "0xef"},
		{MBR, "0x0", ""},
		{MBR, "0x100", ""},
		{MBR, TypeESP, ""},
		{MBR, "", ""},
	} {
		got, err := TypeNamed(c.kind, c.name)
		if got != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%s %q: %q, %v", c.kind, c.name, got, err)
		}
		if err != nil && !strings.Contains(err.Error(), "choose ") {
			t.Errorf("the error doesn't help: %v", err)
		}
	}
}

// TestBootCodeStays: changing a table leaves what starts the machine in the first sector.
func TestBootCodeStays(t *testing.T) {
	code := bytes.Repeat([]byte{0xFA, 0x33, 0xC0}, 140)
	for _, l := range []Layout{
		{Kind: MBR, Sector: 512, ID: "00b21d9e",
			Parts: []Part{{Number: 1, Span: span.At(1<<20, 4<<20), Type: "0x83", Active: true}}},
		{Kind: GPT, Sector: 512, ID: guidN(1),
			Parts: []Part{{Number: 1, Span: span.At(1<<20, 4<<20), Type: TypeLinuxData, GUID: guidN(2)}}},
	} {
		const size = 16 << 20
		m := written(t, l, size)
		copy(m.Bytes, code[:400])
		l.First = bytes.Clone(m.Bytes[:512])
		l.Parts = append(l.Parts, Part{Number: 2, Span: span.At(6<<20, 2<<20), Type: l.Parts[0].Type, GUID: guidN(3)})
		for _, p := range must(Build(l, size)) {
			if err := p.Write(m, nil); err != nil {
				t.Fatal(err)
			}
		}
		if !bytes.Equal(m.Bytes[:400], code[:400]) {
			t.Errorf("%s: the code is gone", l.Kind)
		}
		if got := read(t, m); len(got.Parts) != 2 || got.Worst() == Damage || got.ID != l.ID {
			t.Errorf("%s: %+v", l.Kind, got)
		}
		l.First = nil
		for _, p := range must(Build(l, size)) {
			if err := p.Write(m, nil); err != nil {
				t.Fatal(err)
			}
		}
		if bytes.Contains(m.Bytes[:440], code[:12]) {
			t.Errorf("%s: a new table keeps old code", l.Kind)
		}
	}
}

// TestUnusualEntryCounts: a table with other than 128 entries is changed as it is.
func TestUnusualEntryCounts(t *testing.T) {
	for _, entries := range []int{4, 56, 128, 256} {
		l := Layout{Kind: GPT, Sector: 512, ID: guidN(1), Entries: entries,
			Parts: []Part{{Number: 3, Span: span.At(1<<20, 1<<20), Type: TypeLinuxData, GUID: guidN(2),
				Name: "ledger"}}}
		got := read(t, written(t, l, 8<<20))
		if got.Entries() != entries || len(got.Parts) != 1 || got.Parts[0].Number != 3 ||
			got.Parts[0].Name != "ledger" {
			t.Errorf("%d entries: %d, %+v", entries, got.Entries(), got.Parts)
		}
		l.Parts[0].Number = entries + 1
		if _, err := Build(l, 8<<20); err == nil || !strings.Contains(err.Error(), "no room") {
			t.Errorf("%d entries: part %d is taken: %v", entries, entries+1, err)
		}
	}
}

func TestBuildRefuses(t *testing.T) {
	ok := Part{Number: 1, Span: span.At(1<<20, 1<<20), Type: TypeLinuxData, GUID: guidN(2)}
	change := func(f func(*Part)) Part { p := ok; f(&p); return p }
	for what, p := range map[string]Part{
		"not on sectors":   change(func(p *Part) { p.Span.Start += 100 }),
		"beyond the end":   change(func(p *Part) { p.Span.End = 9 << 20 }),
		"over the header":  change(func(p *Part) { p.Span = span.At(512, 4096) }),
		"over the back-up": change(func(p *Part) { p.Span.End = 8 << 20 }),
		"no type":          change(func(p *Part) { p.Type = "nonsense" }),
		"no identity":      change(func(p *Part) { p.GUID = "" }),
	} {
		if ps, err := Build(Layout{Kind: GPT, Sector: 512, ID: guidN(1), Parts: []Part{p}}, 8<<20); err == nil {
			t.Errorf("%s: %d patches", what, len(ps))
		}
	}
	if _, err := Build(Layout{Kind: MBR, Sector: 512, ID: "xyz", Parts: nil}, 8<<20); err == nil {
		t.Error("a signature that is none")
	}
	if _, err := Build(Layout{Kind: GPT, Sector: 512, ID: guidN(1),
		Parts: []Part{ok, change(func(p *Part) { p.Number = 2 })}}, 8<<20); err == nil {
		t.Error("two parts in one place")
	}
	var ps []disk.Patch = must(Build(Layout{Kind: GPT, Sector: 4096, ID: guidN(1), Parts: []Part{ok}}, 8<<20))
	if _, err := disk.SortPatches(ps, 8<<20); err != nil {
		t.Error(err)
	}
}
