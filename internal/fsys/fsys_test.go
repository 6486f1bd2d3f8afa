package fsys_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

func examine(t testing.TB, path string) (fsys.Content, *disk.File) {
	t.Helper()
	d, err := disk.Open(path, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	c, err := families.Examine(context.Background(), d, d.Size(), d.SectorSize())
	if err != nil {
		t.Fatal(err)
	}
	return c, d
}

// field finds a number in a tool's output.
func field(t testing.TB, out, pattern string) int64 {
	t.Helper()
	m := regexp.MustCompile(pattern).FindStringSubmatch(out)
	if m == nil {
		t.Fatalf("no %q in\n%s", pattern, out)
	}
	n, err := strconv.ParseInt(m[1], 10, 64)
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// tree makes a folder with some files to fill a file system from.
func tree(t testing.TB) string {
	t.Helper()
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(7, 7))
	for i := range 60 {
		b := make([]byte, r.IntN(200_000))
		for j := range b {
			b[j] = byte(r.IntN(7)) + 'a'
		}
		p := filepath.Join(dir, fmt.Sprintf("crossing-%d", i%7), fmt.Sprintf("manifest %03d.txt", i))
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// TestExtUsedAgreesWithDumpe2fs: what is in use is what dumpe2fs counts, and
// the last 64 KiB that are always kept.
func TestExtUsedAgreesWithDumpe2fs(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "dumpe2fs")
	dir := tree(t)
	for _, c := range []struct{ kind, options string }{
		{"ext4", "-b 1024"}, {"ext4", "-b 2048"}, {"ext4", "-b 4096"},
		{"ext4", "-b 1024 -O bigalloc -C 16384"}, {"ext4", "-b 4096 -O bigalloc"},
		{"ext4", "-O meta_bg,^resize_inode"}, {"ext4", "-b 1024 -O meta_bg,^resize_inode,^flex_bg"},
		{"ext4", "-O ^has_journal"}, {"ext4", "-O sparse_super2"}, {"ext4", "-O ^64bit"},
		{"ext4", "-O ^metadata_csum,uninit_bg"}, {"ext4", "-O ^flex_bg"}, {"ext4", "-O ^sparse_super,^resize_inode"},
		{"ext4", "-O inline_data -I 256"},
		{"ext2", "-t ext2"}, {"ext2", "-t ext2 -b 1024 -O ^sparse_super,^resize_inode"}, {"ext3", "-t ext3"},
	} {
		t.Run(c.options, func(t *testing.T) {
			img := testkit.Image(t, "e.img", 700<<20)
			args := append(strings.Fields("-q -F -L harbour -d "+dir), strings.Fields(c.options)...)
			testkit.Do(t, "mkfs.ext4", append(args, img)...)
			out := testkit.Do(t, "dumpe2fs", "-h", img)
			want := (field(t, out, `Block count:\s+(\d+)`) - field(t, out, `Free blocks:\s+(\d+)`)) *
				field(t, out, `Block size:\s+(\d+)`)
			got, _ := examine(t, img)
			if got.Info.Kind != c.kind || got.Info.Label != "harbour" || !got.Maps || got.Used != want+fsys.Edge {
				t.Errorf("%+v, used %d, want %d: %s", got.Info, got.Used, want+fsys.Edge, got.Why)
			}
		})
	}
}

func TestFATUsedAgreesWithFsck(t *testing.T) {
	testkit.Need(t, "mkfs.fat", "fsck.fat", "mcopy")
	dir := tree(t)
	for _, c := range []struct {
		bits   string
		size   int64
		option string
	}{{"12", 16 << 20, "-s16"}, {"16", 64 << 20, ""}, {"32", 600 << 20, ""}, {"16", 100 << 20, "-f1"}} {
		img := testkit.Image(t, "f.img", c.size)
		args := []string{"-F", c.bits, "-n", "KIOSK"}
		if c.option != "" {
			args = append(args, c.option)
		}
		testkit.Do(t, "mkfs.fat", append(args, img)...)
		testkit.Do(t, "mcopy", "-s", "-i", img, filepath.Join(dir, "crossing-1"),
			filepath.Join(dir, "crossing-2"), "::")
		out := testkit.Do(t, "fsck.fat", "-n", "-v", img)
		m := regexp.MustCompile(`(\d+)/\d+ clusters`).FindStringSubmatch(out)
		clusters, _ := strconv.ParseInt(m[1], 10, 64)
		data := field(t, out, `Data area starts at byte (\d+)`)
		cluster := field(t, out, `(\d+) bytes per cluster`)
		got, _ := examine(t, img)
		// Behind the last whole cluster there may be a few sectors more.
		slack := got.Used - data - clusters*cluster - fsys.Edge
		if got.Info.Kind != "FAT"+c.bits || got.Info.Label != "KIOSK" || !got.Maps || slack < -fsys.Edge ||
			slack > cluster {
			t.Errorf("%+v used %d, data area at %d, %d clusters of %d: %s", got.Info, got.Used, data, clusters, cluster,
				got.Why)
		}
	}
}

func TestNTFSUsedAgreesWithNtfsinfo(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfsinfo")
	for _, cluster := range []string{"512", "4096", "65536"} {
		img := testkit.Image(t, "n.img", 300<<20)
		testkit.Do(t, "mkntfs", "-q", "-Q", "-F", "-L", "Ticket desk", "-c", cluster, img)
		out := testkit.Do(t, "ntfsinfo", "-m", img)
		size := field(t, out, `Cluster Size: (\d+)`)
		want := (field(t, out, `Volume Size in Clusters: (\d+)`) - field(t, out, `Free Clusters: (\d+)`)) * size
		got, _ := examine(t, img)
		// On top: the sectors after the last whole cluster, and both edges.
		if extra := got.Used - want; got.Info.Kind != "NTFS" || got.Info.Label != "Ticket desk" || !got.Maps ||
			extra < 512 || extra > 2*fsys.Edge+size {
			t.Errorf("cluster %s: %+v used %d, ntfsinfo %d: %s", cluster, got.Info, got.Used, want, got.Why)
		}
	}
}

func TestSwapKeepsItsHeaderOnly(t *testing.T) {
	testkit.Need(t, "mkswap")
	img := testkit.Image(t, "s.img", 64<<20)
	testkit.Do(t, "mkswap", "-L", "kiosk-swap", img)
	got, _ := examine(t, img)
	if got.Info.Kind != "swap" || got.Info.Label != "kiosk-swap" || got.Used != 2*fsys.Edge || len(got.Omit) != 1 {
		t.Errorf("%+v used %d", got.Info, got.Used)
	}
	b, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	copy(b[4086:], "S1SUSPEND\x00")
	if err := os.WriteFile(img, b, 0o600); err != nil {
		t.Fatal(err)
	}
	if got, _ = examine(t, img); got.Maps || got.Info.Unclean == "" || got.Used != 64<<20 {
		t.Errorf("a hibernated system: %+v", got)
	}
}

// TestUncleanIsTakenWhole: marks of an unclean end make all of the volume be read.
func TestUncleanIsTakenWhole(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "mkfs.fat", "mkntfs")
	ext := testkit.Image(t, "e.img", 64<<20)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", ext)
	fat16 := testkit.Image(t, "f.img", 64<<20)
	testkit.Do(t, "mkfs.fat", "-F", "16", fat16)
	fat32 := testkit.Image(t, "g.img", 600<<20)
	testkit.Do(t, "mkfs.fat", "-F", "32", fat32)
	ntfs := testkit.Image(t, "n.img", 64<<20)
	testkit.Do(t, "mkntfs", "-q", "-Q", "-F", ntfs)
	for _, c := range []struct {
		path string
		at   int64
		set  byte
		word string
	}{
		{ext, 1024 + 0x60, 0x04, "journal"}, {ext, 1024 + 0x3A, 0x00, "unmounted cleanly"},
		{ext, 1024 + 0x3A, 0x03, "recorded errors"},
		{fat16, 37, 1, "dirty"}, {fat32, 65, 1, "dirty"}, {fat16, 37, 2, "disk errors"},
		{ntfs, ntfsVolumeFlags(t, ntfs), 1, "dirty"},
	} {
		b := make([]byte, 1)
		f, err := os.OpenFile(c.path, os.O_RDWR, 0)
		if err != nil {
			t.Fatal(err)
		}
		f.ReadAt(b, c.at)
		set := c.set
		if c.at == 1024+0x60 {
			set |= b[0]
		}
		f.WriteAt([]byte{set}, c.at)
		got, _ := examine(t, c.path)
		if got.Maps || !strings.Contains(got.Info.Unclean, c.word) {
			t.Errorf("%s byte %d: %+v", c.path, c.at, got.Info)
		}
		for sp, err := range got.Spans() {
			if sp.Start != 0 || err != nil || sp.Len() != got.Used {
				t.Errorf("not all of it is read: %v %v", sp, err)
			}
		}
		f.WriteAt(b, c.at)
		f.Close()
		if got, _ := examine(t, c.path); !got.Maps {
			t.Errorf("%s isn't clean again: %s", c.path, got.Why)
		}
	}
}

// ntfsVolumeFlags finds the flags in $VOLUME_INFORMATION (version 3.1) of record 3.
func ntfsVolumeFlags(t *testing.T, path string) int64 {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	mft := int64(b[48]) * 4096 // a small volume: the cluster number fits a byte
	rec := b[mft+3*1024 : mft+4*1024]
	i := bytes.Index(rec, []byte{0, 0, 0, 0, 0, 0, 0, 0, 3, 1, 0, 0})
	if i < 0 {
		t.Fatal("no volume information found")
	}
	return mft + 3*1024 + int64(i) + 10
}

// TestContradictionsAreTakenWhole: maps that don't agree with counts aren't believed.
func TestContradictionsAreTakenWhole(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "mkfs.fat")
	ext := testkit.Image(t, "e.img", 64<<20)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-b", "4096", ext)
	out := testkit.Do(t, "dumpe2fs", ext)
	bitmap := field(t, out, `Block bitmap at (\d+)`) * 4096
	harm(t, ext, bitmap+900)
	if got, _ := examine(t, ext); got.Maps || !strings.Contains(got.Why, "contradict") {
		t.Errorf("ext: %+v", got)
	}
	fat := testkit.Image(t, "f.img", 64<<20)
	testkit.Do(t, "mkfs.fat", "-F", "16", fat)
	harm(t, fat, 4*512+100)
	if got, _ := examine(t, fat); got.Maps || !strings.Contains(got.Why, "tables differ") {
		t.Errorf("FAT: %+v", got)
	}
	both := testkit.Image(t, "b.img", 64<<20) // two signatures
	testkit.Do(t, "mkfs.ext4", "-q", "-F", both)
	testkit.Place(t, testkit.Extract(t, fat, 0, 1024), both, 0)
	if got, _ := examine(t, both); got.Maps || got.Info.Opaque == "" || !strings.Contains(got.Why, "more than one") {
		t.Errorf("two signatures: %+v", got)
	}
}

func harm(t *testing.T, path string, at int64) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	b := make([]byte, 1)
	f.ReadAt(b, at)
	b[0] ^= 0x10
	f.WriteAt(b, at)
}

func TestRunsAgainstBits(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for round := range 3000 {
		b := make([]byte, r.IntN(40))
		for i := range b {
			b[i] = []byte{0, 0xFF, byte(r.Uint32())}[r.IntN(3)]
		}
		if round%20 == 0 { // long ones of which most is the same
			long := bytes.Repeat([]byte{[]byte{0, 0xFF}[r.IntN(2)]}, r.IntN(3000))
			copy(long[r.IntN(len(long)+1):], b)
			b = append(long, bytes.Repeat([]byte{[]byte{0, 0xFF}[r.IntN(2)]}, r.IntN(3000))...)
		}
		n := r.IntN(len(b)*8 + 9)
		got := make([]bool, len(b)*8+16)
		for from, to := range fsys.Runs(b, n) {
			if from >= to {
				t.Fatalf("run %d to %d", from, to)
			}
			for i := from; i < to; i++ {
				got[i] = true
			}
		}
		for i := range len(b) * 8 {
			if want := i < n && b[i/8]&(1<<(i%8)) != 0; got[i] != want {
				t.Fatalf("bit %d of % x, first %d: %v", i, b, n, got[i])
			}
		}
	}
}

// fake is a volume with given spans.
type fake struct {
	size  int64
	spans []span.Span
	omit  span.Set
}

func (f fake) Info() fsys.Info { return fsys.Info{Kind: "fake", Size: f.size} }
func (f fake) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) {
		for _, s := range f.spans {
			if !yield(s, nil) {
				return
			}
		}
	}
}
func (f fake) Omissions() ([]fsys.Omission, error) {
	return []fsys.Omission{{What: "swap", Spans: f.omit}}, nil
}

func TestContentKeepsEdgesAndTail(t *testing.T) {
	const k = fsys.Edge
	var v fake
	probe := func(io.ReaderAt, int64, int) (fsys.Volume, error) { return v, nil }
	known := fsys.Families{{Name: "fake", Probe: probe}}
	for _, c := range []struct {
		name string
		v    fake
		maps bool
		want span.Set
	}{
		{"edges", fake{20 * k, []span.Span{{Start: 5 * k, End: 6 * k}}, span.Set{}}, true,
			span.Of(span.At(0, k), span.At(5*k, k), span.At(19*k, k))},
		{"shorter than its part", fake{10 * k, []span.Span{{Start: 0, End: k}}, span.Set{}}, true,
			span.Of(span.At(0, k), span.At(10*k, 10*k))},
		{"left out, but not at the edge",
			fake{20 * k, []span.Span{{Start: 0, End: 8 * k}}, span.Of(span.At(0, 3*k), span.At(6*k, k))}, true,
			span.Of(span.At(0, k), span.At(3*k, 3*k), span.At(7*k, k), span.At(19*k, k))},
		{"out of order", fake{20 * k, []span.Span{{Start: 5 * k, End: 6 * k}, {Start: 2 * k, End: 3 * k}}, span.Set{}},
			false, span.Of(span.At(0, 20*k))},
		{"beyond the end", fake{20 * k, []span.Span{{Start: 5 * k, End: 21 * k}}, span.Set{}}, false,
			span.Of(span.At(0, 20*k))},
	} {
		v = c.v
		m := disk.NewMemory(20*k, 512)
		got, err := known.Examine(context.Background(), m, m.Size(), 512)
		var set span.Set
		for sp := range got.Spans() {
			set.Add(sp)
		}
		if err != nil || got.Maps != c.maps || !set.Equal(c.want) || got.Used != c.want.Total() {
			t.Errorf("%s: maps %v, %v, used %d (%s)", c.name, got.Maps, set, got.Used, got.Why)
		}
	}
	v = fake{20 * k, nil, span.Set{}}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := families.Examine(ctx, disk.NewMemory(20*k, 512), 20*k, 512); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
}
