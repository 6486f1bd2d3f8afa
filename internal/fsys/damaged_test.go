package fsys_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/testkit"
)

// letters are files whose contents tell their name.
func letters(t testing.TB, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	for i := range 40 {
		name := fmt.Sprintf("crew/letter %02d.txt", i)
		out[name] = strings.Repeat(name+"\n", 200)
		must(t, os.MkdirAll(filepath.Join(dir, "crew"), 0o755))
		must(t, os.WriteFile(filepath.Join(dir, name), []byte(out[name]), 0o644))
	}
	return out
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// TestDamageIsOneItems: what is overwritten in a volume takes no other file with it, and no file is ever read wrong.
func TestDamageIsOneItems(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "mkntfs", "ntfs-3g", "mkfs.exfat", "mount.exfat-fuse")
	testkit.Root(t)
	dir := t.TempDir()
	want := letters(t, dir)
	filled := func(name, tool string, mount []string, args ...string) []byte {
		img := testkit.Image(t, name, 16<<20)
		testkit.Do(t, tool, append(args, img)...)
		if mount != nil {
			onLoop(t, mount, img, 512, func(point string) {
				testkit.Do(t, "cp", "-r", filepath.Join(dir, "crew"), point)
			})
			testkit.LoopGone(t, img)
		}
		b, err := os.ReadFile(img)
		must(t, err)
		return b
	}
	ext := filled("ext", "mkfs.ext4", nil, "-q", "-F", "-d", dir)
	ntfs := filled("ntfs", "mkntfs", []string{"ntfs-3g"}, "-Q", "-F", "-q")
	exfat := filled("exfat", "mkfs.exfat", []string{"mount.exfat-fuse"}, "-c", "4K")
	utf16 := func(s string) []byte {
		var b []byte
		for _, c := range s {
			b = append(b, byte(c), 0)
		}
		return b
	}
	for _, c := range []struct {
		name  string
		seed  []byte
		where func(b []byte) int // a byte of the description of letter 17
	}{
		{"ext", ext, func(b []byte) int { // the extent of its inode, which points to its first block
			at := bytes.Index(b, []byte(want["crew/letter 17.txt"])) / 1024
			return bytes.Index(b, []byte{4, 0, 0, 0, byte(at), byte(at >> 8), 0, 0}) + 4
		}},
		{"NTFS", ntfs, func(b []byte) int { // the magic of its record
			for i := 0; i+1024 <= len(b); i += 1024 {
				if string(b[i:i+4]) == "FILE" && b[i+22] == 1 && bytes.Contains(b[i:i+1024], utf16("letter 17.txt")) {
					return i
				}
			}
			return -1
		}},
		// the type of its stream's entry
		{"exFAT", exfat, func(b []byte) int { return bytes.Index(b, utf16("letter 17.txt")) - 34 - 32 }},
	} {
		m := disk.NewMemory(int64(len(c.seed)), 512)
		copy(m.Bytes, c.seed)
		at := c.where(m.Bytes)
		m.Bytes[at] ^= 0x5A
		v, err := families.Identify(t.Context(), m, m.Size(), 512)
		if err != nil || v == nil {
			t.Errorf("%s: it isn't recognised any more: %v", c.name, err)
			continue
		}
		tr, err := fsys.TreeOf(v)
		must(t, err)
		folder, err := fsys.Find(tr, "crew")
		must(t, err)
		entries, problem := fsys.Entries(tr, folder)
		whole, hurt := 0, problem != nil
		for _, e := range entries {
			b, err := read(tr, e)
			switch {
			case err != nil && strings.Contains(e.Name, "17"):
				hurt = true
			case err != nil || string(b) != want["crew/"+e.Name]:
				t.Errorf("%s: %s reads %d bytes, %v", c.name, e.Name, len(b), err)
			default:
				whole++
			}
		}
		if whole != 39 || !hurt {
			t.Errorf("%s: %d of 39 files are whole, the damage is noticed: %v", c.name, whole, hurt)
		}
	}
}

func read(tr fsys.Tree, e fsys.Entry) ([]byte, error) {
	if e.Err != nil {
		return nil, e.Err
	}
	c, err := tr.Open(e.Item, "")
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
}

// TestEncryptedIsNamed: what only its system can read is said to be so.
func TestEncryptedIsNamed(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "debugfs")
	dir, img := t.TempDir(), testkit.Image(t, "e.img", 8<<20)
	want := letters(t, dir)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-O", "encrypt", "-d", dir, img)
	testkit.Do(t, "debugfs", "-w", "-R", `set_inode_field "/crew/letter 03.txt" flags 0x80800`, img)
	c, _ := examine(t, img)
	tr, err := fsys.TreeOf(c.Volume)
	must(t, err)
	it, err := fsys.Find(tr, "crew/letter 03.txt")
	if err != nil || it.Attr&fsys.Encrypted == 0 {
		t.Errorf("%+v, %v", it, err)
	}
	if _, err := tr.Open(it, ""); !errors.Is(err, fsys.ErrEncrypted) {
		t.Errorf("it opens: %v", err)
	}
	other, _ := fsys.Find(tr, "crew/letter 04.txt")
	if b, err := read(tr, fsys.Entry{Item: other}); err != nil || string(b) != want["crew/letter 04.txt"] {
		t.Errorf("the one beside it: %v", err)
	}
}
