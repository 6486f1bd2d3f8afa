package restore_test

import (
	"cmp"
	"path/filepath"
	"slices"
	"testing"

	"twinshelf/internal/shelf"
)

// BenchmarkFirst measures first captures, into an open and into a sealed shelf, and the
// general-purpose compressor in turn, several times within one run, and reports the
// medians and the extremes of the ratios: one measurement alone says little on a busy machine.
func BenchmarkFirst(b *testing.B) {
	const rounds = 7
	img := mixed(b, 1<<30)
	used, _ := usedBytes(b, img)
	packed := filepath.Join(b.TempDir(), "used.zst")
	var open, sealed []float64
	for b.Loop() {
		for range rounds {
			pack := timed(b, func() { shell(b, "zstd -q -1 -T2 -f "+used+" -o "+packed+" && sync "+packed) })
			for _, k := range []struct {
				shelf func(testing.TB) *shelf.Shelf
				to    *[]float64
			}{{newSealed, &sealed}, {newShelf, &open}} {
				s := k.shelf(b)
				*k.to = append(*k.to, timed(b, func() { mustTake(b, s, img) })/pack)
			}
		}
	}
	report(b, "open/zstd", open)
	report(b, "sealed/zstd", sealed)
}

// report gives the median, the least and the most of several ratios.
func report[T cmp.Ordered](b *testing.B, what string, all []T) {
	b.Helper()
	slices.Sort(all)
	b.Logf("%s: median %.2v, from %.2v to %.2v", what, all[len(all)/2], all[0], all[len(all)-1])
}
