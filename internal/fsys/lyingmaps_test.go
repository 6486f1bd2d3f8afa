package fsys_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/testkit"
)

// voyages fills a folder with what takes space in different ways.
func voyages(t testing.TB, dir string, unix bool) {
	t.Helper()
	r := rand.New(rand.NewPCG(4, 4))
	for i := range 150 {
		b := make([]byte, 500+r.IntN(9000))
		for j := range b {
			b[j] = byte(r.Uint32())
		}
		folder := filepath.Join(dir, fmt.Sprintf("cabin %d", i%12),
			"a folder with a name long enough to fill its block sooner")
		must(t, os.MkdirAll(folder, 0o755))
		must(t, os.WriteFile(filepath.Join(folder, fmt.Sprintf("passenger list of sailing %03d.csv", i)), b, 0o644))
	}
	for i := range 40 { // grown in turns, so that they lie in pieces
		for k := range 4 {
			f, err := os.OpenFile(filepath.Join(dir, fmt.Sprintf("log %d", k)),
				os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
			must(t, err)
			_, err = f.Write(bytes.Repeat([]byte{byte(i), byte(k)}, 5000))
			must(t, err)
			must(t, f.Close())
		}
	}
	if unix {
		must(t, os.Symlink(strings.Repeat("a long way ", 20), filepath.Join(dir, "link")))
		must(t, os.Link(filepath.Join(dir, "log 0"), filepath.Join(dir, "second name")))
	}
}

// lie calls a unit free that is in use, so that all counts still agree; it returns how to take that back.
type lie func(b []byte, unit int64)

// bitLie clears a bit of a map that lies in one piece and begins with the given bytes.
func bitLie(t testing.TB, b []byte, g fsys.Grid, v fsys.Volume) lie {
	t.Helper()
	bits := make([]byte, g.Count/8)
	for sp, err := range v.Used() {
		must(t, err)
		for u := max(0, (sp.Start-g.Start)/g.Unit); g.Start+(u+1)*g.Unit <= sp.End && u < int64(len(bits))*8; u++ {
			bits[u/8] |= 1 << (u % 8)
		}
	}
	at := bytes.Index(b, bits)
	if at < 0 {
		t.Fatal("the map isn't there")
	}
	return func(b []byte, u int64) { b[int64(at)+u/8] ^= 1 << (u % 8) }
}

// extLie clears a bit of a group's bitmap and counts the block as free. With swap another block is called used instead.
func extLie(swap bool) lie {
	return func(b []byte, block int64) {
		le := binary.LittleEndian
		bs := int64(1024) << le.Uint32(b[1024+0x18:])
		ratio := int64(1) << (le.Uint32(b[1024+0x1C:]) - le.Uint32(b[1024+0x18:]))
		first, per := int64(le.Uint32(b[1024+0x14:])), int64(le.Uint32(b[1024+0x20:]))
		size := int64(32)
		if le.Uint32(b[1024+0x60:])&0x80 != 0 {
			size = int64(le.Uint16(b[1024+0xFE:]))
		}
		g := (block - first) / per
		desc := b[(1024/bs+1)*bs+g*size:]
		le.PutUint16(desc[0x12:], le.Uint16(desc[0x12:])&^2)
		bitmap := b[int64(le.Uint32(desc))*bs:][:bs]
		n := (block - first) % per / ratio
		bitmap[n/8] ^= 1 << (n % 8)
		if !swap {
			le.PutUint16(desc[0x0C:], le.Uint16(desc[0x0C:])+1)
			return
		}
		for i := range per / ratio {
			if i != n && bitmap[i/8]&(1<<(i%8)) == 0 {
				bitmap[i/8] |= 1 << (i % 8)
				return
			}
		}
	}
}

// fatLie writes value into both copies of the entry of a cluster.
func fatLie(bits int, value uint32) lie {
	return func(b []byte, unit int64) {
		le := binary.LittleEndian
		n := unit + 2
		size := int64(le.Uint16(b[22:]))
		if size == 0 {
			size = int64(le.Uint32(b[36:]))
		}
		for c := range int64(b[16]) {
			fat := b[(int64(le.Uint16(b[14:]))+c*size)*512:]
			switch bits {
			case 12:
				w := le.Uint16(fat[n*3/2:])
				shift := n % 2 * 4
				le.PutUint16(fat[n*3/2:], w&^(0xFFF<<shift)|uint16(value&0xFFF)<<shift)
			case 16:
				le.PutUint16(fat[2*n:], uint16(value))
			case 32:
				le.PutUint32(fat[4*n:], value&0x0FFFFFFF)
			}
		}
	}
}

// TestMapsThatLie: whatever single unit of a full volume its allocation map calls free, the volume is read whole and
// says why. (A FAT is map and chain in one; there a chain that ends early shows.)
func TestMapsThatLie(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "mkntfs", "ntfs-3g", "mkfs.exfat", "mount.exfat-fuse", "mkfs.fat", "mcopy")
	testkit.Root(t)
	plain, unix := t.TempDir(), t.TempDir()
	voyages(t, plain, false)
	voyages(t, unix, true)
	image := func(size int64, make string, args ...string) string {
		img := testkit.Image(t, "lie.img", size)
		testkit.Do(t, make, append(args, img)...)
		return img
	}
	mounted := func(img string, mount []string) string {
		onLoop(t, mount, img, 512, func(point string) { testkit.Do(t, "cp", "-r", plain+"/.", point) })
		testkit.LoopGone(t, img)
		return img
	}
	dosed := func(img string) string {
		testkit.Do(t, "sh", "-c", fmt.Sprintf("mcopy -s -i %s %s/* ::", img, plain))
		return img
	}
	ext := func(args ...string) string {
		return image(20<<20, "mkfs.ext4", append([]string{"-q", "-F", "-d", unix}, args...)...)
	}
	for _, c := range []struct {
		name string
		img  string
		lies []lie // nil: bits of a map in one piece
	}{
		{"FAT12", dosed(image(15<<20, "mkfs.fat", "-F", "12", "-s", "8")), []lie{fatLie(12, 0), fatLie(12, 0xFF7)}},
		{"FAT16", dosed(image(20<<20, "mkfs.fat", "-F", "16", "-s", "4")), []lie{fatLie(16, 0), fatLie(16, 0xFFF7)}},
		{"FAT32", dosed(image(40<<20, "mkfs.fat", "-F", "32", "-s", "1")),
			[]lie{fatLie(32, 0), fatLie(32, 0x0FFFFFF7)}},
		{"exFAT", mounted(image(20<<20, "mkfs.exfat", "-c", "4K"), []string{"mount.exfat-fuse"}), nil},
		{"NTFS", mounted(image(20<<20, "mkntfs", "-Q", "-F", "-q"), []string{"ntfs-3g"}), nil},
		{"NTFS 1K", mounted(image(20<<20, "mkntfs", "-Q", "-F", "-q", "-c", "1024"), []string{"ntfs-3g"}), nil},
		{"ext2", ext("-t", "ext2", "-b", "1024"), []lie{extLie(false), extLie(true)}},
		{"ext3", ext("-t", "ext3", "-b", "1024"), []lie{extLie(false), extLie(true)}},
		{"ext4", ext("-b", "4096"), []lie{extLie(false), extLie(true)}},
		{"ext4 bigalloc", ext("-b", "1024", "-O", "bigalloc,^resize_inode", "-C", "4096"), []lie{extLie(false)}},
		{"ext4 inline", ext("-b", "4096", "-I", "512", "-O", "inline_data,ea_inode,sparse_super2"),
			[]lie{extLie(false)}},
		{"ext4 meta_bg", ext("-b", "1024", "-O", "meta_bg,^resize_inode"), []lie{extLie(false)}},
	} {
		t.Run(c.name, func(t *testing.T) {
			b, err := os.ReadFile(c.img)
			must(t, err)
			examine := func() fsys.Content {
				out, err := families.Examine(context.Background(), bytes.NewReader(b), int64(len(b)), 512)
				must(t, err)
				return out
			}
			sound := examine()
			if !sound.Maps {
				t.Fatalf("sound, and read whole: %s", sound.Why)
			}
			g := sound.Volume.(fsys.Accountable).Grid()
			if c.lies == nil {
				c.lies = []lie{bitLie(t, b, g, sound.Volume)}
			}
			var used []int64
			for sp, err := range sound.Volume.Used() {
				must(t, err)
				for u := max(0, (sp.Start-g.Start+g.Unit-1)/g.Unit); g.Start+
					(u+1)*g.Unit <= min(sp.End, g.Start+g.Count*g.Unit); u++ {
					if g.Start > 0 || u > 1 { // what lies before the grid, and a boot block outside of all maps
						used = append(used, u)
					}
				}
			}
			rand.New(rand.NewPCG(1, 2)).Shuffle(len(used), func(i, j int) { used[i], used[j] = used[j], used[i] })
			whole := bytes.Clone(b)
			for _, u := range used[:min(len(used), 40)] {
				for i, lie := range c.lies {
					lie(b, u)
					got := examine()
					if got.Maps {
						t.Errorf("lie %d: unit %d is called free, and the map is believed", i+1, u)
					} else if !strings.Contains(got.Why, "at byte") {
						t.Errorf("lie %d: unit %d: no place in %q", i+1, u, got.Why)
					}
					copy(b, whole)
				}
			}
		})
	}
}

// TestGroupsThatLie: flags, counts and pointers of ext groups that make less look used than is.
func TestGroupsThatLie(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	dir := t.TempDir()
	voyages(t, dir, true)
	le := binary.LittleEndian
	small := func(t *testing.T, args ...string) ([]byte, int64, int64) {
		img := testkit.Image(t, "groups.img", 40<<20)
		testkit.Do(t, "mkfs.ext4", append([]string{"-q", "-F", "-b", "1024", "-d", dir, img}, args...)...)
		b, err := os.ReadFile(img)
		must(t, err)
		size := int64(32)
		if le.Uint32(b[1024+0x60:])&0x80 != 0 {
			size = int64(le.Uint16(b[1024+0xFE:]))
		}
		return b, 2048, size
	}
	for _, c := range []struct {
		name string
		args []string
		hurt func(b []byte, desc, size int64)
	}{
		{"no inode was ever made", nil, func(b []byte, d, _ int64) {
			le.PutUint16(b[d+0x12:], le.Uint16(b[d+0x12:])|1)
		}},
		{"the last inodes were never made", nil, func(b []byte, d, _ int64) {
			le.PutUint16(b[d+0x1C:], uint16(le.Uint32(b[1024+0x28:])-12))
		}},
		{"no block was ever used", nil, func(b []byte, d, _ int64) {
			le.PutUint16(b[d+0x12:], le.Uint16(b[d+0x12:])|2)
		}},
		{"the inode bitmap is empty", nil, func(b []byte, d, _ int64) {
			clear(b[int64(le.Uint32(b[d+4:]))*1024:][:1024])
		}},
		{"an entry of a directory doesn't fit its block", nil, func(b []byte, _, _ int64) {
			at := bytes.Index(b, []byte("passenger list of sailing 001.csv"))
			le.PutUint16(b[at-4:], 2000)
		}},
		{"an entry of a directory is shorter than its name", nil, func(b []byte, _, _ int64) {
			at := bytes.Index(b, []byte("passenger list of sailing 001.csv"))
			le.PutUint16(b[at-4:], 12)
		}},
		{"a block of a directory is empty", nil, func(b []byte, _, _ int64) {
			at := bytes.Index(b, []byte("passenger list of sailing 001.csv"))
			clear(b[at/1024*1024:][:1024])
		}},
		{"two groups have one bitmap", []string{"-t", "ext2"}, func(b []byte, d, s int64) {
			le.PutUint32(b[d+s:], le.Uint32(b[d:]))
			le.PutUint16(b[d+s+0x0C:], le.Uint16(b[d+0x0C:]))
		}},
		{"an empty block is the bitmap", []string{"-t", "ext2"}, func(b []byte, d, s int64) {
			for at := int64(len(b)) - 2<<20; ; at += 1024 {
				if bytes.Count(b[at:at+1024], []byte{0}) == 1024 {
					le.PutUint32(b[d+s:], uint32(at/1024))
					le.PutUint16(b[d+s+0x0C:], uint16(le.Uint32(b[1024+0x20:])))
					return
				}
			}
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			b, desc, size := small(t, c.args...)
			c.hurt(b, desc, size)
			got, err := families.Examine(context.Background(), bytes.NewReader(b), int64(len(b)), 512)
			must(t, err)
			if got.Maps || got.Why == "" {
				t.Error("the maps are believed")
			}
		})
	}
}
