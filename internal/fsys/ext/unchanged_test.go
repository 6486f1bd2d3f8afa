package ext

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

// pier makes a volume of two files and gives it, opened, with its image.
func pier(t *testing.T, options ...string) (*Volume, string) {
	t.Helper()
	testkit.Need(t, "mkfs.ext4", "debugfs")
	dir := t.TempDir()
	for name, n := range map[string]int{"ledger": 300_000, "fares": 5_000} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(strings.Repeat("pier ", n/5)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	img := testkit.Image(t, "pier.img", 32<<20)
	testkit.Do(t, "mkfs.ext4", append(append([]string{"-q", "-d", dir}, options...), img)...)
	return volume(t, img), img
}

func volume(t *testing.T, img string) *Volume {
	t.Helper()
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	v, err := Probe(d, d.Size(), 512)
	if err != nil || v == nil {
		t.Fatal(err)
	}
	return v.(*Volume)
}

// proven is how many bytes are proven unchanged from before to now.
func proven(t *testing.T, now, before fsys.Volume) int64 {
	t.Helper()
	var all span.Set
	if err := now.(*Volume).Unchanged(context.Background(), before, func(sp span.Span) error {
		if all.Overlaps(sp) {
			t.Errorf("%s is proven twice", sp)
		}
		all.Add(sp)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return all.Total()
}

func TestWhatRecordsProve(t *testing.T) {
	for _, options := range [][]string{nil, {"-b", "1024"}, {"-I", "128"}, {"-O", "^extents,^64bit"}} {
		v, img := pier(t, options...)
		all := proven(t, v, v)
		if strings.Contains(strings.Join(options, " "), "^extents") {
			if all != 0 {
				t.Errorf("%v: block maps prove %d bytes", options, all)
			}
			continue
		}
		if all < 300_000 || all > 400_000 {
			t.Errorf("%v: %d bytes are proven of a volume that is itself", options, all)
		}
		later := testkit.Extract(t, img, 0, 32<<20)
		testkit.Do(t, "debugfs", "-w", "-R", "sif /ledger mtime 20261125081500", later)
		if n := proven(t, volume(t, later), v); n >= 300_000 || n == 0 {
			t.Errorf("%v: with one file touched %d bytes are proven", options, n)
		}
		testkit.Do(t, "debugfs", "-w", "-R", "rm /fares", later)
		if n := proven(t, volume(t, later), v); n > 16<<10 { // an empty folder is left
			t.Errorf("%v: with both changed %d bytes are proven", options, n)
		}
		testkit.Do(t, "debugfs", "-w", "-R", "ssv lastcheck 20261125081500", later)
		if n := proven(t, volume(t, later), v); n != 0 {
			t.Errorf("%v: after a check %d bytes are proven", options, n)
		}
		read := testkit.Extract(t, img, 0, 32<<20)
		testkit.Do(t, "debugfs", "-w", "-R", "sif /ledger atime 20261125081500", read)
		if n := proven(t, volume(t, read), v); n != all {
			t.Errorf("%v: after reading %d of %d bytes are proven", options, n, all)
		}
	}
}

func TestOtherVolumesProveNothing(t *testing.T) {
	v, _ := pier(t)
	for what, other := range map[string]fsys.Volume{
		"another identity":   func() fsys.Volume { o, _ := pier(t); return o }(),
		"another block size": func() fsys.Volume { o, _ := pier(t, "-b", "1024"); return o }(),
		"another family":     nil,
	} {
		if n := proven(t, v, other); n != 0 {
			t.Errorf("%s: %d bytes", what, n)
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if err := v.Unchanged(ctx, v, func(span.Span) error { return nil }); err == nil {
		t.Error("it doesn't stop")
	}
}

// TestKernelsOwnInodes: the journal is a file of which the inode never changes.
func TestKernelsOwnInodes(t *testing.T) {
	v, _ := pier(t)
	first, others, err := v.kernels()
	if err != nil || first != 11 || !others[8] {
		t.Errorf("%d %v %v", first, others, err)
	}
	journal, err := v.readInode(8)
	if err != nil {
		t.Fatal(err)
	}
	x, err := v.extents(journal)
	if err != nil || len(x) == 0 {
		t.Fatal(err)
	}
	if err := v.Unchanged(context.Background(), v, func(sp span.Span) error {
		if sp.Overlaps(span.At(x[0].physical*v.blockSize, x[0].n*v.blockSize)) {
			t.Errorf("the journal at %s is taken for unchanged", sp)
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
}
