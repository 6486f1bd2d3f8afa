package restore_test

import (
	"cmp"
	"io"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/plan"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

// BenchmarkCopy measures a direct copy, and a restore, against copying only the used stretches in order to their places
// in a synced file, and the general-purpose decompressor, in turn.
func BenchmarkCopy(b *testing.B) {
	const rounds = 7
	img := mixed(b, 1<<30)
	d := opened(b, img)
	sv, err := survey.Of(b.Context(), d, nil)
	if err != nil {
		b.Fatal(err)
	}
	used, _ := usedBytes(b, img)
	packed, plain := filepath.Join(b.TempDir(), "used.zst"), filepath.Join(b.TempDir(), "plain")
	shell(b, "zstd -q -1 -T2 -f "+used+" -o "+packed)
	s := newShelf(b)
	src, err := s.OpenDisk(b.Context(), mustTake(b, s, img), 0)
	if err != nil {
		b.Fatal(err)
	}
	write := func(src disk.Mapped) float64 {
		target := testkit.Image(b, "target.img", d.Size())
		p, err := planned(b, src, testkit.Target(b, target), &disk.Guard{}, plan.Wish{})
		if err != nil {
			b.Fatal(err)
		}
		defer os.Remove(target)
		return timed(b, func() {
			if err := testkit.Run(b, p.Run); err != nil {
				b.Fatal(err)
			}
		})
	}
	var copies, restores []float64
	for b.Loop() {
		for range rounds {
			sequential := timed(b, func() { placed(b, img) })
			copies = append(copies, write(sv.Mapped())/sequential)
			unpack := timed(b, func() { shell(b, "zstd -q -d -f "+packed+" -o "+plain+" && sync "+plain) })
			restores = append(restores, write(src)/unpack)
		}
	}
	report(b, "copy/sequential", copies)
	report(b, "restore/unzstd", restores)
}

// placed copies the used stretches of an image in order to their places in a new file of the same size, and syncs it.
func placed(b *testing.B, img string) {
	b.Helper()
	d := opened(b, img)
	c, err := families.Examine(b.Context(), d, d.Size(), 512)
	if err != nil || !c.Maps {
		b.Fatalf("%v %s", err, c.Why)
	}
	f, err := os.OpenFile(testkit.Image(b, "placed.img", d.Size()), os.O_RDWR, 0)
	if err != nil {
		b.Fatal(err)
	}
	defer os.Remove(f.Name())
	defer f.Close()
	for sp, err := range c.Spans() {
		if err == nil {
			_, err = io.Copy(io.NewOffsetWriter(f, sp.Start), disk.Section(d, sp.Start, sp.Len()))
		}
		if err != nil {
			b.Fatal(err)
		}
	}
	if err := f.Sync(); err != nil {
		b.Fatal(err)
	}
}

// report gives the median, the least and the most of several ratios.
func report[T cmp.Ordered](b *testing.B, what string, all []T) {
	b.Helper()
	slices.Sort(all)
	b.Logf("%s: median %.2v, from %.2v to %.2v", what, all[len(all)/2], all[0], all[len(all)-1])
}
