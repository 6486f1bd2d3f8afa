package ntfs_test

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// beside are the attributes of NTFS itself that the tests look at.
var beside = []string{"system.ntfs_acl", "system.ntfs_object_id", "system.ntfs_ea"}

// purser is a descriptor of our own: Administrators own it, SYSTEM has full control, Users read, and Guests never do.
var purser = []byte{1, 0, 4, 0x80, 0x5C, 0, 0, 0, 0x5C, 0, 0, 0, 0, 0, 0, 0, 0x14, 0, 0, 0,
	2, 0, 0x48, 0, 3, 0, 0, 0,
	1, 0, 0x18, 0, 0xFF, 0x01, 0x1F, 0, 1, 2, 0, 0, 0, 0, 0, 5, 0x20, 0, 0, 0, 0x22, 2, 0, 0,
	0, 0, 0x14, 0, 0xFF, 0x01, 0x1F, 0, 1, 1, 0, 0, 0, 0, 0, 5, 0x12, 0, 0, 0,
	0, 0, 0x14, 0, 0xA9, 0, 0x12, 0, 1, 1, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0,
	1, 2, 0, 0, 0, 0, 0, 5, 0x20, 0, 0, 0, 0x20, 2, 0, 0}

// TestBeside: security descriptors, object identities and extended attributes are those that another driver shows, and
// descriptors are put in words.
func TestBeside(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfs-3g")
	img := testkit.Image(t, "purser.img", 30*units.MiB)
	testkit.Do(t, "mkntfs", "-Q", "-q", "-F", img)
	want := map[string]map[string][]byte{}
	testkit.Mounted(t, []string{"ntfs-3g", "-o", "permissions", img}, func(point string) {
		set := func(name, attribute string, value []byte) {
			t.Helper()
			if err := syscall.Setxattr(filepath.Join(point, name), attribute, value, 0); err != nil {
				t.Fatalf("%s of %s: %v", attribute, name, err)
			}
		}
		for i, name := range []string{"manifest", "crew list", "log"} {
			if err := os.WriteFile(filepath.Join(point, name), []byte("x"), fs.FileMode(0o600+i*0o22)); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Mkdir(filepath.Join(point, "safe"), 0o700); err != nil {
			t.Fatal(err)
		}
		set("manifest", beside[0], purser)
		set("crew list", beside[1], []byte("sixteen bytes id"))
		set("log", beside[2], []byte("\x14\x00\x00\x00\x00\x06\x05\x00COLOUR\x00grey!"+
			"\x10\x00\x00\x00\x00\x04\x03\x00SIZE\x00big"))
		for _, name := range []string{".", "manifest", "crew list", "log", "safe"} {
			want[name] = map[string][]byte{}
			for _, a := range beside {
				b := make([]byte, 64<<10)
				if n, err := syscall.Getxattr(filepath.Join(point, name), a, b); err == nil {
					want[name][a] = b[:n]
				}
			}
		}
	})
	c, _ := fsystest.Examined(t, img, 512)
	tree, err := fsys.TreeOf(c.Volume)
	if err != nil {
		t.Fatal(err)
	}
	for name, attributes := range want {
		it, err := fsys.Find(tree, name)
		if err != nil {
			t.Fatal(err)
		}
		m, err := tree.More(it)
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range beside {
			i := slices.IndexFunc(m.XAttrs, func(x fsys.XAttr) bool { return x.Name == a })
			switch b, there := attributes[a]; {
			case there != (i >= 0):
				t.Errorf("%s of %q: another driver shows %d bytes, here are %d attributes", a, name, len(b),
					len(m.XAttrs))
			case there && !bytes.HasPrefix(b, m.XAttrs[i].Value): // an object's identity is shown with zeros after it
				t.Errorf("%s of %q is %x, not %x", a, name, m.XAttrs[i].Value, b)
			}
		}
		words := strings.Join(m.Access, " | ")
		switch name {
		case "manifest":
			if words != "owner Administrators | Guests: never full control; SYSTEM: full control; Everyone: read "+
				"and run" {
				t.Error(words)
			}
		case "log":
			if !strings.HasSuffix(words, "extended attributes: COLOUR, SIZE") {
				t.Error(words)
			}
		}
	}
	if len(want["manifest"][beside[0]]) == 0 || len(want["crew list"][beside[1]]) == 0 ||
		len(want["log"][beside[2]]) == 0 {
		t.Fatalf("the driver shows too little: %v", want)
	}
}
