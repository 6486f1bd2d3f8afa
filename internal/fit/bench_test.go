package fit

import (
	"context"
	"runtime"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// BenchmarkPlan reports what planning the growth of a volume on 1 TB to 15.9 TB costs, and how much is written for it.
func BenchmarkPlan(b *testing.B) {
	for _, kind := range []string{"ext4", "NTFS"} {
		b.Run(kind, func(b *testing.B) {
			m, err := families.MakerOf(kind)
			if err != nil {
				b.Fatal(err)
			}
			patches, err := m.Format(fsys.Form{Kind: kind, Size: units.TB / 4096 * 4096, Sector: 512})
			if err != nil {
				b.Fatal(err)
			}
			img := testkit.Image(b, "large.img", units.TB/4096*4096)
			testkit.Write(b, img, patches)
			src, err := disk.Open(img, disk.Identity{})
			if err != nil {
				b.Fatal(err)
			}
			defer src.Close()
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			written := int64(0)
			for b.Loop() {
				p, err := Make(context.Background(), src,
					disk.Identity{Size: 15_900_000_000_000 / 4096 * 4096, Sector: 512}, Wish{})
				if err != nil {
					b.Fatal(err)
				}
				if p.Parts[0].Becomes < 15*units.TB {
					b.Fatalf("%+v", p)
				}
				written = 0
				for _, q := range p.Patches {
					written += q.Span().Len()
				}
			}
			runtime.ReadMemStats(&after)
			b.ReportMetric(float64(after.TotalAlloc-before.TotalAlloc)/float64(b.N)/units.MiB, "MiB-allocated")
			b.ReportMetric(float64(written)/units.MiB, "MiB-patched")
		})
	}
}
