package shelf

import (
	"fmt"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/table"
)

// BenchmarkThousandTwins generates a shelf of 1,000 twins of 20 machines with two disks of 1 TB each, and reports what
// opening it and showing its dates costs.
func BenchmarkThousandTwins(b *testing.B) {
	dir := filepath.Join(b.TempDir(), "oak")
	s, err := Create(b.Context(), dir, store.New{Name: "Oak"})
	if err != nil {
		b.Fatal(err)
	}
	const nodes = 1_000_204_886_016/(1<<30) + 1
	now := time.Now()
	name := s.NameOf([]byte("a node")).String()
	r := Region{Part: 1, Span: span.Span{End: nodes << 30}, Captured: true}
	for range nodes {
		r.Nodes = append(r.Nodes, name)
	}
	d := TwinDisk{Identity: disk.Identity{Model: "m", Size: nodes << 30, Sector: 512},
		Table: &table.Table{Sector: 512}, Regions: []Region{r}}
	for i := range 1000 {
		t := &Twin{Machine: fmt.Sprintf("Machine %02d", i%20), Taken: now.Add(time.Duration(i) * time.Hour),
			Used:  1 << 38,
			Added: 1 << 30, Disks: []TwinDisk{d, d}}
		t.ID = NewTwinID(t.Taken)
		if err := s.writeTwin(b.Context(), nil, t.Clone()); err != nil {
			b.Fatal(err)
		}
	}
	s.Close()
	runtime.GC()
	b.ResetTimer()
	for b.Loop() {
		start := time.Now()
		s, err := Open(b.Context(), dir, nil)
		if err != nil {
			b.Fatal(err)
		}
		opened := time.Since(start)
		twins, problems := s.Twins(b.Context())
		if len(twins) != 1000 || len(problems) > 0 {
			b.Fatal(len(twins), problems)
		}
		b.ReportMetric(float64(opened.Milliseconds()), "ms-open")
		b.ReportMetric(float64(time.Since(start).Milliseconds()), "ms-open+dates")
		s.Close()
	}
}
