package survey_test

import (
	"bytes"
	"os"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/container/ldm/ldmtest"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
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

// TestDynamic: of dynamic disks, one by MBR and one by GPT, only what their volumes' file systems use is taken, of
// spanned, striped and mirrored ones too, and all of it is there; one of them alone is taken by what it can tell.
func TestDynamic(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfsfix", "mkfs.ext4", "e2fsck", "mkfs.fat")
	const sectors = 96 * miB / 512
	g := ldmtest.Office(testkit.Image(t, "a.img", 300*miB), testkit.Image(t, "b.img", 224*miB), sectors)
	g.Write(t)
	ntfs := []string{"mkntfs", "-Q", "-F", "-q"}
	for v, mkfs := range [][]string{ntfs, ntfs, {"mkfs.ext4", "-q", "-F"}, {"mkfs.fat", "-F", "32"}} {
		fs := testkit.Image(t, "fs", sectors*512)
		testkit.Do(t, mkfs[0], append(mkfs[1:], fs)...)
		g.Fill(t, v, fs)
	}
	alone := []*survey.Survey{surveyed(t, g.Disks[0].Image), surveyed(t, g.Disks[1].Image)}
	joined, err := survey.Joined(t.Context(), alone)
	if err != nil {
		t.Fatal(err)
	}
	copies := g
	copies.Disks = slices.Clone(g.Disks)
	for i, s := range joined {
		part := s.Parts()[len(s.Parts())-1]
		if c := part.Content; !c.Maps || c.Used > 60*miB || !c.Sound {
			t.Errorf("disk %d: %v, %d bytes, %s; %s", i, c.Maps, c.Used, c.Why, c.Doubt)
		}
		was := alone[i].Parts()[len(alone[i].Parts())-1].Content
		if !was.Maps || was.Used < 96*miB {
			t.Errorf("disk %d alone: %v, %d bytes", i, was.Maps, was.Used)
		}
		copies.Disks[i].Image = kept(t, g.Disks[i].Image, s)
	}
	for v, check := range [][]string{{"ntfsfix", "-n"}, {"ntfsfix", "-n"}, {"e2fsck", "-fn"}, {"fsck.fat", "-n"}} {
		for m := range g.Volumes[v].Mirrors {
			out := testkit.Image(t, "out", sectors*512)
			if err := os.WriteFile(out, copies.Bytes(t, v, m), 0o600); err != nil {
				t.Fatal(err)
			}
			testkit.Do(t, check[0], append(check[1:], out)...)
		}
	}
	tree, err := fsys.TreeOf(joined[0].Parts()[0].Content.Volume)
	if err != nil {
		t.Fatal(err)
	}
	root, err := tree.Root()
	if err != nil {
		t.Fatal(err)
	}
	for it, err := range tree.List(root) {
		if err != nil || it.Attr&(fsys.Hidden|fsys.System) != 0 {
			t.Errorf("%s: %v, hidden as the root of NTFS is", it.Name, err)
		}
	}
	if role := joined[0].Parts()[0].Role; role != table.RoleData {
		t.Errorf("it is taken for %s", role)
	}
	words := strings.Join(joined[0].Parts()[0].InnerWords(), "\n")
	for _, want := range []string{"Volume1, ", "Stripe1, ", "Volume3 mirror 1, ", "NTFS", "ext4"} {
		if !strings.Contains(words, want) {
			t.Errorf("no %q in %s", want, words)
		}
	}
}

// TestDynamicLargerThanItsParts: a volume over two disks that is larger than either of their parts, spanned or striped,
// begins with a file system that no part could hold; it is looked into all the same.
func TestDynamicLargerThanItsParts(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfsfix")
	const half = 60 * miB / 512
	pieces := []ldmtest.Piece{{Disk: 0, Size: half}, {Disk: 1, Size: half}}
	for _, c := range []ldmtest.Component{{Layout: ldmtest.Spanned, Pieces: pieces},
		{Layout: ldmtest.Striped, Stripe: 128, Pieces: pieces}} {
		g := ldmtest.Group{Name: "DOCK-Dg0", Committed: 3, Status: 1, Disks: []ldmtest.Disk{
			{Image: testkit.Image(t, "a.img", 64*miB)}, {Image: testkit.Image(t, "b.img", 64*miB), GPT: true}},
			Volumes: []ldmtest.Volume{{Name: "Volume1", Size: 2 * half, Mirrors: []ldmtest.Component{c}}}}
		g.Write(t)
		fs := testkit.Image(t, "fs", 2*half*512)
		testkit.Do(t, "mkntfs", "-Q", "-F", "-q", fs)
		g.Fill(t, 0, fs)
		joined, err := survey.Joined(t.Context(), []*survey.Survey{surveyed(t, g.Disks[0].Image),
			surveyed(t, g.Disks[1].Image)})
		if err != nil {
			t.Fatal(err)
		}
		copies := g
		copies.Disks = slices.Clone(g.Disks)
		for i, s := range joined {
			part := s.Parts()[len(s.Parts())-1]
			if x := part.Content; !x.Maps || x.Used > 20*miB || len(part.Inner()) != 1 {
				t.Errorf("layout %d, disk %d: %v, %d bytes, %s", c.Layout, i, x.Maps, x.Used, x.Why)
			}
			copies.Disks[i].Image = kept(t, g.Disks[i].Image, s)
		}
		out := testkit.Image(t, "out", 2*half*512)
		if err := os.WriteFile(out, copies.Bytes(t, 0, 0), 0o600); err != nil {
			t.Fatal(err)
		}
		testkit.Do(t, "ntfsfix", "-n", out)
	}
}
