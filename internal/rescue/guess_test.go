package rescue_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// TestCopiesOfStructures: where a boot sector, a super block, a table of clusters or the first file records can't be
// read, the copies tell what is in use: that comes before the rest of the part, files have names, and in the end all of
// the part is got.
func TestCopiesOfStructures(t *testing.T) {
	testkit.Need(t, "mkfs.fat", "mkfs.ext4", "mkntfs", "mkfs.exfat", "mcopy", "ntfscp")
	const at, size = units.MiB, 100 * units.MiB
	letter := filepath.Join(t.TempDir(), "letter.dat")
	if err := os.WriteFile(letter, testkit.Noise(8, 300_000), 0o600); err != nil {
		t.Fatal(err)
	}
	kinds := map[string]func(img string){
		"FAT32": func(img string) {
			testkit.Do(t, "mkfs.fat", "-F", "32", img)
			testkit.Do(t, "mcopy", "-i", img, letter, "::letter.dat")
		},
		"ext4": func(img string) { testkit.Do(t, "mkfs.ext4", "-q", "-d", filepath.Dir(letter), img) },
		"NTFS": func(img string) {
			testkit.Do(t, "mkntfs", "-Q", "-F", img)
			testkit.Do(t, "ntfscp", img, letter, "letter.dat")
		},
		"exFAT": func(img string) { testkit.Do(t, "mkfs.exfat", img) },
	}
	for _, c := range []struct {
		kind string
		bad  span.Span // of the part
	}{{"FAT32", span.At(0, 512)}, {"FAT32", span.At(32*512, 512)}, {"ext4", span.At(1024, 1024)}, {"ext4",
		span.At(2048, 1024)},
		{"NTFS", span.At(0, 512)}, {"NTFS", span.At(16384, 1024)}, {"exFAT", span.At(0, 512)}} {
		name := fmt.Sprintf("%s at %d", c.kind, c.bad.Start)
		part := testkit.Image(t, strings.ReplaceAll(name, " ", "-"), size)
		kinds[c.kind](part)
		img := filepath.Join(t.TempDir(), "crane.img")
		testkit.Sparse(t, img, 110*units.MiB)
		testkit.WriteTable(t, img, table.Layout{Kind: table.MBR, Sector: 512, ID: "0c4a9e01", Parts: []table.Part{
			{Number: 1, Span: span.At(at, size), Type: "0x83"}}}, 110*units.MiB)
		testkit.Place(t, part, img, at)
		bad := span.Of(c.bad.Shift(at))
		want := used(t, opened(t, img))
		s := newShelf(t)
		d := &dying{Device: plain{opened(t, img)}, bad: bad}
		twin, notes := sitWithNotes(t, s, d)
		holds(t, s, twin, opened(t, img), span.Of(span.At(at, size)))
		if twin.Rescue.Mapped || !twin.Disks[0].Missing.Equal(bad) {
			t.Errorf("%s: mapped %v, missing %v", name, twin.Rescue.Mapped, twin.Disks[0].Missing)
		}
		if !strings.Contains(notes, "by the copies that its file system ("+c.kind) {
			t.Errorf("%s: %s", name, notes)
		}
		// What was read with the bad place has its turn later.
		near := span.At((at+c.bad.Start)/(64<<10)*(64<<10), 64<<10)
		usedBeforeRest(t, name, d, want.Clip(span.At(at, size)).Subtract(span.Of(near)))
	}
}

// sitWithNotes runs a sitting, and gives what it noted.
func sitWithNotes(t *testing.T, s *shelf.Shelf, d *dying) (twin *shelf.Twin, notes string) {
	t.Helper()
	p := planOf(s, d)
	r := run.Start(t.Context(), "Rescue", nil, nil, func(rc *run.Context) (err error) {
		twin, err = p.Run(rc)
		return err
	})
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	return twin, strings.Join(r.Snapshot().Notes, "\n")
}

// usedBeforeRest: when all that is used was read, hardly anything else of the part was.
func usedBeforeRest(t *testing.T, name string, d *dying, used span.Set) {
	t.Helper()
	var seen span.Set
	for _, sp := range d.seen {
		if used.Subtract(seen).Empty() {
			break
		}
		seen.Add(sp)
	}
	if over := seen.Clip(span.At(units.MiB, 100*units.MiB)).Subtract(used).Total(); over > 24*units.MiB {
		t.Errorf("%s: %s were read that nobody uses before all that is used was", name, units.Bytes(over))
	}
}
