package bench_test

import (
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/bench"
	"twinshelf/internal/hive/hivetest"
	"twinshelf/internal/table"
)

// TestSystems: what a Windows says of itself is known of a disk that was probed, and stays known while nothing is
// written.
func TestSystems(t *testing.T) {
	dir := t.TempDir()
	img := filepath.Join(dir, "till.img")
	if err := os.Rename(hivetest.Till(t, table.MBR, nil), img); err != nil {
		t.Fatal(err)
	}
	b := &bench.Bench{Images: []string{img}}
	var was *bench.Disk
	for range 2 {
		d := b.List()[0]
		b.ProbeAgain(t.Context(), d, was)
		if len(d.Systems) != 1 || d.Systems[0].Machine != "TILL-2" || d.Systems[0].Part != 2 {
			t.Fatalf("%s: %+v", d.Problem, d.Systems)
		}
		was = d
	}
}
