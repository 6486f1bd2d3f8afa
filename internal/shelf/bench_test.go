package shelf

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// BenchmarkThousandTwins generates a shelf of 1,000 twins of 20 machines with two disks of 1 TB each, and reports what
// opening it and showing its dates costs, how large the index is, and what a lookup costs.
func BenchmarkThousandTwins(b *testing.B) {
	dir := filepath.Join(b.TempDir(), "oak")
	s, err := Create(dir, "Oak", 0)
	if err != nil {
		b.Fatal(err)
	}
	const nodes = 1_000_204_886_016 / (1 << 30)
	now := time.Now()
	name := s.ring.nameOf([]byte("a node")).String()
	for i := range 1000 {
		t := &Twin{Machine: fmt.Sprintf("Machine %02d", i%20), Taken: now.Add(time.Duration(i) * time.Hour), Used: 1 << 38, Added: 1 << 30}
		t.ID = NewTwinID(t.Taken)
		for range 2 {
			size := int64(nodes+1) << 30
			d := TwinDisk{Identity: disk.Identity{Model: "m", Size: size, Sector: 512}, Table: &table.Table{Sector: 512}}
			r := Region{Part: 1, Span: span.Span{End: size}, Captured: true}
			for range nodes + 1 {
				r.Nodes = append(r.Nodes, name)
			}
			d.Regions = []Region{r}
			t.Disks = append(t.Disks, d)
		}
		if err := s.writeTwin(t); err != nil {
			b.Fatal(err)
		}
	}
	// An index of 2 million blocks: 2 TB.
	const blocks = 2 << 20
	records := make([]indexRecord, blocks)
	for i := range records {
		records[i] = indexRecord{checksum(fmt.Append(nil, i)), place{"0011223344556677", int64(i) * 500_000, 499_000}}
	}
	seg, err := s.writeSegment(s.ring.encodeSegment(sortRecords(records)))
	if err != nil {
		b.Fatal(err)
	}
	// An index entry counts only where its pack is there.
	if err := s.writeFile(packPath("0011223344556677"), header{kind: kindPack}.encode()); err != nil {
		b.Fatal(err)
	}
	st, err := os.Stat(filepath.Join(dir, seg.file))
	if err != nil {
		b.Fatal(err)
	}
	some := records[777_777].name
	records = nil
	s.Close()
	runtime.GC()
	b.ResetTimer()
	for b.Loop() {
		start := time.Now()
		s, err := Open(dir)
		if err != nil {
			b.Fatal(err)
		}
		opened := time.Since(start)
		twins, problems := s.Twins()
		if len(twins) != 1000 || len(problems) > 0 {
			b.Fatal(len(twins), problems)
		}
		b.ReportMetric(float64(opened.Milliseconds()), "ms-open")
		b.ReportMetric(float64(time.Since(start).Milliseconds()), "ms-open+dates")
		start = time.Now()
		const lookups = 2000
		for range lookups {
			if _, ok, err := s.lookup(some); !ok || err != nil {
				b.Fatal(ok, err)
			}
		}
		b.ReportMetric(float64(time.Since(start).Microseconds())/lookups, "µs-lookup")
		b.ReportMetric(float64(st.Size())/2/1e6, "MB-index/TB")
		s.Close()
	}
}
