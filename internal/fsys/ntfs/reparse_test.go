package ntfs_test

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// elsewhere makes a file with a hole what stands for contents that are kept elsewhere.
func elsewhere(t *testing.T, path string, have int, size int64, tag, attributes uint32) {
	t.Helper()
	if err := os.WriteFile(path, testkit.Noise(7, have), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(path, size); err != nil {
		t.Fatal(err)
	}
	le := binary.LittleEndian
	if tag != 0 {
		b := append(le.AppendUint32(le.AppendUint32(nil, tag), 16), make([]byte, 16)...)
		if err := syscall.Setxattr(path, "system.ntfs_reparse_data", b, 0); err != nil {
			t.Fatal(err)
		}
	}
	if attributes != 0 {
		if err := syscall.Setxattr(path, "system.ntfs_attrib", le.AppendUint32(nil, attributes), 0); err != nil {
			t.Fatal(err)
		}
	}
}

// TestContentsElsewhere: files of clouds, of other media and of a store of shared pieces say so, and how much of them
// is here; they aren't read as if they were zeros. One that a cloud has, and that is all here, is read.
func TestContentsElsewhere(t *testing.T) {
	const offline = 0x1000
	testkit.Need(t, "mkntfs", "ntfs-3g")
	testkit.Root(t)
	img := testkit.Image(t, "desk.img", 40*units.MiB)
	testkit.Do(t, "mkntfs", "-Q", "-F", "-q", img)
	testkit.Mounted(t, []string{"ntfs-3g", img}, func(dir string) {
		elsewhere(t, filepath.Join(dir, "photos.zip"), 0, 5_000_000, 0x9000301A, offline)
		elsewhere(t, filepath.Join(dir, "rota.ods"), 200_000, 3_000_000, 0x9000001A, offline)
		elsewhere(t, filepath.Join(dir, "fetched.ods"), 30_000, 30_000, 0x9000701A, 0)
		elsewhere(t, filepath.Join(dir, "tape.tar"), 0, 2_000_000, 0, offline)
		elsewhere(t, filepath.Join(dir, "ledger.mdb"), 0, 4_000_000, 0x80000013, 0)
	})
	tree, err := fsys.TreeOf(volume(t, img))
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{
		"photos.zip":  "it is kept in a cloud; none of its 5.00 MB are in the file itself",
		"rota.ods":    "it is kept in a cloud; of its 3.00 MB at most 201 kB are in the file itself",
		"tape.tar":    "kept elsewhere (in a cloud or on other media); none of its 2.00 MB",
		"ledger.mdb":  "store of shared pieces (System Volume Information/Dedup), which is captured",
		"fetched.ods": "",
	} {
		it, err := fsys.Find(tree, name)
		if err != nil {
			t.Fatal(err)
		}
		_, err = tree.Open(it, "")
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v", name, err)
		}
		if more, err := tree.More(it); err != nil || !strings.Contains(more.Remark, want) {
			t.Errorf("%s: %q, %v", name, more.Remark, err)
		}
	}
}

// TestNamesThatDifferByCase: where a folder tells upper from lower case both files are found, each by its own name, and
// another way to write it finds one of them.
func TestNamesThatDifferByCase(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfs-3g")
	testkit.Root(t)
	img := testkit.Image(t, "desk.img", 20*units.MiB)
	testkit.Do(t, "mkntfs", "-Q", "-F", "-q", img)
	testkit.Mounted(t, []string{"ntfs-3g", img}, func(dir string) {
		for _, name := range []string{"fares", "Fares", "FARES"} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(name), 0o600); err != nil {
				t.Fatal(err)
			}
		}
	})
	tree, err := fsys.TreeOf(volume(t, img))
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"fares": "fares", "Fares": "Fares", "FARES": "FARES", "fAres": ""} {
		it, err := fsys.Find(tree, name)
		if err != nil {
			t.Fatal(err)
		}
		c, err := tree.Open(it, "")
		if err != nil {
			t.Fatal(err)
		}
		b := make([]byte, c.Size())
		if n, _ := c.ReadAt(b, 0); n != 5 || want != "" && string(b) != want || !strings.EqualFold(string(b), name) {
			t.Errorf("%s holds %q", name, b)
		}
	}
}
