package survey_test

import (
	"bytes"
	"errors"
	"os"
	"testing"

	"twinshelf/internal/container"
	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/container/bitlocker/bitlockertest"
	"twinshelf/internal/disk"
	"twinshelf/internal/disk/disktest"
	"twinshelf/internal/lock"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

// TestReveal: a disk without the encryption of its unlocked part conforms, and what is used of it is what the volume
// uses.
func TestReveal(t *testing.T) {
	const miB = 1 << 20
	img, _, _ := bitlockertest.Office(t, bitlocker.XTS128)
	whole := testkit.Image(t, "disk.img", 120*miB)
	l := table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000E0AA"}
	for i, sp := range []span.Span{span.At(miB, 20*miB), span.At(30*miB, 64*miB), span.At(100*miB, 8*miB)} {
		l.Parts = append(l.Parts, table.Part{Number: i + 1, Span: sp, Type: table.TypeLinuxData,
			GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000E0A" + string(rune('1'+i))})
	}
	patches, err := table.Build(l, 120*miB)
	if err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(whole, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range patches {
		if _, err := f.WriteAt(p.Data, p.Off); err != nil {
			t.Fatal(err)
		}
	}
	f.Close()
	fs := testkit.Image(t, "part.img", 20*miB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", fs)
	testkit.Place(t, fs, whole, miB)
	testkit.Place(t, img, whole, 30*miB)
	d, err := disk.Open(whole, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	s, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := survey.Reveal(t.Context(), s.Mapped()); !errors.Is(err, survey.ErrNothingUnlocked) {
		t.Errorf("a locked part is revealed: %v", err)
	}
	locked := s.Locked()
	if len(locked) != 1 {
		t.Fatalf("%d volumes are locked", len(locked))
	}
	ring := &lock.Keyring{}
	t.Cleanup(ring.Wipe)
	k, err := locked[0].Unlock(t.Context(), lock.Secret{Text: []byte(bitlockertest.Recovery)})
	if err != nil {
		t.Fatal(err)
	}
	ring.Add(k)
	ctx := lock.With(t.Context(), ring)
	r, err := survey.Reveal(ctx, s.Mapped())
	if err != nil {
		t.Fatal(err)
	}
	want, err := os.ReadFile(whole)
	if err != nil {
		t.Fatal(err)
	}
	c, err := locked[0].(*bitlocker.Volume).Open(k)
	if err != nil {
		t.Fatal(err)
	}
	plain := container.Open(c.Devices()[0], []container.Member{{R: disk.Section(d, 30*miB, 64*miB), Size: 64 * miB}},
		512)
	if err := disk.ReadFull(plain, want[30*miB:94*miB], 0); err != nil {
		t.Fatal(err)
	}
	if !bytes.Contains(want[30*miB:30*miB+16], []byte("NTFS")) || len(r.Parts) != 1 || r.Parts[0].Number != 2 {
		t.Errorf("%+v", r.Parts)
	}
	disktest.Conform(t, r, want)
	used := int64(0)
	for sp := range disk.Stretches(r, disk.Data) {
		used += sp.Intersect(span.At(30*miB, 64*miB)).Len()
	}
	if used < 3*miB || used > 12*miB {
		t.Errorf("%d bytes of the part are used", used)
	}
}
