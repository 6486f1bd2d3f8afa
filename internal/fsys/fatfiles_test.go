package fsys_test

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/fat"
	"twinshelf/internal/testkit"
)

var fats = []struct {
	bits string
	size int64
	more []string
}{{"12", 16 << 20, []string{"-s16"}}, {"16", 64 << 20, nil}, {"32", 600 << 20, nil}, {"32", 40 << 20, []string{"-s1"}}}

// TestFATFiles reads long names, deep folders and fragmented files, and finds them whatever their case.
func TestFATFiles(t *testing.T) {
	testkit.Need(t, "mkfs.fat", "mcopy", "mdel")
	dir := t.TempDir()
	want := map[string][]byte{}
	for i, name := range []string{"SHORT.TXT", "lower.txt", "A long name with spaces and dots.v2.txt", "Überfahrt nach Süden — Fahrplan.txt", "deep/er/and/deeper still/fares.csv", "EMPTY", strings.Repeat("long", 50)} {
		b := bytes.Repeat([]byte(fmt.Sprint("tide ", i, "\n")), 4000*i)
		if name == "EMPTY" {
			b = nil
		}
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		if err := os.WriteFile(filepath.Join(dir, name), b, 0o644); err != nil {
			t.Fatal(err)
		}
		want[name] = b
	}
	many := filepath.Join(dir, "many")
	os.MkdirAll(many, 0o755)
	for i := range 300 {
		name := fmt.Sprintf("many/crossing number %d.txt", i)
		want[name] = []byte(name)
		os.WriteFile(filepath.Join(dir, name), want[name], 0o644)
	}
	for _, c := range fats {
		img := testkit.Image(t, "f.img", c.size)
		testkit.Do(t, "mkfs.fat", append(append([]string{"-F", c.bits}, c.more...), img)...)
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			testkit.Do(t, "mcopy", "-s", "-m", "-i", img, filepath.Join(dir, e.Name()), "::")
		}
		// Holes for one file in many pieces.
		for i := 0; i < 300; i += 2 {
			name := fmt.Sprintf("many/crossing number %d.txt", i)
			testkit.Do(t, "mdel", "-i", img, "::"+name)
			delete(want, name)
		}
		log := bytes.Repeat([]byte("pieces of a log "), 20_000)
		from := filepath.Join(t.TempDir(), "log.bin")
		os.WriteFile(from, log, 0o644)
		testkit.Do(t, "mcopy", "-i", img, from, "::")
		want["log.bin"] = log
		got, _ := examine(t, img)
		files, err := got.Volume.(fsys.Files).Files()
		if err != nil {
			t.Fatal(err)
		}
		seen := 0
		if err := fs.WalkDir(files, ".", func(p string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				return err
			}
			seen++
			b, err := fs.ReadFile(files, p)
			if w, ok := want[p]; !ok || !bytes.Equal(b, w) {
				t.Errorf("FAT%s: %s differs (known: %v)", c.bits, p, ok)
			}
			return err
		}); err != nil || seen != len(want) {
			t.Errorf("FAT%s: %d files of %d, %v", c.bits, seen, len(want), err)
		}
		if b, err := fs.ReadFile(files, "DEEP/Er/and/Deeper Still/FARES.CSV"); err != nil || len(b) == 0 {
			t.Errorf("FAT%s: case matters: %v", c.bits, err)
		}
		if _, err := files.Open("nobody"); err == nil {
			t.Error("a file that isn't there")
		}
		for i := 0; i < 300; i += 2 {
			name := fmt.Sprintf("many/crossing number %d.txt", i)
			want[name] = []byte(name)
		}
		delete(want, "log.bin")
	}
}

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
			"EFI/BOOT/BOOTX64.EFI": bytes.Repeat([]byte("loader"), 50_000), "EFI/BOOT/GRUBX64.EFI": []byte("second"), "FULL/MORE.TXT": bytes.Repeat([]byte("z"), 5000), "ROOT.TXT": nil,
		}
		for name, b := range contents {
			got, _ := examine(t, img)
			patches, err := got.Volume.(*fat.Volume).Add(name, b, when)
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
		for name, n := range map[string]int64{"EFI/BOOT/BOOTX64.EFI": 1, "BIG.BIN": c.size, "a name that is too long.txt": 1, "FULL/F1.TXT/X": 1} {
			if _, err := v.Add(name, make([]byte, n), when); err == nil {
				t.Errorf("FAT%s: %s is added", c.bits, name)
			}
		}
	}
}
