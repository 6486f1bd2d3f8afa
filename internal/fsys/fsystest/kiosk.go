package fsystest

import (
	"bytes"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// Kiosk is a small disk in memory: a GPT with a FAT16 and an ext4, both new, and room after them.
func Kiosk(t testing.TB) *disk.Memory {
	t.Helper()
	const size, miB = 26 << 20, 1 << 20
	const guid = "7A5E0F10-3B1C-4D5A-9C00-00000000000"
	m := disk.NewMemory(size, 512)
	l := table.Layout{Kind: table.GPT, Sector: 512, ID: guid + "1", Parts: []table.Part{
		{Number: 1, Span: span.At(miB, 10*miB), Type: table.TypeMSBasicData, GUID: guid + "2"},
		{Number: 2, Span: span.At(11*miB, 13*miB), Type: table.TypeLinuxData, GUID: guid + "3"}}}
	patches, err := table.Build(l, size)
	if err != nil {
		t.Fatal(err)
	}
	for i, kind := range []string{"FAT16", "ext4"} {
		maker, err := families.MakerOf(kind)
		if err != nil {
			t.Fatal(err)
		}
		at := l.Parts[i].Span
		volume, err := maker.Format(fsys.Form{Kind: kind, Label: "KIOSK", Size: at.Len(), Sector: 512, Start: at.Start,
			ID: [16]byte{7, byte(i)}})
		if err != nil {
			t.Fatal(err)
		}
		for _, q := range volume {
			q.Off += at.Start
			patches = append(patches, q)
		}
	}
	for _, q := range patches {
		copy(m.Bytes[q.Off:q.Span().End], append(bytes.Clone(q.Bytes()), make([]byte, q.Zeros)...))
	}
	return m
}
