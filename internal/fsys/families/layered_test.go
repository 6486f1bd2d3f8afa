package families_test

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/disktest"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/testkit"
)

const miB = 1 << 20

func opened(t testing.TB, path string) *disk.File {
	t.Helper()
	d, err := disk.Open(path, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

// filled makes a file system of so many bytes with files of that sort in it, and gives their sums by name.
func filled(t testing.TB, kind string, n int64, sort string) (img string, sums map[string][32]byte) {
	t.Helper()
	img, sums = testkit.Image(t, sort, n), map[string][32]byte{}
	dir := t.TempDir()
	for i := range 60 {
		name := fmt.Sprintf("logbook-%s-%d", sort, i)
		b := testkit.Noise(uint64(i)+uint64(len(sort)), 1000+i*9000)
		sums[name] = sha256.Sum256(b)
		if err := os.WriteFile(filepath.Join(dir, name), b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	testkit.Do(t, "mkfs."+kind, "-q", "-F", "-L", sort, "-d", dir, img)
	return img, sums
}

// desk is a volume group on one physical volume, whose root has two segments with a home between them; a swap too.
func desk(t testing.TB) (pv string, sums map[string]map[string][32]byte) {
	t.Helper()
	testkit.Need(t, "mkfs.ext4", "mkswap", "e2fsck")
	pv = testkit.Image(t, "pv", 300*miB+5*512)
	images := []string{pv}
	testkit.Group(t, "desk", images, []testkit.Logical{{Name: "root", Extents: 25}, {Name: "home", Extents: 15},
		{Name: "swap", Extents: 5}, {Name: "root", Extents: 5}})
	sums = map[string]map[string][32]byte{}
	for name, extents := range map[string]int64{"root": 30, "home": 15} {
		var img string
		img, sums[name] = filled(t, "ext4", extents*4*miB, name)
		testkit.FillLogical(t, "desk/"+name, images, img)
	}
	swap := testkit.Image(t, "swap", 20*miB)
	testkit.Do(t, "mkswap", swap)
	testkit.FillLogical(t, "desk/swap", images, swap)
	return pv, sums
}

// kept is a copy of a part with everything that doesn't count as used overwritten.
func kept(t testing.TB, img string, c *fsys.Content) string {
	t.Helper()
	was, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	b := bytes.Repeat([]byte{0xA5}, len(was))
	for sp, err := range c.Spans() {
		if err != nil {
			t.Fatal(err)
		}
		copy(b[sp.Start:sp.End], was[sp.Start:sp.End])
	}
	out := filepath.Join(t.TempDir(), "kept")
	if err := os.WriteFile(out, b, 0o600); err != nil {
		t.Fatal(err)
	}
	return out
}

// judge has the system's tools look at a logical volume with an ext4 on it, and compares its files.
func judge(t testing.TB, group, name string, images []string, sums map[string][32]byte) {
	t.Helper()
	img := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(img, testkit.LogicalBytes(t, group+"/"+name, images), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "e2fsck", "-fn", img)
	for file, want := range sums {
		out := filepath.Join(t.TempDir(), "out")
		testkit.Do(t, "debugfs", "-R", "dump "+file+" "+out, img)
		if b, err := os.ReadFile(out); err != nil || sha256.Sum256(b) != want {
			t.Errorf("%s/%s: %s isn't what it was (%v)", group, name, file, err)
		}
	}
}

// TestGroupUsedOnly: of a volume group only what its volumes use counts; everything else may be lost.
func TestGroupUsedOnly(t *testing.T) {
	pv, sums := desk(t)
	d := opened(t, pv)
	c, err := families.Examine(t.Context(), d, d.Size(), 512)
	if err != nil || !c.Maps || !c.Sound || c.Info.Kind != "LVM2" || c.Info.Label != "desk" {
		t.Fatalf("%v %+v", err, c)
	}
	if c.Used > 60*miB {
		t.Errorf("%d bytes of it count as used", c.Used)
	}
	images := []string{kept(t, pv, &c)}
	testkit.LVM(t, images, "vgck", "desk")
	for _, name := range []string{"root", "home"} {
		judge(t, "desk", name, images, sums[name])
	}
}

// TestGroupFiles: the files of each volume are in a folder of its name, and say where they lie on the part.
func TestGroupFiles(t *testing.T) {
	pv, sums := desk(t)
	d := opened(t, pv)
	v, err := families.Identify(t.Context(), d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	tree, err := fsys.TreeOf(v)
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	root, err := tree.Root()
	if err != nil {
		t.Fatal(err)
	}
	err = fsys.Walk(tree, root, ".", func(path string, _ fsys.Item, entries []fsys.Entry, err error) error {
		for _, e := range entries {
			want, ok := sums[path][e.Name]
			if !ok {
				continue
			}
			c, err := tree.Open(e.Item, "")
			if err != nil {
				return err
			}
			found++
			b := make([]byte, c.Size())
			if _, err := c.ReadAt(b, 0); err != nil && err != io.EOF {
				return err
			}
			var stored []byte
			for _, sp := range c.Spans() {
				part := make([]byte, sp.Len())
				if err := disk.ReadFull(d, part, sp.Start); err != nil {
					return err
				}
				stored = append(stored, part...)
			}
			if sha256.Sum256(b) != want || !bytes.HasPrefix(stored, b) {
				t.Errorf("%s/%s isn't what it was, or lies elsewhere", path, e.Name)
			}
		}
		return err
	})
	if err != nil || found != 120 {
		t.Errorf("%d files: %v", found, err)
	}
}

// loopDevice is the name of one.
var loopDevice = regexp.MustCompile(`/dev/loop[0-9]+`)

// TestGroupGrows: on a larger part the physical volume, the group, the largest volume and its file system become
// larger; the system's own tools take it for sound, and see the same as if they had done it themselves.
func TestGroupGrows(t *testing.T) {
	testkit.Need(t, "resize2fs")
	for round := range 2 { // the ring of the metadata goes round once
		pv, sums := desk(t)
		for n := range round * 50 {
			testkit.LVM(t, []string{pv}, "vgchange", "--addtag", strings.Repeat("x", 900)+fmt.Sprint(n), "desk")
		}
		larger := testkit.Image(t, "larger", 900*miB)
		testkit.Place(t, pv, larger, 0)
		d := opened(t, pv)
		v, err := families.Identify(t.Context(), d, d.Size(), 512)
		if err != nil {
			t.Fatal(err)
		}
		c, err := v.(fsys.Resizer).Resize(fsys.Bounds{Size: 900 * miB, Sector: 512})
		if err != nil || c.Size != 900*miB || len(c.Moves) > 0 {
			t.Fatalf("%v %+v", err, c)
		}
		testkit.Write(t, larger, c.Patches)
		images := []string{larger}
		testkit.LVM(t, images, "vgck", "desk")
		if out := testkit.LVM(t, images, "pvck", "{0}"); strings.Contains(out, "WARNING: wrong") {
			t.Errorf("pvck says\n%s", out)
		}
		for _, name := range []string{"root", "home"} {
			judge(t, "desk", name, images, sums[name])
		}
		// What the system's tools make of it themselves.
		own := testkit.Image(t, "own", 900*miB)
		testkit.Place(t, pv, own, 0)
		testkit.LVM(t, []string{own}, "pvresize", "{0}")
		testkit.LVM(t, []string{own}, "lvextend", "-l", "+150", "desk/root")
		show := func(img string) string {
			out := testkit.LVM(t, []string{img}, "lvs", "--noheadings", "-o",
				"lv_name,lv_size,seg_count,lv_uuid,seg_le_ranges", "desk") +
				testkit.LVM(t, []string{img}, "vgs", "--noheadings", "-o", "vg_size,vg_free,vg_extent_count")
			return loopDevice.ReplaceAllString(out, "the image") // which one it is attached to doesn't matter
		}
		if ours, theirs := show(larger), show(own); ours != theirs {
			t.Errorf("the group is\n%s\nand by the system's own tools\n%s", ours, theirs)
		}
		now, err := families.Examine(t.Context(), opened(t, larger), 900*miB, 512)
		if err != nil || !now.Maps || now.Info.Size != 900*miB {
			t.Errorf("%v %+v", err, now)
		}
		inner := now.Volume.(fsys.Layered).Inner()
		if inner[0].Name != "desk/root" || inner[0].Size < 700*miB || inner[0].Content.Info.Size < 700*miB {
			t.Errorf("the root has %d bytes, its file system %d", inner[0].Size, inner[0].Content.Info.Size)
		}
	}
}

// TestGroupOnTwo: a striped and a linear volume that lie on two physical volumes are read when both are there; of one
// alone, what lies on it is kept.
func TestGroupOnTwo(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "e2fsck")
	images := []string{testkit.Image(t, "pv0", 150*miB), testkit.Image(t, "pv1", 150*miB)}
	testkit.Group(t, "purser", images, []testkit.Logical{{Name: "cargo", Extents: 40, Stripes: 2},
		{Name: "fares", Extents: 25}})
	sums := map[string]map[string][32]byte{}
	for name, extents := range map[string]int64{"cargo": 40, "fares": 25} {
		var img string
		img, sums[name] = filled(t, "ext4", extents*4*miB, name)
		testkit.FillLogical(t, "purser/"+name, images, img)
	}
	var copies []string
	for i, img := range images {
		d, other := opened(t, img), opened(t, images[1-i])
		alone, err := families.Examine(t.Context(), d, d.Size(), 512)
		if err != nil || !alone.Maps || alone.Used < 110*miB {
			t.Errorf("alone: %v, %d bytes used, %s", err, alone.Used, alone.Why)
		}
		c, err := families.Examine(t.Context(), d, d.Size(), 512,
			families.Member{R: other, Size: other.Size()}, families.Member{R: disk.NewMemory(miB, 512), Size: miB})
		if err != nil || !c.Maps || !c.Sound || c.Used > 60*miB {
			t.Fatalf("%v, %d bytes used, %s %s", err, c.Used, c.Why, c.Doubt)
		}
		for _, x := range c.Volume.(fsys.Layered).Inner() {
			want := testkit.LogicalBytes(t, x.Name, images)
			disktest.Conform(t, x.Device, want)
		}
		copies = append(copies, kept(t, img, &c))
	}
	testkit.LVM(t, copies, "vgck", "purser")
	for name := range sums {
		judge(t, "purser", name, copies, sums[name])
	}
}

// TestGroupThatIsntBelieved: contradictions in what a group says of itself make all of it count.
func TestGroupThatIsntBelieved(t *testing.T) {
	pv, _ := desk(t)
	was, err := os.ReadFile(pv)
	if err != nil {
		t.Fatal(err)
	}
	for name, change := range map[string]func(m *disk.Memory){
		"label":           func(m *disk.Memory) { m.Bytes[512+40] ^= 1 },
		"metadata header": func(m *disk.Memory) { m.Bytes[4096+50] ^= 1 },
		"metadata text": func(m *disk.Memory) {
			m.Bytes[bytes.LastIndex(m.Bytes[:miB], []byte("seqno"))+8] ^= 1
		},
	} {
		m := disk.NewMemory(int64(len(was)), 512)
		copy(m.Bytes, was)
		change(m)
		c, err := families.Examine(t.Context(), m, m.Size(), 512)
		if err != nil || c.Maps || c.Used != m.Size() || c.Why == "" {
			t.Errorf("%s: %v, %d bytes used, %q", name, err, c.Used, c.Why)
		}
		if name != "label" && !strings.Contains(c.Why, "checksum") {
			t.Errorf("%s: %s", name, c.Why)
		}
		var all int64
		for sp := range c.Spans() {
			all += sp.Len()
		}
		if all != m.Size() {
			t.Errorf("%s: %d bytes are kept", name, all)
		}
	}
}
