package restore_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/testkit"
)

// cache is how long a drive reads ahead by itself while nobody asks.
const cache = 30 * time.Millisecond

// farTwin is a twin's disk whose blocks come at so many bytes a second, as from a shelf on a slow drive; 0 for as many
// as there can be.
type farTwin struct {
	*shelf.Disk
	rate int64

	mu   sync.Mutex
	free time.Time // when what was read before has come
}

func (d *farTwin) ReadPiece(p disk.Piece, dst []byte) ([]byte, error) {
	if d.rate > 0 {
		d.mu.Lock()
		if early := time.Now().Add(-cache); d.free.Before(early) {
			d.free = early
		}
		d.free = d.free.Add(time.Duration(p.Len() * int64(time.Second) / d.rate))
		until := d.free
		d.mu.Unlock()
		time.Sleep(time.Until(until))
	}
	return d.Disk.ReadPiece(p, dst)
}

// BenchmarkProven restores with the full proof, once after the writing and once meanwhile, from shelves of several
// speeds, and reports the time beside that of the general-purpose program unpacking the same bytes into a synced file.
func BenchmarkProven(b *testing.B) {
	testkit.Root(b)
	const rounds = 3
	img := mixed(b, 1<<30)
	used, n := usedBytes(b, img)
	packed, plain := filepath.Join(b.TempDir(), "used.zst"), filepath.Join(b.TempDir(), "plain")
	shell(b, "zstd -q -1 -T2 -f "+used+" -o "+packed)
	s := newShelf(b)
	twin := mustTake(b, s, img)
	size := opened(b, img).Size()
	for b.Loop() {
		for _, rate := range []int64{0, 150e6} {
			var unpacking, after, meanwhile []float64
			for range rounds {
				unpacking = append(unpacking, cold(b, func() {
					shell(b, "zstd -q -d -f "+packed+" -o "+plain+" && sync "+plain)
				}))
				for _, early := range []bool{false, true} {
					target := testkit.Image(b, "target.img", size)
					took := cold(b, func() { restoredAndProven(b, s, twin, target, rate, early) })
					if os.Remove(target); early {
						meanwhile = append(meanwhile, took)
					} else {
						after = append(after, took)
					}
				}
			}
			fmt.Printf("%d MB/s, %d MB used: zstd -d %.2f s; restore and proof %.2f s, %.2f of it; proof meanwhile "+
				"%.2f s, %.2f of it (%.1f, %.1f, %.1f)\n", rate/1e6, n/1e6, middle(unpacking), middle(after),
				middle(after)/middle(unpacking), middle(meanwhile), middle(meanwhile)/middle(unpacking), unpacking,
				after, meanwhile)
		}
	}
}

// cold is timed, with nothing in the kernel's memory before.
func cold(b *testing.B, work func()) float64 {
	b.Helper()
	testkit.Do(b, "sync")
	if err := os.WriteFile("/proc/sys/vm/drop_caches", []byte("3"), 0o200); err != nil {
		b.Fatal(err)
	}
	return timed(b, work)
}

func restoredAndProven(b *testing.B, s *shelf.Shelf, twin *shelf.Twin, target string, rate int64, early bool) {
	b.Helper()
	d, err := s.OpenDisk(b.Context(), twin, 0)
	if err != nil {
		b.Fatal(err)
	}
	p, err := planned(b, &farTwin{Disk: d, rate: rate}, testkit.Target(b, target), &disk.Guard{}, kept())
	if err != nil {
		b.Fatal(err)
	}
	dev := opened(b, target)
	e := prove.Begin(b.Context(), &twin.Disks[0], p.Plan, dev)
	defer e.Stop()
	if early {
		p.Follow = e.Wrote
	}
	if err := testkit.Run(b, p.Run); err != nil {
		b.Fatal(err)
	}
	var proof *shelf.Proof
	if err := testkit.Run(b, func(rc *run.Context) (err error) {
		proof, err = e.Target(rc, "test")
		return err
	}); err != nil || !proof.Holds() {
		b.Fatalf("%v %+v", err, proof)
	}
}

// middle is the median.
func middle(all []float64) float64 {
	sorted := slices.Clone(all)
	slices.Sort(sorted)
	return sorted[len(sorted)/2]
}
