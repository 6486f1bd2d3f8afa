package survey_test

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

const miB = 1 << 20

// surveyed looks at an image.
func surveyed(t *testing.T, path string) *survey.Survey {
	t.Helper()
	d, err := disk.Open(path, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	s, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestJoined: of a volume group over two whole disks, of which one bears no description, each alone is taken by what
// volumes occupy or whole; joined, only what the file system uses is taken, and it is all there.
func TestJoined(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "e2fsck")
	images := []string{testkit.Image(t, "a.img", 60*miB), testkit.Image(t, "b.img", 60*miB)}
	testkit.LVM(t, images[:1], "pvcreate", "-y", "--dataalignment", "3m", "{0}")
	testkit.LVM(t, images[1:], "pvcreate", "-y", "--metadatacopies", "0", "{0}")
	testkit.LVM(t, images, "vgcreate", "tern", "{0}", "{1}")
	testkit.LVM(t, images, "lvcreate", "-an", "-Zn", "-Wn", "-n", "big", "-l", "24", "tern")
	fs := testkit.Image(t, "fs", 96*miB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", fs)
	testkit.FillLogical(t, "tern/big", images, fs)

	var alone []*survey.Survey
	for _, img := range images {
		alone = append(alone, surveyed(t, img))
	}
	if c := alone[0].Areas[0].Content; !c.Maps || c.Used < 40*miB {
		t.Errorf("the one that describes the group, alone: %v, %d bytes", c.Maps, c.Used)
	}
	if c := alone[1].Areas[0].Content; c.Maps || !strings.Contains(c.Why, "no metadata") {
		t.Errorf("the one that doesn't, alone: %v %s", c.Maps, c.Why)
	}
	joined, err := survey.Joined(t.Context(), alone)
	if err != nil {
		t.Fatal(err)
	}
	var copies []string
	for i, s := range joined {
		c := &s.Areas[0].Content
		if !c.Maps || c.Used > 20*miB || len(s.Areas[0].Inner()) != 1 || alone[i].Areas[0].Content.Used < c.Used {
			t.Fatalf("joined: %v, %d bytes, %s", c.Maps, c.Used, c.Why)
		}
		copies = append(copies, kept(t, images[i], s))
	}
	testkit.LVM(t, copies, "vgck", "tern")
	out := testkit.Image(t, "out", 96*miB)
	if err := os.WriteFile(out, testkit.LogicalBytes(t, "tern/big", copies), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "e2fsck", "-fn", out)
}

// TestJoinedKeepsWishes: what shall be taken whole is taken whole, joined or not.
func TestJoinedKeepsWishes(t *testing.T) {
	images := []string{testkit.Image(t, "a.img", 40*miB), testkit.Image(t, "b.img", 40*miB)}
	testkit.Group(t, "gull", images, []testkit.Logical{{Name: "both", Extents: 14}})
	a, b := surveyed(t, images[0]), surveyed(t, images[1])
	a.TakeWhole("it was wanted")
	joined, err := survey.Joined(t.Context(), []*survey.Survey{a, b})
	if err != nil {
		t.Fatal(err)
	}
	if joined[0].Areas[0].Content.Maps || joined[0].Areas[0].Content.Why != "it was wanted" {
		t.Errorf("%+v", joined[0].Areas[0].Content)
	}
	if one, err := survey.Joined(t.Context(), []*survey.Survey{b}); err != nil || one[0] != b {
		t.Errorf("a disk by itself is looked at again: %v", err)
	}
}

// kept is a copy of an image with everything else than what is taken overwritten.
func kept(t *testing.T, img string, s *survey.Survey) string {
	t.Helper()
	was, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	b := bytes.Repeat([]byte{0x5A}, len(was))
	for p, err := range s.Mapped().Pieces() {
		if err != nil {
			t.Fatal(err)
		}
		if p.Kind != disk.Undefined {
			copy(b[p.Start:p.End], was[p.Start:p.End])
		}
	}
	out := testkit.Image(t, "kept", int64(len(b)))
	if err := os.WriteFile(out, b, 0o600); err != nil {
		t.Fatal(err)
	}
	return out
}
