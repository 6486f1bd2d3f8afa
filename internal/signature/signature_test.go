package signature_test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/signature"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

func scanned(t *testing.T, img string) []signature.Found {
	t.Helper()
	f, err := os.Open(img)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		t.Fatal(err)
	}
	got, err := signature.Scan(f, st.Size())
	if err != nil {
		t.Fatal(err)
	}
	return got
}

// TestKindsAsTheirToolsMakeThem: every kind is known by what the system's own tool makes, alone, and by its identity.
func TestKindsAsTheirToolsMakeThem(t *testing.T) {
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "fares"), bytes.Repeat([]byte("fare "), 10_000), 0o644); err != nil {
		t.Fatal(err)
	}
	const id = "7a5e0f10-3b1c-4d5a-9c00-00000000d00d"
	for _, c := range []struct {
		kind string
		make []string // @ stands for the image
		id   string
	}{
		{"XFS", []string{"mkfs.xfs", "-q", "-L", "oak", "-m", "uuid=" + id, "@"}, id},
		{"btrfs", []string{"mkfs.btrfs", "-q", "-L", "oak", "-U", id, "@"}, id},
		{"F2FS", []string{"mkfs.f2fs", "-q", "-l", "oak", "@"}, ""},
		{"JFS", []string{"jfs_mkfs", "-q", "-L", "oak", "@"}, ""},
		{"ReiserFS", []string{"mkreiserfs", "-q", "-f", "-f", "-l", "oak", "-u", id, "@"}, id},
		{"NILFS2", []string{"mkfs.nilfs2", "-q", "-L", "oak", "@"}, ""},
		{"EROFS", []string{"mkfs.erofs", "--quiet", "-U", id, "@", folder}, id},
		{"SquashFS", []string{"mksquashfs", folder, "@", "-quiet", "-noappend", "-no-progress"}, ""},
		{"bcache member", []string{"make-bcache", "-B", "@"}, ""},
		{"UDF", []string{"mkudffs", "--label=oak", "@"}, ""},
		{"ISO 9660", []string{"genisoimage", "-quiet", "-V", "oak", "-o", "@", folder}, ""},
		{"LUKS1", []string{"sh", "-c", "printf oak | cryptsetup luksFormat --type luks1 -q --pbkdf-force-iterations " +
			"1000 --uuid " + id + " @ -"}, id},
		{"LUKS2", []string{"sh", "-c", "printf oak | cryptsetup luksFormat --type luks2 -q --pbkdf pbkdf2 " +
			"--pbkdf-force-iterations 1000 --uuid " + id + " --label oak @ -"}, id},
		{"Minix", []string{"mkfs.minix", "-3", "@"}, ""},
		{"Minix", []string{"mkfs.minix", "-1", "@"}, ""},
		{"BFS", []string{"mkfs.bfs", "@"}, ""},
		{"cramfs", []string{"mkfs.cramfs", folder, "@"}, ""},
	} {
		t.Run(c.kind, func(t *testing.T) {
			testkit.Need(t, c.make[0])
			img := filepath.Join(t.TempDir(), "kind.img")
			if !strings.Contains("SquashFS ISO 9660 EROFS cramfs", c.kind) {
				size := int64(300 * units.MiB)
				if c.kind == "Minix" {
					size = 32 * units.MiB
				} else if c.kind == "BFS" {
					size = 16 * units.MiB
				}
				testkit.Sparse(t, img, size)
			}
			for i := range c.make {
				c.make[i] = strings.ReplaceAll(c.make[i], "@", img)
			}
			testkit.Do(t, c.make[0], c.make[1:]...)
			got := scanned(t, img)
			if len(got) != 1 || got[0].Kind != c.kind {
				t.Fatalf("%v", got)
			}
			if c.id != "" && got[0].ID != c.id {
				t.Errorf("identity %q", got[0].ID)
			}
			f, err := os.Open(img)
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			st, _ := f.Stat()
			v, err := families.Identify(t.Context(), f, st.Size(), 512)
			if err != nil || v == nil || !strings.HasPrefix(v.Info().Kind, c.kind) || v.Info().Opaque == "" {
				t.Errorf("%v %v", v, err)
			}
		})
	}
}

// TestOwnKindsHaveNoForeignMark: what can be read here is never taken for something else beside.
func TestOwnKindsHaveNoForeignMark(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "mkfs.fat", "mkfs.exfat", "mkntfs", "mkswap")
	for _, make := range [][]string{{"mkfs.ext4", "-q", "-F"}, {"mkfs.ext4", "-q", "-F", "-t", "ext2", "-b", "1024"},
		{"mkfs.fat", "-F", "16"}, {"mkfs.fat", "-F", "32"}, {"mkfs.exfat"}, {"mkntfs", "-Q", "-F", "-q"}, {"mkswap"}} {
		img := testkit.Image(t, "own.img", 100*units.MiB)
		testkit.Do(t, make[0], append(make[1:], img)...)
		if got := scanned(t, img); len(got) != 0 {
			t.Errorf("%v: %v", make, got)
		}
	}
}

// put makes an area with bytes at a place; negative ones count from the end.
func put(size int64, at int64, s string) []byte {
	b := make([]byte, size)
	if at < 0 {
		at += size
	}
	copy(b[at:], s)
	return b
}

// TestMarksAtTheirPlaces: kinds that no tool here makes, by their public descriptions.
func TestMarksAtTheirPlaces(t *testing.T) {
	const size = 4 << 20
	md := "\xfc\x4e\x2b\xa9"
	for _, c := range []struct {
		kind string
		at   int64
		mark string
	}{
		{"BitLocker", 3, "-FVE-FS-"},
		{"BitLocker To Go", 424, "\x3b\xd6\x67\x49\x29\x2e\xd8\x4a\x83\x99\xf6\xa3\x39\xe3\xd0\x01"},
		{"Linux RAID member", 0, md + "\x01"}, {"Linux RAID member", 4096, md + "\x01"},
		{"Linux RAID member", -65536, md}, {"Linux RAID member", -8192, md + "\x01"},
		{"LVM volume group member", 512,
			"LABELONE\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x20\x00\x00\x00LVM2 001"},
		{"ZFS pool member", 16<<10 + 24, "version\x00"},
		{"ZFS pool member", -256<<10 + 128<<10, "\x0c\xb1\xba\x00\x00\x00\x00\x00"},
		{"dynamic disk (LDM)", 0xC00, "PRIVHEAD"}, {"Storage Spaces member", 0, "SPACEDB "},
		{"firmware RAID member (Intel)", -1024, "Intel Raid ISM Cfg Sig. 1.2.00"},
		{"firmware RAID member (DDF)", -512, "\xde\x11\xde\x11"},
		{"VMFS member", 1 << 20, "\x0d\xd0\x01\xc0"}, {"ReFS", 3, "ReFS\x00\x00\x00\x00"},
		{"bcachefs", 4096 + 24, "\xc6\x85\x73\xf6\x66\xce\x90\xa9\xd9\x6a\x60\xcf\x80\x3d\xf7\xef"},
		{"UFS2", 64<<10 + 1372, "\x19\x01\x54\x19"},
		{"UFS", 8<<10 + 1372, "\x54\x19\x01\x00"},
		{"swap of the first kind", 4086, "SWAP-SPACE"},
		{"a sleeping system's memory (TuxOnIce)", 0, "\xed\xc3\x02\xe9\x98\x56\xe5\x0c"},
		{"Apple partition map", 512, "PM\x00\x00"},
	} {
		got, err := signature.Scan(bytes.NewReader(put(size, c.at, c.mark)), size)
		if err != nil || len(got) != 1 || got[0].Kind != c.kind {
			t.Errorf("%s at %d: %v %v", c.kind, c.at, got, err)
		}
	}
}

// TestMoreThanOneMark: an ext4 that is a RAID member or a ZFS one, swap on a RAID, a FAT that hides BitLocker: nothing
// is believed.
func TestMoreThanOneMark(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "mkfs.fat", "mkswap")
	const size = 64 << 20
	for _, c := range []struct {
		make []string
		at   int64
		mark string
		kind string
	}{
		{[]string{"mkfs.ext4", "-q", "-F"}, -65536, "\xfc\x4e\x2b\xa9", "Linux RAID member and ext4"},
		{[]string{"mkfs.ext4", "-q", "-F"}, -8192, "\xfc\x4e\x2b\xa9\x01", "Linux RAID member and ext4"},
		{[]string{"mkswap"}, 4096, "\xfc\x4e\x2b\xa9\x01", "Linux RAID member and swap"},
		{[]string{"mkswap"}, -256<<10 + 128<<10, "\x0c\xb1\xba\x00\x00\x00\x00\x00", "ZFS pool member and swap"},
		{[]string{"mkfs.fat", "-F", "32"}, 424, "\x3b\xd6\x67\x49\x29\x2e\xd8\x4a\x83\x99\xf6\xa3\x39\xe3\xd0\x01",
			"BitLocker To Go (encrypted)"},
	} {
		img := testkit.Image(t, "two.img", size)
		testkit.Do(t, c.make[0], append(c.make[1:], img)...)
		b, err := os.ReadFile(img)
		if err != nil {
			t.Fatal(err)
		}
		at := c.at
		if at < 0 {
			at += size
		}
		copy(b[at:], c.mark)
		got, err := families.Examine(t.Context(), bytes.NewReader(b), size, 512)
		if err != nil || got.Maps || got.Info.Kind != c.kind || got.Used != size || len(got.Omit) != 0 {
			t.Errorf("%s: %+v %v", c.kind, got, err)
		}
		if _, ok := got.Volume.(fsys.Resizer); ok {
			t.Errorf("%s can be grown", c.kind)
		}
	}
}

type unreadable struct{ at int64 }

func (u unreadable) ReadAt(p []byte, off int64) (int, error) {
	if off <= u.at && u.at < off+int64(len(p)) {
		return 0, errors.New("input/output error")
	}
	clear(p)
	return len(p), nil
}

// TestPlaceThatCannotBeRead: then nobody knows whether a mark stands there.
func TestPlaceThatCannotBeRead(t *testing.T) {
	if _, err := signature.Scan(unreadable{4<<20 - 600}, 4<<20); err == nil {
		t.Error("no error")
	}
}

// FuzzScan: no bytes make it panic, whatever the size.
func FuzzScan(f *testing.F) {
	for _, at := range []int{0, 3, 512, 1024, 4096, 4086} {
		b := make([]byte, 8192)
		copy(b[at:], "LABELONE")
		f.Add(b, int64(8192))
	}
	f.Add([]byte("BD"), int64(1026))
	f.Fuzz(func(t *testing.T, b []byte, size int64) {
		if size < 0 || size > 1<<50 {
			return
		}
		got, _ := signature.Scan(endless(b), size)
		for _, g := range got {
			if g.At < 0 || g.At >= max(size, 1) {
				t.Errorf("%+v in %d bytes", g, size)
			}
		}
		_ = fmt.Sprint(got)
	})
}

// endless repeats bytes.
type endless []byte

func (e endless) ReadAt(p []byte, off int64) (int, error) {
	for i := range p {
		if p[i] = 0; len(e) > 0 {
			p[i] = e[(off+int64(i))%int64(len(e))]
		}
	}
	return len(p), nil
}

func TestLooks(t *testing.T) {
	x := uint32(1)
	random := make([]byte, 64<<10)
	for i := range random {
		x = x*1664525 + 1013904223
		random[i] = byte(x >> 24)
	}
	for _, c := range []struct {
		b    []byte
		want signature.Looks
	}{{make([]byte, 64<<10), signature.Zeros}, {random, signature.Random},
		{bytes.Repeat([]byte("tide table "), 6000), signature.Ordinary}, {random[:512], signature.Ordinary}} {
		if got := signature.LookAt(c.b); got != c.want {
			t.Errorf("%v instead of %v", got, c.want)
		}
	}
}
