package fsys_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"twinshelf/internal/fsys/fat"
	"twinshelf/internal/testkit"
)

var fats = []struct {
	bits string
	size int64
	more []string
}{{"12", 16 << 20, []string{"-s16"}}, {"16", 64 << 20, nil}, {"32", 600 << 20, nil}, {"32", 40 << 20, []string{"-s1"}}}

// TestFATAdd puts files in; the system's checker and tools agree.
func TestFATAdd(t *testing.T) {
	testkit.Need(t, "mkfs.fat", "fsck.fat", "mcopy", "mtype")
	when := time.Date(2026, 11, 25, 8, 15, 0, 0, time.UTC)
	for _, c := range fats {
		img := testkit.Image(t, "f.img", c.size)
		testkit.Do(t, "mkfs.fat", append(append([]string{"-F", c.bits}, c.more...), img)...)
		full := t.TempDir()
		for i := range 40 { // so that a directory needs another cluster
			os.WriteFile(filepath.Join(full, fmt.Sprintf("F%d.TXT", i)), []byte("x"), 0o644)
		}
		testkit.Do(t, "mcopy", "-s", "-i", img, full, "::FULL")
		contents := map[string][]byte{
			"EFI/BOOT/BOOTX64.EFI": bytes.Repeat([]byte("loader"), 50_000), "EFI/BOOT/GRUBX64.EFI": []byte("second"),
			"FULL/MORE.TXT": bytes.Repeat([]byte("z"), 5000), "ROOT.TXT": nil,
		}
		for name, b := range contents {
			got, _ := examine(t, img)
			patches, err := got.Volume.(*fat.Volume).CreateFile(name, b, when)
			if err != nil {
				t.Fatalf("FAT%s: %s: %v", c.bits, name, err)
			}
			testkit.Write(t, img, patches)
			testkit.Do(t, "fsck.fat", "-n", img)
			if out := testkit.Do(t, "mtype", "-i", img, "::"+name); out != string(b) {
				t.Errorf("FAT%s: %s has %d bytes, want %d", c.bits, name, len(out), len(b))
			}
		}
		got, _ := examine(t, img)
		v := got.Volume.(*fat.Volume)
		for name, n := range map[string]int64{"EFI/BOOT/BOOTX64.EFI": 1, "BIG.BIN": c.size,
			"a name that is too long.txt": 1, "FULL/F1.TXT/X": 1} {
			if _, err := v.CreateFile(name, make([]byte, n), when); err == nil {
				t.Errorf("FAT%s: %s is added", c.bits, name)
			}
		}
	}
}
