package apfs_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/apfs"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/names"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// The containers in testdata were made by mkapfs, and filled by the driver of the package apfs-dkms in an emulated
// machine: files; and then, in the second one, a snapshot called "noon", and more files. That driver isn't part
// of the kernel, so it is there to make them again (TWINSHELF_UPDATE=1, with that package and linux-headers-amd64), and
// the tests read what it left. The checker, which is older than the driver, takes no snapshots of it.
const (
	volumeName   = "Macintosh HD"
	snapshotName = "noon"
	imageSize    = 600 * units.MiB
)

// TestMakeContainers makes the containers of testdata again, when that is asked for.
func TestMakeContainers(t *testing.T) {
	if os.Getenv("TWINSHELF_UPDATE") == "" {
		return
	}
	img := testkit.Image(t, "ferry.img", imageSize)
	testkit.Do(t, "mkapfs", "-L", volumeName, img)
	modules := []string{"crc32c_generic", "libcrc32c", "apfs"}
	packed(t, "ferry", img, testkit.FilledByKernel(t, img, "apfs", "readwrite", 700, modules...))
	testkit.Do(t, "apfsck", img)
	packed(t, "noon", img, testkit.WorkedOnByKernel(t, img, "apfs", "readwrite", "filler snap /mnt "+
		""+snapshotName+` && mkdir /mnt/later
for i in 1 2 3 4 5 6 7 8 9; do seq $i 3000 > /mnt/later/$i; done
rm /mnt/later/4
mv "/mnt/grown 700 2" /mnt/later/moved`, modules...))
}

// packed keeps a container, and what the driver saw in it.
func packed(t testing.TB, name, img string, all []testkit.Seen) {
	t.Helper()
	raw, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	list, err := json.Marshal(all)
	if err != nil {
		t.Fatal(err)
	}
	z, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBestCompression))
	if err != nil {
		t.Fatal(err)
	}
	for ext, b := range map[string][]byte{".img.zst": raw, ".json.zst": list} {
		if err := os.WriteFile(filepath.Join("testdata", name+ext), z.EncodeAll(b, nil), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// container is one of testdata as an image, and what is in it.
func container(t testing.TB, name string) (string, []testkit.Seen) {
	t.Helper()
	var s []testkit.Seen
	if err := json.Unmarshal(apfs.Unpacked(t, name+".json.zst"), &s); err != nil {
		t.Fatal(err)
	}
	return apfs.Image(t, name), s
}

// driver is the kernel's: it writes "osx." before attributes, shows the target of a link as one, and keeps the numbers
// of devices as the kernel has them.
var driver = testkit.Driver{OtherDevices: true, Name: func(name string) string { return name },
	Attr: func(name string) string {
		name = strings.TrimPrefix(name, "osx.")
		if name == "com.apple.fs.symlink" {
			return ""
		}
		return name
	}}

// look compares the files of a container with what the driver saw in its volume, and in the snapshot, if there is one.
func look(t testing.TB, img string, now, noon []testkit.Seen) {
	t.Helper()
	c, _ := fsystest.Examined(t, img, 512)
	tree, err := fsys.TreeOf(c.Volume)
	if err != nil {
		t.Fatal(err)
	}
	sameIn(t, tree, now, noon)
}

// sameIn is look in a tree.
func sameIn(t testing.TB, tree fsys.Tree, now, noon []testkit.Seen) {
	t.Helper()
	root, err := tree.Root()
	if err != nil {
		t.Fatal(err)
	}
	folders, err := fsys.Entries(tree, root)
	if err != nil || folders[0].Name != volumeName ||
		len(folders) == 2 && !strings.HasSuffix(folders[1].Name, "("+snapshotName+")") {
		t.Fatalf("%v, %v", folders, err)
	}
	all := []testkit.Seen{{Path: ".", Mode: 0o040755, Second: root.Modified.Unix()}}
	for i, list := range [][]testkit.Seen{now, noon}[:len(folders)] {
		for _, x := range list {
			x.Path = filepath.Join(folders[i].Name, x.Path)
			all = append(all, x)
		}
	}
	testkit.SameAsSeen(t, tree, all, driver)
}

// TestContainer: the volume has what the driver saw, every byte of it, and of what isn't kept nothing is missing to our
// reader nor to the checker.
func TestContainer(t *testing.T) {
	testkit.Need(t, "apfsck")
	img, all := container(t, "ferry")
	look(t, img, all, nil)
	kept := fsystest.Kept(t, img, 512)
	testkit.Do(t, "apfsck", kept)
	look(t, kept, all, nil)
	c, d := fsystest.Examined(t, img, 512)
	if c.Used > d.Size()/8 || c.Info.Label != volumeName {
		t.Errorf("%d bytes are used of %q", c.Used, c.Info.Label)
	}
	if out := testkit.Do(t, "blkid", "-p", "-o", "value", "-s", "UUID", img); strings.TrimSpace(out) != c.Info.ID {
		t.Errorf("it is known as %s, not %s", out, c.Info.ID)
	}
}

// nowhere keeps no chunk.
type nowhere struct{}

func (nowhere) Put(context.Context, []byte) (string, error) { return "", nil }

// TestSnapshot: a snapshot has what was there when it was taken, beside the volume as it is.
func TestSnapshot(t *testing.T) {
	_, before := container(t, "ferry")
	img, now := container(t, "noon")
	if len(now) <= len(before) {
		t.Fatal("nothing was done after it")
	}
	look(t, img, now, before)
	c, _ := fsystest.Examined(t, img, 512)
	tree, err := fsys.TreeOf(c.Volume)
	if err != nil {
		t.Fatal(err)
	}
	// All of it can be walked: no two folders are taken for one. An index of names leaves the snapshot out.
	root, _ := tree.Root()
	n := 0
	if err := fsys.Walk(tree, root, ".", func(_ string, _ fsys.Item, all []fsys.Entry, err error) error {
		n += len(all)
		return err
	}); err != nil || n != len(now)+len(before) {
		t.Errorf("%d files and folders, not %d and %d: %v", n, len(now), len(before), err)
	}
	made, err := names.Make(t.Context(), tree, nowhere{})
	if err != nil || made.Items != int64(len(now))+1 || len(made.Causes) > 0 {
		t.Errorf("%+v, %v", made, err)
	}
	look(t, fsystest.Kept(t, img, 512), now, before)
}

// TestConforms holds the container to what everything counts on.
func TestConforms(t *testing.T) {
	img, _ := container(t, "ferry")
	c, _ := fsystest.Examined(t, img, 512)
	tree, err := fsys.TreeOf(c.Volume)
	if err != nil {
		t.Fatal(err)
	}
	sums := map[string][32]byte{}
	files := fsys.FS(tree)
	if err := fs.WalkDir(files, ".", func(path string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		f, err := files.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		b, err := io.ReadAll(f)
		sums[path] = sha256.Sum256(b)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	fsystest.Conform(t, fsystest.Volume{Image: img, Sector: 512, Files: sums, Check: func(t testing.TB, img string) {
		t.Helper()
		testkit.Do(t, "apfsck", img)
	}})
}

// TestMapsThatLie: a block that a file has and its bitmap calls free is found.
func TestMapsThatLie(t *testing.T) {
	img, all := container(t, "ferry")
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	v, err := apfs.Probe(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	tree, _ := fsys.TreeOf(v)
	i := slices.IndexFunc(all, func(x testkit.Seen) bool { return x.Mode&0o170000 == 0o100000 && x.Size > 10_000 })
	it, err := fsys.Find(tree, filepath.Join(volumeName, all[i].Path))
	if err != nil {
		t.Fatal(err)
	}
	f, err := tree.Open(it, "")
	if err != nil {
		t.Fatal(err)
	}
	lost := f.Spans()[0]
	kept := func(yield func(sp span.Span, err error) bool) {
		for sp, err := range v.Used() {
			if sp.Start <= lost.Start && lost.Start < sp.End {
				if !yield(span.Span{Start: sp.Start, End: lost.Start}, err) ||
					!yield(span.Span{Start: lost.Start + 4096, End: sp.End}, err) {
					return
				}
			} else if !yield(sp, err) {
				return
			}
		}
	}
	var missing *fsys.NotKept
	err = fsys.CheckKept(t.Context(), v.(fsys.Accountable), kept)
	if !errors.As(err, &missing) || missing.At != lost.Start {
		t.Errorf("byte %d isn't kept: %v", lost.Start, err)
	}
}

// TestNotKnown: what isn't known is said, and nothing of it believed.
func TestNotKnown(t *testing.T) {
	d, err := disk.Open(apfs.Image(t, "ferry"), disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	head := make([]byte, 100*4096)
	if err := disk.ReadFull(d, head, 0); err != nil {
		t.Fatal(err)
	}
	for why, change := range map[string]func(b []byte){
		"blocks of 1024":            func(b []byte) { copy(b[36:], []byte{0, 4, 0, 0}) },
		"claims":                    func(b []byte) { b[44] = 1 },
		"several pieces":            func(b []byte) { b[107] |= 0x80 },
		"none of its checkpoints":   func(b []byte) { clear(b[4096:]) },
		"checkpoints should lie in": func(b []byte) { clear(b[112:120]) },
	} {
		c := bytes.Clone(head)
		change(c)
		o, err := disk.NewOverlay(d, []disk.Patch{{Data: c}}, d.Size())
		if err != nil {
			t.Fatal(err)
		}
		v, err := apfs.Probe(o, o.Size(), 512)
		if err == nil || !strings.Contains(fmt.Sprint(err), why) {
			t.Errorf("%s: %v, %v", why, v != nil, err)
		}
	}
}
