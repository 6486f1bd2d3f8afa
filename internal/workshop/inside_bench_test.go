package workshop

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"testing"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/names"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/testkit"
)

// BenchmarkLookInside makes a shelf with many dates of an ext4 volume with many files (BENCH_FILES, BENCH_DATES;
// 500,000 and 100 when they aren't set), of which a hundredth changes between dates, and times a search, a folder and a
// comparison.
func BenchmarkLookInside(b *testing.B) {
	testkit.Need(b, "mkfs.ext4", "mount")
	testkit.Root(b)
	number := func(name string, usual int) int {
		if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
			return n
		}
		return usual
	}
	files, dates := number("BENCH_FILES", 500_000), number("BENCH_DATES", 100)
	dir := b.TempDir()
	img := filepath.Join(dir, "harbour.img")
	testkit.Sparse(b, img, 12<<30)
	testkit.Do(b, "mkfs.ext4", "-q", "-F", "-N", strconv.Itoa(files*5/4+20_000), img)
	name := func(i int) string { return fmt.Sprintf("desk %03d/tickets %02d/Ticket %07d.txt", i/5000, i/500%10, i) }
	put := func(point, name string, n int) {
		p := filepath.Join(point, name)
		if os.WriteFile(p, bytes.Repeat([]byte{byte(n)}, n%900), 0o644) != nil {
			_ = os.MkdirAll(filepath.Dir(p), 0o755)
			_ = os.WriteFile(p, bytes.Repeat([]byte{byte(n)}, n%900), 0o644)
		}
	}
	s, err := shelf.Create(b.Context(), filepath.Join(dir, "oak"), store.New{Name: "Oak"})
	if err != nil {
		b.Fatal(err)
	}
	w, err := New(filepath.Join(dir, "state"), []string{img}, false)
	if err != nil {
		b.Fatal(err)
	}
	w.Use(b.Context(), s)
	var listing time.Duration
	for d := range dates {
		testkit.Mounted(b, []string{"mount", "-o", "loop", img}, func(point string) {
			if d == 0 {
				for i := range files {
					put(point, name(i), i)
				}
				for i := range 100_000 * min(1, files/400_000) {
					put(point, fmt.Sprintf("one folder/entry %06d", i), 10)
				}
			}
			for i := range files / 100 { // a hundredth, in a few folders, changes or comes new
				at := (d*files/37 + i) % files
				put(point, name(at), i+d)
				if i%20 == 0 {
					put(point, fmt.Sprintf("desk %03d/of day %d %d.txt", at/5000, d, i), i)
				}
			}
		})
		testkit.LoopGone(b, img)
		disks := w.Bench.List()
		w.Bench.Probe(context.Background(), disks[0])
		p, err := w.PlanCapture(b.Context(), "Harbour", []*bench.Disk{disks[0]}, nil, nil)
		if err != nil {
			b.Fatal(err)
		}
		p.Now = time.Now().Add(time.Duration(d) * time.Hour)
		r, twin := w.StartCapture(context.Background(), p, nil)
		if err := r.Wait(); err != nil {
			b.Fatal(err)
		}
		if d == 0 { // how long listing alone takes
			lib, _ := w.Library()
			_ = lib
			start := time.Now()
			in, err := w.LookInto(b.Context(), Origin{Twin: twin()})
			if err != nil {
				b.Fatal(err)
			}
			t, _ := in.Parts[0].Tree(b.Context())
			if _, err := names.Make(context.Background(), t, &names.Memory{}); err != nil {
				b.Fatal(err)
			}
			listing = time.Since(start)
		}
	}
	s.Close()
	runtime.GC()
	for b.Loop() {
		s, err := shelf.Open(b.Context(), filepath.Join(dir, "oak"), nil)
		if err != nil {
			b.Fatal(err)
		}
		w.Use(b.Context(), s)
		timed := func(name string, work func() error) {
			start := time.Now()
			if err := work(); err != nil {
				b.Fatal(err)
			}
			b.ReportMetric(float64(time.Since(start).Microseconds())/1000, name+"-ms")
		}
		search := func() error {
			res, err := library(b, w).Search(context.Background(), names.Query{Text: "ticket 00123*"}, "", 1000, nil)
			if err == nil && len(res.Found) != 100 {
				err = fmt.Errorf("%d found", len(res.Found))
			}
			return err
		}
		timed("search-cold", search)
		timed("search-warm", search)
		timed("search-many", func() error {
			_, err := library(b, w).Search(context.Background(), names.Query{Text: "txt"}, "", 1000, nil)
			return err
		})
		twins, _ := s.Twins(b.Context())
		folder := func(path string) func() error {
			return func() error {
				in, err := w.LookInto(b.Context(), Origin{Twin: twins[0]})
				if err != nil {
					return err
				}
				p, it, _, err := in.Resolve(b.Context(), path)
				if err != nil {
					return err
				}
				t, _ := p.Tree(b.Context())
				_, err = fsys.Entries(t, it)
				return err
			}
		}
		timed("folder", folder("1:desk 003/tickets 02"))
		if files >= 400_000 {
			timed("folder-100000", folder("1:one folder"))
		}
		timed("history", func() error {
			in, err := w.LookInto(b.Context(), Origin{Twin: twins[0]})
			if err == nil {
				_, err = library(b, w).Follow(context.Background(), "Harbour", in.Parts[0], name(12345))
			}
			return err
		})
		timed("compare", func() error {
			a, _ := w.LookInto(b.Context(), Origin{Twin: twins[len(twins)-1]})
			z, err := w.LookInto(b.Context(), Origin{Twin: twins[0]})
			if err != nil {
				return err
			}
			_, err = inside.Compare(context.Background(), library(b, w), a, z, nil, "")
			return err
		})
		b.ReportMetric(listing.Seconds()*1000, "listing-ms")
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		b.ReportMetric(float64(m.HeapInuse)/(1<<20), "heap-MiB")
		s.Close()
	}
}
