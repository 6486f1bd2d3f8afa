package ready

import (
	"context"
	"encoding/binary"
	"hash/crc32"
	"os"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// volumeGroup writes the label of a Linux volume group's member.
func volumeGroup(t *testing.T, f *os.File, _ int64) {
	b := make([]byte, 512)
	copy(b, "LABELONE")
	le := binary.LittleEndian
	le.PutUint64(b[8:], 1)
	le.PutUint32(b[20:], 32)
	copy(b[24:], "LVM2 001")
	copy(b[32:], "harbourharbourharbourharbour1234")
	le.PutUint32(b[16:], ^crc32.Update(^uint32(0xf597a6cf), crc32.IEEETable, b[20:]))
	if _, err := f.WriteAt(b, 512); err != nil {
		t.Fatal(err)
	}
}

// raidMember writes the super block of a Linux RAID member, which lies at its end (format 1.0).
func raidMember(t *testing.T, f *os.File, size int64) {
	b := make([]byte, 4096)
	le := binary.LittleEndian
	at := (size/512 - 16) &^ 7
	le.PutUint32(b, 0xa92b4efc)
	le.PutUint32(b[4:], 1)
	copy(b[16:], "harbour-raid-set")
	copy(b[32:], "pier:0")
	le.PutUint32(b[72:], 1)
	le.PutUint32(b[92:], 2)
	le.PutUint64(b[144:], uint64(at))
	sum := uint64(0)
	for i := 0; i < 256; i += 4 {
		sum += uint64(le.Uint32(b[i:]))
	}
	le.PutUint32(b[216:], uint32(sum)+uint32(sum>>32))
	if _, err := f.WriteAt(b, at*512); err != nil {
		t.Fatal(err)
	}
}

// TestNoGhosts: nothing of a RAID or a volume group is recognised after a layout, a format or a quick erase, neither on
// the disk nor on a part.
func TestNoGhosts(t *testing.T) {
	testkit.Need(t, "blkid")
	const size = 200 * units.MiB
	seen := func(img string) string {
		out, _ := testkit.Try("blkid", "-p", "-o", "export", img)
		return out
	}
	for name, ghost := range map[string]func(*testing.T, *os.File, int64){"LVM2_member": volumeGroup,
		"linux_raid_member": raidMember} {
		for _, way := range []string{"layout", "erase"} {
			img := testkit.Image(t, "ghost.img", size)
			f, err := os.OpenFile(img, os.O_RDWR, 0)
			must(t, err)
			ghost(t, f, size)
			f.Close()
			if out := seen(img); !strings.Contains(out, name) {
				t.Fatalf("%s isn't seen before: %s", name, out)
			}
			s, target := looked(t, img, 0)
			if way == "layout" {
				d := Anew(s, 0, table.GPT)
				must(t, d.addMade(d.Gap().Len(), true, "ext4", "oak"))
				carried(t, d, target)
			} else {
				e, err := NewErase(context.Background(), s, target, Quick, Medium{}, 0)
				must(t, err)
				must(t, testkit.Run(t, func(rc *run.Context) error {
					_, err := e.Run(rc, &disk.Guard{}, Keepsakes{t.TempDir()})
					return err
				}))
			}
			if out := seen(img); strings.Contains(out, name) {
				t.Errorf("%s: %s is still seen: %s", way, name, out)
			}
		}
		// On a part: formatting clears what was there.
		img := testkit.Image(t, "part.img", size)
		s, target := looked(t, img, 0)
		d := Anew(s, 0, table.GPT)
		i, err := d.Add(d.Gap(), 100*units.MiB, false)
		must(t, err)
		carried(t, d, target)
		part := testkit.Image(t, "inside", 100*units.MiB)
		f, err := os.OpenFile(part, os.O_RDWR, 0)
		must(t, err)
		ghost(t, f, 100*units.MiB)
		f.Close()
		testkit.Place(t, part, img, d.Parts[i].Span.Start)
		inside := func() string {
			return seen(testkit.Extract(t, img, d.Parts[i].Span.Start, 100*units.MiB))
		}
		if out := inside(); !strings.Contains(out, name) {
			t.Fatalf("%s isn't seen on the part before: %s", name, out)
		}
		for _, kind := range []string{"exFAT", "FAT32", "NTFS", "ext4"} {
			s, target = looked(t, img, 0)
			c, err := Change(s, 0)
			must(t, err)
			must(t, c.SetForm(0, kind, "OAK", 0))
			carried(t, c, target)
			if out := inside(); strings.Contains(out, name) || !strings.Contains(out, "LABEL=OAK") {
				t.Errorf("%s over %s: %s", kind, name, out)
			}
		}
	}
}
