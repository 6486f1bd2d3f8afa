package takeout

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"twinshelf/internal/run"
	"twinshelf/internal/testkit"
)

// BenchmarkTakeOut reports the time of taking a tree out, as a ratio to cp -a of the same tree from the mounted image
// and a sync, by turns in one run: medians of five rounds.
func BenchmarkTakeOut(b *testing.B) {
	img, tree := imaged(b, func(dir string) {
		office(b, dir, 15_000)
		for i := range 6 {
			big := make([]byte, 30<<20)
			for j := range big {
				big[j] = byte(j * (i + 3) >> 5)
			}
			must(b, os.WriteFile(filepath.Join(dir, "papers", "film "+string(rune('a'+i))), big, 0o644))
		}
	})
	all := choose(b, tree, "tickets", "papers", "large.bin")
	for b.Loop() {
		var plain, bare, whole []float64
		testkit.Mounted(b, []string{"mount", "-o", "loop,ro,noatime", img}, func(point string) {
			for range 5 {
				timed := func(work func(dest string)) float64 {
					dest := filepath.Join(b.TempDir(), "out")
					must(b, os.Mkdir(dest, 0o755))
					start := time.Now()
					work(dest)
					testkit.Do(b, "sync", "-f", dest)
					took := time.Since(start).Seconds()
					must(b, os.RemoveAll(dest))
					return took
				}
				_ = os.WriteFile("/proc/sys/vm/drop_caches", []byte("3"), 0o200)
				plain = append(plain, timed(func(dest string) {
					out, err := exec.Command("cp", "-a", filepath.Join(point, "tickets"),
						filepath.Join(point, "papers"), filepath.Join(point, "large.bin"), dest).CombinedOutput()
					if err != nil {
						b.Fatalf("%v: %s", err, out)
					}
				}))
				for i, times := range []*[]float64{&bare, &whole} {
					_ = os.WriteFile("/proc/sys/vm/drop_caches", []byte("3"), 0o200)
					*times = append(*times, timed(func(dest string) {
						must(b, testkit.Run(b, func(rc *run.Context) error {
							_, err := ToFolder(rc, all, dest, Options{NoVerify: i == 0})
							return err
						}))
					}))
				}
			}
		})
		median := func(x []float64) float64 { slices.Sort(x); return x[len(x)/2] }
		b.ReportMetric(median(bare)/median(plain), "×cp-a")
		b.ReportMetric(median(whole)/median(plain), "×cp-a-verified")
		b.ReportMetric(median(plain), "s-cp-a")
	}
}
