package rescue_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/inside"
	"twinshelf/internal/rescue"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

const diskSize = 160 * units.MiB

// crane makes a disk with a start-up part and an ext4 part with files.
func crane(t testing.TB) string {
	t.Helper()
	testkit.Need(t, "mkfs.fat", "mkfs.ext4", "mcopy")
	esp := testkit.Image(t, "esp", 34*units.MiB)
	testkit.Do(t, "mkfs.fat", "-F", "32", "-n", "CRANE", esp)
	tree := t.TempDir()
	for i := range 24 {
		dir := filepath.Join(tree, fmt.Sprintf("lifts/%02d", i%4))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("log-%02d.dat", i)),
			testkit.Noise(uint64(i), 100_000+i*70_000), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	root := testkit.Image(t, "root", 100*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", "-L", "crane-root", "-d", tree, root)
	img := filepath.Join(t.TempDir(), "crane.img")
	const guid = "7A5E0F10-3B1C-4D5A-9C00-00000000C1"
	testkit.Sparse(t, img, diskSize)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: guid + "00", Parts: []table.Part{
		{Number: 1, Span: span.At(units.MiB, 34*units.MiB), Type: table.TypeESP, GUID: guid + "01"},
		{Number: 2, Span: span.At(36*units.MiB, 100*units.MiB), Type: table.TypeLinuxData, GUID: guid + "02"},
	}}, diskSize)
	testkit.Place(t, esp, img, units.MiB)
	testkit.Place(t, root, img, 36*units.MiB)
	return img
}

// dying is a drive with bad places that can be cut off after so many reads.
type dying struct {
	disk.Device
	bad   span.Set
	reads atomic.Int64
	most  int64  // reads; 0 for no end
	cut   func() // called when they are used up
	seen  []span.Span
}

func (d *dying) ReadAt(p []byte, off int64) (int, error) {
	if n := d.reads.Add(1); d.most > 0 && n >= d.most {
		d.cut()
	}
	sp := span.At(off, int64(len(p)))
	if hit := d.bad.Clip(sp); !hit.Empty() {
		return 0, fmt.Errorf("read at byte %d: %w", hit.Bounds().Start, disk.ErrMedium)
	}
	d.seen = append(d.seen, sp)
	return d.Device.ReadAt(p, off)
}

func opened(t testing.TB, path string) *disk.File {
	t.Helper()
	d, err := disk.Open(path, disk.Identity{Model: "Petrel P 32", Serial: "PT32-9C04"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

func newShelf(t testing.TB) *shelf.Shelf {
	t.Helper()
	s, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "oak"), store.New{Name: "Oak"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// plain hides that the device knows its holes, so that every read is one.
type plain struct{ disk.Device }

func sit(t testing.TB, ctx context.Context, p *rescue.Plan) (*shelf.Twin, error) {
	t.Helper()
	var twin *shelf.Twin
	err := run.Start(ctx, "Rescue", rescue.Phases, nil, func(rc *run.Context) (err error) {
		twin, err = p.Run(rc)
		return err
	}).Wait()
	return twin, err
}

func planOf(s *shelf.Shelf, d disk.Device) *rescue.Plan {
	return &rescue.Plan{Shelf: s, Machine: "Slipway crane", Tool: "test", Sources: []rescue.Source{{Device: d}}}
}

// used is what a disk holds that matters.
func used(t testing.TB, d disk.Device) span.Set {
	t.Helper()
	s, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	var out span.Set
	for _, a := range s.Areas {
		for sp, err := range a.Content.Spans() {
			if err != nil {
				t.Fatal(err)
			}
			out.Add(sp.Shift(a.Span.Start))
		}
	}
	return out
}

// holds checks a twin against the disk: every used byte is as on the disk or said to be missing, and reads as zero
// then.
func holds(t testing.TB, s *shelf.Shelf, twin *shelf.Twin, d disk.Device, used span.Set) {
	t.Helper()
	got, err := s.OpenDisk(t.Context(), twin, 0)
	if err != nil {
		t.Fatal(err)
	}
	missing := twin.Disks[0].Missing
	a, b := make([]byte, units.MiB), make([]byte, units.MiB)
	for sp := range used.Subtract(missing).All() {
		for c := range disk.Chunks(sp, units.MiB) {
			if err := errors.Join(disk.ReadFull(got, a[:c.Len()], c.Start), disk.ReadFull(d, b[:c.Len()],
				c.Start)); err != nil {
				t.Fatal(err)
			}
			if !bytes.Equal(a[:c.Len()], b[:c.Len()]) {
				t.Fatalf("%v of the twin differs from the disk and isn't said to be missing", c)
			}
		}
	}
	for p, err := range got.Pieces() {
		if err != nil {
			t.Fatal(err)
		}
		if lost := used.Intersect(missing).Clip(p.Span); p.Kind == disk.Undefined && !lost.Empty() {
			t.Fatalf("%v is missing, and would be left as it is on a target", lost)
		}
	}
}

// TestAHealthyDrive: a rescue of a drive without faults has all that a capture has, and reads hardly more.
func TestAHealthyDrive(t *testing.T) {
	s, img := newShelf(t), crane(t)
	d := &dying{Device: plain{opened(t, img)}}
	twin, err := sit(t, t.Context(), planOf(s, d))
	if err != nil {
		t.Fatal(err)
	}
	want := used(t, opened(t, img))
	holds(t, s, twin, opened(t, img), want)
	if twin.Missing() != 0 || twin.Used != want.Total() || !twin.Rescue.Mapped || !twin.Rescue.Sittings[0].Done ||
		twin.RescueWords() != "rescue, 1 sitting, 100 % of what is used" {
		t.Errorf("%d missing, %d of %d got; %+v, %s", twin.Missing(), twin.Used, want.Total(), twin.Rescue,
			twin.RescueWords())
	}
	var seen span.Set
	for _, sp := range d.seen {
		if seen.Overlaps(sp) {
			t.Errorf("%v was read twice", sp)
		}
		seen.Add(sp)
	}
	if over := seen.Subtract(want).Total(); over > 8*units.MiB {
		t.Errorf("%d bytes were read that nobody uses", over)
	}
}

// TestFirst: what the person wishes is got before the rest of what is in use, in that order.
func TestFirst(t *testing.T) {
	img := crane(t)
	all, err := inside.Lying(t.Context(), opened(t, img), 0, []string{"2:lifts/03", "log-0?.dat", "3:lifts"})
	if err != nil || all[0].Files != 6 || all[1].Files != 10 || all[2].Files != 0 {
		t.Fatalf("%+v, %v", all, err)
	}
	d := &dying{Device: plain{opened(t, img)}}
	p := planOf(newShelf(t), d)
	p.First = []string{"2:lifts/03", "log-0?.dat", "3:lifts"}
	if _, err := sit(t, t.Context(), p); err != nil {
		t.Fatal(err)
	}
	last := [2]int{}
	rest := 0 // the first read that is for neither
	wished := all[0].Where.Union(all[1].Where)
	for i, sp := range d.seen {
		for k := range last {
			if all[k].Where.Overlaps(sp) {
				last[k] = i
			}
		}
		if last[0] > 0 && sp.Start > 37*units.MiB && sp.End < 136*units.MiB && sp.Len() > 256<<10 &&
			!wished.Overlaps(sp) && rest == 0 { // after what is precious
			rest = i
		}
	}
	if last[0] >= last[1] || rest > 0 && rest < last[1] {
		t.Errorf("the last reads for the wishes are %v, the first large one for the rest %d", last, rest)
	}
}

// TestFilled: what a drive doesn't give comes from an older twin, and from another drive, where the records prove
// that it is the same, and only there.
func TestFilled(t *testing.T) {
	testkit.Root(t)
	img := crane(t)
	old := filepath.Join(t.TempDir(), "old.img")
	testkit.Do(t, "cp", "--sparse=always", img, old)
	changed := testkit.LoopOf(t, "-o", fmt.Sprint(36*units.MiB), "--sizelimit", fmt.Sprint(100*units.MiB), img)
	testkit.Mounted(t, []string{"mount", "-t", "ext4", changed}, func(point string) {
		f, err := os.OpenFile(filepath.Join(point, "lifts/01/log-01.dat"), os.O_RDWR, 0)
		if err == nil {
			_, err = f.WriteAt([]byte("weighed again"), 5000)
			err = errors.Join(err, f.Sync(), f.Close())
		}
		if err != nil {
			t.Fatal(err)
		}
	})
	testkit.Detach(changed)
	testkit.LoopGone(t, img)
	where, err := inside.Lying(t.Context(), opened(t, img), 0, []string{"2:lifts/01/log-01.dat",
		"2:lifts/02/log-22.dat"})
	if err != nil || where[0].Files != 1 || where[1].Files != 1 {
		t.Fatalf("%+v %v", where, err)
	}
	bad := span.Of(span.At(where[0].Where.Bounds().Start+4096, 4096), span.At(where[1].Where.Bounds().Start, 64<<10))
	want := used(t, opened(t, img))
	for _, way := range []string{"an older twin", "another drive", "a drive of something else"} {
		s := newShelf(t)
		p := planOf(s, &dying{Device: plain{opened(t, img)}, bad: bad})
		switch way {
		case "an older twin":
			before := planOf(s, plain{opened(t, old)})
			before.Now = time.Date(2026, 10, 1, 9, 0, 0, 0, time.UTC)
			if _, err := sit(t, t.Context(), before); err != nil {
				t.Fatal(err)
			}
			p.Anew = true
		case "another drive":
			p.FillFrom = []disk.Device{opened(t, old)}
		default:
			p.FillFrom = []disk.Device{opened(t, crane(t))}
		}
		twin, err := sit(t, t.Context(), p)
		if err != nil {
			t.Fatal(err)
		}
		holds(t, s, twin, opened(t, img), want)
		lost := bad
		if way != "a drive of something else" {
			lost = span.Of(span.At(where[0].Where.Bounds().Start+4096, 4096))
		}
		if !twin.Disks[0].Missing.Equal(lost) {
			t.Errorf("%s: %v is missing, want %v", way, twin.Disks[0].Missing, lost)
		}
		if says := strings.Contains(twin.RescueWords(), "65.5 kB of it from "+
			"elsewhere"); says != (lost.Total() == 4096) {
			t.Errorf("%s: %s; %+v", way, twin.RescueWords(), twin.Rescue.Filled)
		}
	}
}

// scattered are bad places in what is used, and a few elsewhere.
func scattered(seed uint64, used span.Set, n int) span.Set {
	r := rand.New(rand.NewPCG(seed, 99))
	var bad, all span.Set
	for sp := range used.All() {
		all.Add(sp)
	}
	total := all.Total()
	for range n {
		at := r.Int64N(total)
		for sp := range all.All() {
			if at < sp.Len() {
				start := (sp.Start + at) / 512 * 512
				bad.Add(span.At(start, 512*(1+r.Int64N(1<<r.IntN(10)))))
				break
			}
			at -= sp.Len()
		}
	}
	return bad
}

// TestBadPlaces: what can be read is got to the last sector, and what can't is said, for bad places anywhere: in files,
// maps, tables.
func TestBadPlaces(t *testing.T) {
	img := crane(t)
	want := used(t, opened(t, img))
	for seed := range uint64(6) {
		s := newShelf(t)
		bad := scattered(seed, want, 3+int(seed)*3)
		if seed == 1 {
			bad.Add(span.At(0, 512)) // the table itself
		}
		d := &dying{Device: plain{opened(t, img)}, bad: bad}
		twin, err := sit(t, t.Context(), planOf(s, d))
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		holds(t, s, twin, opened(t, img), want)
		lost := twin.Disks[0].Missing
		if must := want.Intersect(bad); !must.Subtract(lost).Empty() {
			t.Errorf("seed %d: %v can't be read, and isn't missing", seed, must.Subtract(lost))
		}
		if over := lost.Subtract(bad); !over.Empty() {
			t.Errorf("seed %d: %v could be read, and is missing", seed, over)
		}
	}
}

// TestSittings: a rescue that is cut off again and again, by a cancel or a failure at any read, loses nothing, reads
// nothing good twice, and ends as one that wasn't. The older twins go.
func TestSittings(t *testing.T) {
	img := crane(t)
	want := used(t, opened(t, img))
	bad := scattered(7, want, 9)
	for _, most := range []int64{70, 200} {
		s := newShelf(t)
		d := &dying{Device: plain{opened(t, img)}, bad: bad}
		var twin *shelf.Twin
		for sitting := 1; ; sitting++ {
			if sitting > 60 {
				t.Fatal("it doesn't come to an end")
			}
			ctx, cancel := context.WithCancel(t.Context())
			d.most, d.cut = d.reads.Load()+most, cancel
			p := planOf(s, d)
			p.Every = time.Nanosecond
			p.Now = time.Date(2026, 11, 28, 10, sitting, 0, 0, time.UTC)
			now, err := sit(t, ctx, p)
			cancel()
			if err != nil && !errors.Is(err, context.Canceled) {
				t.Fatalf("sitting %d: %v", sitting, err)
			}
			if now == nil {
				continue // nothing is known yet
			}
			if twin != nil && now.Missing() > twin.Missing() && twin.Rescue.Mapped == now.Rescue.Mapped {
				t.Errorf("sitting %d misses %d bytes, the one before %d", sitting, now.Missing(), twin.Missing())
			}
			holds(t, s, now, opened(t, img), want)
			if err := rescue.Supersede(t.Context(), s, now); err != nil {
				t.Fatal(err)
			}
			if twin = now; err == nil {
				break
			}
		}
		if !twin.Disks[0].Missing.Equal(want.Intersect(bad)) {
			t.Errorf("it misses %v; can't be read: %v", twin.Disks[0].Missing, want.Intersect(bad))
		}
		if n := len(twin.Rescue.Sittings); n < 2 || !strings.Contains(twin.RescueWords(), fmt.Sprintf("%d sittings",
			n)) {
			t.Errorf("%d sittings: %s", n, twin.RescueWords())
		}
		if all, problems := s.Twins(t.Context()); len(all) != 1 || len(problems) > 0 || all[0].ID != twin.ID {
			t.Errorf("%d twins are left, %v", len(all), problems)
		}
	}
}

// TestAnotherContent: a drive that holds something else than in the sitting before isn't gone on with.
func TestAnotherContent(t *testing.T) {
	img := crane(t)
	s := newShelf(t)
	bad := span.Of(span.At(40*units.MiB, 4096))
	if _, err := sit(t, t.Context(), planOf(s, &dying{Device: plain{opened(t, img)}, bad: bad})); err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(img, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.WriteAt(testkit.Noise(5, 20<<20), 50<<20); err != nil {
		t.Fatal(err)
	}
	p := planOf(s, &dying{Device: plain{opened(t, img)}, bad: bad})
	if _, err := sit(t, t.Context(), p); !errors.Is(err, rescue.ErrChanged) {
		t.Errorf("another content: %v", err)
	}
	p.Anew = true
	if twin, err := sit(t, t.Context(), p); err != nil || len(twin.Rescue.Sittings) != 1 {
		t.Errorf("anew: %v", err)
	}
}

// TestItComesBack: a drive that vanishes again and again is waited for, and gone on with.
func TestItComesBack(t *testing.T) {
	img := crane(t)
	label := `{"model": "Petrel P 32", "serial": "PT32-9C04", "unreadable": [[60000256, 60004352]],
		"faults": {"gone_after": 9000000}}`
	if err := os.WriteFile(disk.LabelPath(img), []byte(label), 0o600); err != nil {
		t.Fatal(err)
	}
	s := newShelf(t)
	p := planOf(s, plain{opened(t, img)})
	back := 0
	var waits []string
	p.Sources[0].Drive = careful.Options{
		Reopen: func(context.Context) (disk.Device, error) {
			if back++; back%2 == 0 {
				return nil, careful.ErrNotThere
			}
			return plain{opened(t, img)}, nil
		},
		Waits: func(why string) { waits = append(waits, why) },
		Sleep: func(ctx context.Context, _ time.Duration) error { return ctx.Err() },
	}
	twin, err := sit(t, t.Context(), p)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(disk.LabelPath(img)); err != nil {
		t.Fatal(err)
	}
	want := used(t, opened(t, img))
	holds(t, s, twin, opened(t, img), want)
	if back < 3 || len(waits) < 4 || !strings.Contains(waits[0], "is gone: attach it again") || waits[1] != "" {
		t.Errorf("it came back %d times; %q", back, waits)
	}
	if lost := want.Intersect(span.Of(span.Span{Start: 60000256, End: 60004352})); !twin.Disks[0].Missing.Equal(lost) {
		t.Errorf("it misses %v, want %v", twin.Disks[0].Missing, lost)
	}
}
