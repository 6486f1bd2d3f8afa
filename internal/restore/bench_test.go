package restore_test

import (
	"encoding/binary"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

// mixed makes an ext4 image with about n bytes of what this machine has:
// programs, libraries, texts, and already compressed archives.
func mixed(b *testing.B, n int64) string {
	b.Helper()
	testkit.Need(b, "mkfs.ext4", "zstd", "cp")
	dir := filepath.Join(b.TempDir(), "tree")
	left := n
	for i, root := range []string{"/usr/bin", "/usr/share", "/usr/lib", "/var", "/usr/local"} {
		share := left
		if i < 2 {
			share = n / 5 // some of each kind
		}
		_ = filepath.WalkDir(root, func(p string, e os.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return nil
			}
			st, err := e.Info()
			if err != nil || st.Size() > n/10 {
				return nil
			}
			if share -= st.Size(); share < 0 {
				return filepath.SkipAll
			}
			to := filepath.Join(dir, p)
			data, err := os.ReadFile(p)
			if err == nil && os.MkdirAll(filepath.Dir(to), 0o755) == nil && os.WriteFile(to, data, 0o644) == nil {
				left -= st.Size()
			}
			return nil
		})
	}
	img := testkit.Image(b, "mixed.img", 4*n)
	testkit.Do(b, "mkfs.ext4", "-q", "-F", "-d", dir, img)
	if err := os.RemoveAll(dir); err != nil {
		b.Fatal(err)
	}
	return img
}

// usedBytes writes the bytes that a capture reads into a plain file.
func usedBytes(b *testing.B, img string) (path string, n int64) {
	b.Helper()
	d := opened(b, img)
	c, err := families.Examine(b.Context(), d, d.Size(), 512)
	if err != nil || !c.Maps {
		b.Fatalf("%v %s", err, c.Why)
	}
	path = filepath.Join(b.TempDir(), "used")
	f, err := os.Create(path)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	for sp, err := range c.Spans() {
		if err != nil {
			b.Fatal(err)
		}
		if _, err := io.Copy(f, disk.Section(d, sp.Start, sp.Len())); err != nil {
			b.Fatal(err)
		}
	}
	return path, c.Used
}

// Two ways in which one part in a hundred of what is used changes: in places of 256 KiB inside of files, which touches
// most of what large files hold, as a busy database does; and as files beside each other that are written anew, as an
// update or a day's work does.
const (
	changedInside = iota
	changedFiles
)

// change writes new bytes over one part in a hundred of what is used, through the kernel.
func change(b *testing.B, img string, how int) {
	b.Helper()
	testkit.Root(b)
	const place = 256 << 10
	r := rand.New(rand.NewPCG(5, uint64(time.Now().UnixNano())))
	passed, wrote, used := int64(0), int64(0), int64(0)
	testkit.Mounted(b, []string{"mount", "-o", "loop", img}, func(point string) {
		var st syscall.Statfs_t
		if err := syscall.Statfs(point, &st); err != nil {
			b.Fatal(err)
		}
		used = int64(st.Blocks-st.Bfree) * st.Bsize
		if err := filepath.WalkDir(point, func(p string, e os.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return err
			}
			st, err := e.Info()
			if err != nil {
				return err
			}
			n, at := int64(place), (st.Size()-place)/2
			passed += st.Size()
			switch how {
			case changedFiles:
				if n, at = st.Size(), 0; passed < used/2 || wrote >= used/100 || n > used/200 {
					return nil
				}
			default:
				if passed < 100*n || st.Size() < n {
					return nil
				}
				passed -= 100 * n
			}
			wrote += n
			buf := make([]byte, (n+7)/8*8)
			for i := 0; i < len(buf); i += 8 {
				binary.LittleEndian.PutUint64(buf[i:], r.Uint64())
			}
			f, err := os.OpenFile(p, os.O_RDWR, 0)
			if err != nil {
				return err
			}
			defer f.Close()
			_, err = f.WriteAt(buf[:n], at)
			return err
		}); err != nil {
			b.Fatal(err)
		}
	})
	testkit.LoopGone(b, img)
}

func timed(b *testing.B, work func()) float64 {
	b.Helper()
	testkit.Do(b, "sync")
	start := time.Now()
	work()
	return time.Since(start).Seconds()
}

// shell runs a command line of general-purpose tools.
func shell(b *testing.B, line string) {
	b.Helper()
	if out, err := exec.Command("sh", "-c", line).CombinedOutput(); err != nil {
		b.Fatalf("%s: %v: %s", line, err, out)
	}
}

// peakMiB is the most memory this process ever had resident, in MiB (proc(5), VmHWM).
func peakMiB(b *testing.B) float64 {
	b.Helper()
	raw, err := os.ReadFile("/proc/self/status")
	if err != nil {
		b.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(raw), "VmHWM:")
	kib, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
	if err != nil {
		b.Fatal(err)
	}
	return kib / 1024
}

// resetPeak makes VmHWM begin anew (proc(5), clear_refs).
func resetPeak() {
	debug.FreeOSMemory()
	_ = os.WriteFile("/proc/self/clear_refs", []byte("5"), 0)
}

// BenchmarkJob reports, as ratios within one run, the time of a first capture, of
// a second one after 1 % changed, and of a restore, against the general-purpose
// compressor on the same bytes.
func BenchmarkJob(b *testing.B) {
	b.Run("open", func(b *testing.B) { job(b, newShelf) })
	b.Run("sealed", func(b *testing.B) { job(b, newSealed) })
}

func newSealed(b testing.TB) *shelf.Shelf {
	b.Helper()
	s, err := shelf.Create(b.Context(), filepath.Join(b.TempDir(), "elm"),
		store.New{Name: "Elm", Passphrase: []byte("gulls over the pier"), Cost: store.Cost{}})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(s.Close)
	return s
}

func job(b *testing.B, newShelf func(testing.TB) *shelf.Shelf) {
	img := mixed(b, 1<<30)
	used, n := usedBytes(b, img)
	for b.Loop() {
		packed, plain := filepath.Join(b.TempDir(), "used.zst"), filepath.Join(b.TempDir(), "plain")
		pack := timed(b, func() { shell(b, "zstd -q -1 -T2 -f "+used+" -o "+packed+" && sync "+packed) })
		unpack := timed(b, func() { shell(b, "zstd -q -d -f "+packed+" -o "+plain+" && sync "+plain) })
		s := newShelf(b)
		resetPeak()
		var twin *shelf.Twin
		first := timed(b, func() { twin = mustTake(b, s, img) })
		peak := peakMiB(b)
		change(b, img, changedInside)
		second := timed(b, func() { mustTakeAll(b, s, img) })
		change(b, img, changedInside)
		inside := timed(b, func() { mustTake(b, s, img) })
		change(b, img, changedFiles)
		files := timed(b, func() { mustTake(b, s, img) })
		target := testkit.Image(b, "target.img", opened(b, img).Size())
		src, err := s.OpenDisk(b.Context(), twin, 0)
		if err != nil {
			b.Fatal(err)
		}
		resetPeak()
		back := timed(b, func() {
			if err := restoreOnly(b, src, s, target); err != nil {
				b.Fatal(err)
			}
		})
		b.ReportMetric(float64(n)/1e6, "MB-used")
		b.ReportMetric(float64(twin.Added)/float64(n), "stored/used")
		b.ReportMetric(first/pack, "first/zstd")
		b.ReportMetric(second/first, "second/first")
		b.ReportMetric(inside/first, "by-records-inside/first")
		b.ReportMetric(files/first, "by-records-files/first")
		b.ReportMetric(back/unpack, "restore/unzstd")
		b.ReportMetric(peak, "capture-MiB")
		b.ReportMetric(peakMiB(b), "restore-MiB")
	}
}

func mustTake(b *testing.B, s *shelf.Shelf, img string) *shelf.Twin {
	b.Helper()
	t, err := take(b, s, opened(b, img))
	if err != nil {
		b.Fatal(err)
	}
	return t
}

// mustTakeAll reads everything, whatever the records say.
func mustTakeAll(b *testing.B, s *shelf.Shelf, img string) {
	b.Helper()
	sv, err := survey.Of(b.Context(), opened(b, img), nil)
	if err != nil {
		b.Fatal(err)
	}
	p := capture.Plan{Shelf: s, Machine: "Harbour kiosk", Tool: "test", Trust: capture.TrustNone,
		Sources: []capture.Source{{Survey: sv}}}
	if err := testkit.Run(b, func(rc *run.Context) error { _, err := p.Run(rc); return err }); err != nil {
		b.Fatal(err)
	}
}

// BenchmarkPlanHugeDisk reports how long the planning of a sparse disk of 16 TB
// with an empty ext4 takes, and how much memory.
func BenchmarkPlanHugeDisk(b *testing.B) {
	testkit.Need(b, "mkfs.ext4")
	const size = 15_900_000_000_000 / 4096 * 4096 // under the 16 TiB that a file may have on ext4
	img := testkit.Image(b, "huge.img", size)
	testkit.Do(b, "mkfs.ext4", "-q", "-F", "-E", "lazy_itable_init=1", "-O", "^has_journal", img)
	resetPeak()
	for b.Loop() {
		d := opened(b, img)
		c, err := families.Examine(b.Context(), d, d.Size(), 512)
		if err != nil || !c.Maps {
			b.Fatalf("%v %s", err, c.Why)
		}
	}
	b.ReportMetric(peakMiB(b), "MiB")
}
