package restore_test

import (
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

// paced is a disk that gives so many bytes a second, however fast the machine's own is; 0 for as many as it can.
type paced struct {
	disk.Device
	rate int64

	mu   sync.Mutex
	free time.Time // when what was read before has come
}

// cache is how long a disk reads ahead by itself while nobody asks.
const cache = 30 * time.Millisecond

func (p *paced) ReadAt(b []byte, off int64) (int, error) {
	if p.rate > 0 {
		p.mu.Lock()
		if early := time.Now().Add(-cache); p.free.Before(early) {
			p.free = early
		}
		p.free = p.free.Add(time.Duration(int64(len(b)) * int64(time.Second) / p.rate))
		until := p.free
		p.mu.Unlock()
		time.Sleep(time.Until(until))
	}
	return p.Device.ReadAt(b, off)
}

// BenchmarkPacking captures from disks of several speeds with each way of packing, and reports the time beside that of
// only reading what is used, and of the general-purpose compressor; and the room beside that of the usual way.
func BenchmarkPacking(b *testing.B) {
	const rounds = 2
	img := mixed(b, 600<<20)
	used, bytes := usedBytes(b, img)
	packed := filepath.Join(b.TempDir(), "used.zst")
	ways := []capture.Packing{capture.PackUsual, capture.PackFollow, capture.PackClose, capture.PackSwift}
	for b.Loop() {
		for _, rate := range []int64{150e6, 400e6, 0} {
			took, room := map[capture.Packing][]float64{}, map[capture.Packing][]float64{}
			var reading, packing []float64
			for range rounds {
				reading = append(reading, timed(b, func() { readUsed(b, img, rate) }))
				packing = append(packing, timed(b, func() {
					shell(b, "zstd -q -1 -T2 -f "+used+" -o "+packed+" && sync "+packed)
				}))
				for _, way := range ways {
					s := newShelf(b)
					sv, err := survey.Of(b.Context(), &paced{Device: opened(b, img), rate: rate}, nil)
					if err != nil {
						b.Fatal(err)
					}
					p := capture.Plan{Shelf: s, Machine: "Harbour kiosk", Tool: "test", Packing: way,
						Sources: []capture.Source{{Survey: sv}}}
					work := func(rc *run.Context) error { _, err := p.Run(rc); return err }
					took[way] = append(took[way], timed(b, func() {
						if err := testkit.Run(b, work); err != nil {
							b.Fatal(err)
						}
					}))
					st, err := s.Stats(b.Context())
					if err != nil {
						b.Fatal(err)
					}
					room[way] = append(room[way], float64(st.Bytes))
				}
			}
			fmt.Printf("%d MB/s, %d MB used: only reading %.2f s, zstd -1 -T2 %.2f s\n", rate/1e6, bytes/1e6,
				middle(reading), middle(packing))
			for _, way := range ways {
				fmt.Printf("  %-8q %.2f s, %.2f of reading, %.2f of zstd; %.3f of the usual room\n", way,
					middle(took[way]), middle(took[way])/middle(reading), middle(took[way])/middle(packing),
					middle(room[way])/middle(room[capture.PackUsual]))
			}
		}
	}
}

// readUsed reads what a capture would.
func readUsed(b *testing.B, img string, rate int64) {
	b.Helper()
	sv, err := survey.Of(b.Context(), &paced{Device: opened(b, img), rate: rate}, nil)
	if err != nil {
		b.Fatal(err)
	}
	for i := range sv.Areas {
		a := &sv.Areas[i]
		for sp, err := range a.Content.Spans() {
			if err == nil {
				sp = sp.Shift(a.Span.Start)
				_, err = io.CopyBuffer(struct{ io.Writer }{io.Discard}, disk.Section(sv.Device, sp.Start, sp.Len()),
					make([]byte, 1<<20))
			}
			if err != nil {
				b.Fatal(err)
			}
		}
	}
}

// middle is the median.
func middle(all []float64) float64 {
	sorted := slices.Clone(all)
	slices.Sort(sorted)
	return sorted[len(sorted)/2]
}
