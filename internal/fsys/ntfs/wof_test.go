package ntfs_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/lzx/lzxtest"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// packs are the ways in which a system packs files: the number of each, the size of its pieces, and how.
var packs = []struct {
	algorithm uint32
	piece     int
	pack      func([]byte) []byte
}{
	{0, 4 << 10, lzxtest.Xpress}, {2, 8 << 10, lzxtest.Xpress}, {3, 16 << 10, lzxtest.Xpress},
	{1, 32 << 10, func(b []byte) []byte { return lzxtest.LZX(b, lzxtest.Aligned) }},
}

// packedBySystem has a file in a mounted volume be packed as its system would.
func packedBySystem(t testing.TB, path string, size int64, provider, algorithm uint32, stored []byte) {
	t.Helper()
	if err := os.WriteFile(path, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(path, size); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path+":WofCompressedData", stored, 0o600); err != nil {
		t.Fatal(err)
	}
	le := binary.LittleEndian
	b := le.AppendUint32(nil, 0x80000017)
	b = le.AppendUint32(b, 16) // of what follows
	for _, n := range []uint32{1, provider, 1, algorithm} {
		b = le.AppendUint32(b, n)
	}
	if err := syscall.Setxattr(path, "system.ntfs_reparse_data", b, 0); err != nil {
		t.Fatal(err)
	}
}

// packedVolume is a volume with files that are packed in all ways, and what is in them.
func packedVolume(t testing.TB) (img string, want map[string][]byte) {
	t.Helper()
	testkit.Need(t, "mkntfs", "ntfs-3g")
	program, err := os.ReadFile("/bin/busybox")
	if err != nil {
		testkit.Lacks(t, "busybox-static")
	}
	contents := map[string][]byte{"program": program[:600_000], "noise": testkit.Noise(5, 100_000),
		"exact": program[:64<<10], "small": []byte("Pier 2"), "mixed": append(testkit.Noise(6, 40_000),
			bytes.Repeat([]byte("harbour "), 9000)...)}
	img, want = testkit.Image(t, "packed.img", 40*units.MiB), map[string][]byte{}
	testkit.Do(t, "mkntfs", "-Q", "-q", "-F", img)
	testkit.Mounted(t, []string{"ntfs-3g", "-o", "streams_interface=windows", img}, func(point string) {
		for _, p := range packs {
			for name, b := range contents {
				name = fmt.Sprintf("%s %d", name, p.algorithm)
				want[name] = b
				packedBySystem(t, filepath.Join(point, name), int64(len(b)), 2, p.algorithm,
					lzxtest.Chunked(b, p.piece, p.pack))
			}
		}
		packedBySystem(t, filepath.Join(point, "in an image"), 1000, 1, 0, []byte("x"))
		packedBySystem(t, filepath.Join(point, "unknown"), 1000, 2, 9, []byte("x"))
		packedBySystem(t, filepath.Join(point, "too short"), 100_000, 2, 0, []byte("x"))
	})
	return img, want
}

// TestPackedBySystem: files that Windows packed are read, from any byte on; those whose contents are elsewhere, or that
// are packed otherwise, say so.
func TestPackedBySystem(t *testing.T) {
	img, want := packedVolume(t)
	c, _ := fsystest.Examined(t, img, 512)
	if !c.Sound {
		t.Fatal(c.Why)
	}
	tree, err := fsys.TreeOf(c.Volume)
	if err != nil {
		t.Fatal(err)
	}
	for name, b := range want {
		it, err := fsys.Find(tree, name)
		if err != nil {
			t.Fatal(err)
		}
		f, err := tree.Open(it, "")
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		got, err := io.ReadAll(io.NewSectionReader(f, 0, f.Size()))
		if err != nil || !bytes.Equal(got, b) || it.Size != int64(len(b)) {
			t.Errorf("%s: %d of %d bytes, %v", name, len(got), len(b), err)
		}
		for at := len(b) - 1; at >= 0; at -= 7777 {
			some := make([]byte, min(5000, len(b)-at))
			if err := disk.ReadFull(f, some, int64(at)); err != nil || !bytes.Equal(some, b[at:at+len(some)]) {
				t.Fatalf("%s from byte %d on: %v", name, at, err)
			}
		}
		if m, err := tree.More(it); err != nil || len(m.Streams) > 0 || !strings.Contains(m.Remark, "packed by its") {
			t.Errorf("%s: %+v, %v", name, m, err)
		}
	}
	for name, why := range map[string]string{"in an image": "isn't read", "unknown": "isn't read",
		"too short": "is packed into 1"} {
		it, err := fsys.Find(tree, name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := tree.Open(it, ""); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// FuzzPackedBySystem changes bytes of what is packed: nothing panics, and no more is given than there is.
func FuzzPackedBySystem(f *testing.F) {
	img, _ := packedVolume(f)
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		f.Fatal(err)
	}
	f.Cleanup(func() { d.Close() })
	f.Add(uint8(0), uint32(0), []byte{0xFF, 0xFF, 0xFF})
	f.Add(uint8(3), uint32(500), []byte{0xFF, 0, 0xFF})
	names := []string{"small 0", "exact 0", "exact 1", "mixed 2", "program 3"}
	f.Fuzz(func(t *testing.T, which uint8, at uint32, patch []byte) {
		name := names[int(which)%len(names)]
		c, _ := fsystest.Examined(t, img, 512)
		tree, err := fsys.TreeOf(c.Volume)
		if err != nil {
			t.Fatal(err)
		}
		it, err := fsys.Find(tree, name)
		if err != nil {
			t.Fatal(err)
		}
		g, err := tree.Open(it, "")
		if err != nil {
			t.Fatal(err)
		}
		sp := g.Spans()
		if len(sp) == 0 || len(patch) == 0 {
			return
		}
		off := sp[0].Start + int64(at)%sp[0].Len()
		o, err := disk.NewOverlay(d, []disk.Patch{{Off: off, Data: patch[:min(int64(len(patch)), sp[0].End-off)]}},
			d.Size())
		if err != nil {
			return
		}
		fsystest.Endure(t, o)
	})
}
