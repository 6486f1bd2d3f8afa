package capture

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

const partAt = units.MiB

// filled is a disk with an ext4 part full of files, some of them large or in many pieces.
func filled(t *testing.T, options ...string) string {
	t.Helper()
	testkit.Need(t, "mkfs.ext4")
	testkit.Root(t)
	img := testkit.Image(t, "kiosk.img", 302*units.MiB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000D001",
		Parts: []table.Part{
			{Number: 1, Span: span.At(partAt, 300*units.MiB), Type: table.TypeLinuxData,
				GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000D101"}}}, 302*units.MiB)
	fs := testkit.Image(t, "fs", 300*units.MiB)
	testkit.Do(t, "mkfs.ext4", append(append([]string{"-q"}, options...), fs)...)
	testkit.Place(t, fs, img, partAt)
	r := rand.New(rand.NewPCG(5, 5))
	mounted(t, img, func(dir string) {
		for i := range 30 {
			write(t, filepath.Join(dir, fmt.Sprint("timetable", i)), r, 100_000+r.IntN(6<<20))
		}
		var pieces [6]*os.File
		for i := range pieces { // written in turns, they lie in many extents
			pieces[i], _ = os.Create(filepath.Join(dir, fmt.Sprint("log", i)))
		}
		for range 300 {
			for _, f := range pieces {
				b := make([]byte, 8192)
				fill(r, b)
				f.Write(b)
				f.Sync()
			}
		}
		for _, f := range pieces {
			f.Close()
		}
		for i := range 200 {
			write(t, filepath.Join(dir, fmt.Sprint("note", i)), r, r.IntN(9000))
		}
		write(t, filepath.Join(dir, "swapfile"), r, 20<<20)
		testkit.Do(t, "mkswap", filepath.Join(dir, "swapfile"))
	})
	return img
}

func fill(r *rand.Rand, b []byte) {
	for i := 0; i+8 <= len(b); i += 8 {
		x := r.Uint64()
		for j := range 8 {
			b[i+j] = byte(x >> (8 * j))
		}
	}
}

func write(t *testing.T, path string, r *rand.Rand, n int) {
	t.Helper()
	b := make([]byte, n)
	fill(r, b)
	if err := os.WriteFile(path, b, 0o644); err != nil {
		t.Fatal(err)
	}
}

func mounted(t *testing.T, img string, work func(dir string)) {
	t.Helper()
	testkit.Mounted(t, []string{"mount", "-o", fmt.Sprintf("loop,offset=%d,sizelimit=%d", partAt, 300*units.MiB),
		img}, work)
	testkit.LoopGone(t, img)
}

// took captures an image and gives the twin with the names of its nodes, and the notes of the run.
func took(t *testing.T, s *shelf.Shelf, img string, trust Trust) (*shelf.Twin, string) {
	t.Helper()
	d, err := disk.Open(img, disk.Identity{Model: "Sandmartin", Serial: "SM-1"})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	sv, err := survey.Of(context.Background(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	p := &Plan{Shelf: s, Machine: "Harbour kiosk", Tool: "test", Sources: []Source{{Survey: sv}}, Trust: trust,
		Now: time.Now()}
	var tw *shelf.Twin
	r := run.Start(context.Background(), "t", Phases, nil, func(rc *run.Context) (err error) {
		tw, err = p.Run(rc)
		return err
	})
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	return tw, strings.Join(r.Snapshot().Notes, "\n")
}

func oak(t *testing.T) *shelf.Shelf {
	t.Helper()
	s, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "oak"), store.New{Name: "Oak"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// same compares two twins block by block, by their names.
func same(t *testing.T, a, b *shelf.Twin, what string) {
	t.Helper()
	for i := range a.Disks[0].Regions {
		x, y := a.Disks[0].Regions[i], b.Disks[0].Regions[i]
		if fmt.Sprint(x.Nodes) != fmt.Sprint(y.Nodes) || x.Used != y.Used {
			t.Errorf("%s: region %d differs: %d and %d used", what, i, x.Used, y.Used)
		}
	}
}

// TestUnchangedIsTakenOver changes files in every way that the kernel offers: a capture that takes over what is
// unchanged holds byte for byte what one that reads everything holds.
func TestUnchangedIsTakenOver(t *testing.T) {
	for _, options := range [][]string{nil, {"-b", "1024", "-I", "128", "-O", "^metadata_csum"}} {
		t.Run(strings.Join(options, " "), func(t *testing.T) {
			img := filled(t, options...)
			s := oak(t)
			first, _ := took(t, s, img, TrustSure)
			if first.Disks[0].Parts()[0].Trusted != 0 {
				t.Error("the first one trusts somebody")
			}
			r := rand.New(rand.NewPCG(6, 6))
			for round, change := range []func(dir string){
				func(string) {},
				func(dir string) { // read only: access times
					for i := range 30 {
						os.ReadFile(filepath.Join(dir, fmt.Sprint("timetable", i)))
					}
				},
				func(dir string) { // in place, a few bytes
					f, _ := os.OpenFile(filepath.Join(dir, "timetable3"), os.O_RDWR, 0)
					f.WriteAt([]byte("delayed"), 70_000)
					f.Close()
					f, _ = os.OpenFile(filepath.Join(dir, "log2"), os.O_RDWR, 0)
					f.WriteAt([]byte("delayed"), 1_000_000)
					f.Close()
				},
				func(dir string) { // longer, shorter, gone, new in its place
					f, _ := os.OpenFile(filepath.Join(dir, "timetable5"), os.O_APPEND|os.O_WRONLY, 0)
					f.Write(make([]byte, 3<<20))
					f.Close()
					os.Truncate(filepath.Join(dir, "timetable7"), 50_000)
					for i := 10; i < 15; i++ {
						os.Remove(filepath.Join(dir, fmt.Sprint("timetable", i)))
						write(t, filepath.Join(dir, fmt.Sprint("fare", i)), r, 2<<20)
					}
					for i := range 50 {
						os.Remove(filepath.Join(dir, fmt.Sprint("note", i)))
					}
				},
				func(dir string) { // in place, and the time set back
					p := filepath.Join(dir, "timetable20")
					st, _ := os.Stat(p)
					f, _ := os.OpenFile(p, os.O_RDWR, 0)
					f.WriteAt([]byte("cancelled"), 500)
					f.Close()
					os.Chtimes(p, st.ModTime(), st.ModTime())
				},
			} {
				mounted(t, img, change)
				tw, notes := took(t, s, img, TrustSure)
				all, _ := took(t, oak(t), img, TrustNone)
				same(t, tw, all, fmt.Sprint("round ", round))
				part := tw.Disks[0].Parts()[0]
				if part.Trusted < part.Used/4 || !strings.Contains(notes, "weren't read again") {
					t.Errorf("round %d: %d of %d bytes were taken over: %s", round, part.Trusted, part.Used, notes)
				}
				if part := all.Disks[0].Parts()[0]; part.Trusted != 0 {
					t.Errorf("round %d: %d bytes were taken over by one that reads everything", round, part.Trusted)
				}
			}
		})
	}
}

// TestUnchangedOnNTFS: file records are proof only where that was chosen, and never for what a system holds open.
func TestUnchangedOnNTFS(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfs-3g")
	testkit.Root(t)
	img := testkit.Image(t, "kiosk.img", 62*units.MiB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000D002",
		Parts: []table.Part{
			{Number: 1, Span: span.At(partAt, 60*units.MiB), Type: table.TypeMSBasicData,
				GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000D201"}}}, 62*units.MiB)
	fs := testkit.Image(t, "fs", 60*units.MiB)
	testkit.Do(t, "mkntfs", "-Q", "-F", "-q", fs)
	r := rand.New(rand.NewPCG(7, 7))
	hive := append([]byte("regf"), make([]byte, 3<<20)...)
	fill(r, hive[8:])
	inside := func(work func(dir string)) {
		testkit.Mounted(t, []string{"ntfs-3g", fs}, work)
		testkit.Place(t, fs, img, partAt)
	}
	inside(func(dir string) {
		for i := range 8 {
			write(t, filepath.Join(dir, fmt.Sprint("timetable", i)), r, 2<<20)
		}
		os.WriteFile(filepath.Join(dir, "SYSTEM"), hive, 0o644)
		write(t, filepath.Join(dir, "pagefile.sys"), r, 3<<20)
	})
	s := oak(t)
	took(t, s, img, TrustSure)
	if tw, _ := took(t, s, img, TrustSure); tw.Disks[0].Parts()[0].Trusted != 0 {
		t.Error("records are trusted that nobody chose to trust")
	}
	inside(func(dir string) {
		write(t, filepath.Join(dir, "timetable3"), r, 2<<20)
		f, _ := os.OpenFile(filepath.Join(dir, "timetable5"), os.O_RDWR, 0)
		f.WriteAt([]byte("delayed"), 70_000)
		f.Close()
		os.Remove(filepath.Join(dir, "timetable7"))
	})
	// What a running system writes without a trace.
	raw, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	at := strings.Index(string(raw), string(hive[:4096]))
	if at < 0 {
		t.Fatal("the hive isn't there")
	}
	testkit.Write(t, img, []disk.Patch{{Off: int64(at) + 2<<20, Data: []byte("a setting")}})
	tw, notes := took(t, s, img, TrustMost)
	all, _ := took(t, oak(t), img, TrustNone)
	same(t, tw, all, "NTFS")
	if part := tw.Disks[0].Parts()[0]; part.Trusted < 6<<20 || part.Trusted > 12<<20 {
		t.Errorf("%d of %d bytes were taken over: %s", part.Trusted, part.Used, notes)
	}
	// A file that a program held open: its record is the same, and the journal of changes names it.
	journal := fsystest.Changes(nil, 2, 70, 71)
	testkit.Do(t, "ntfscp", "-q", "-f", fs, testkit.Image(t, "empty", 0), "$Extend/$UsnJrnl")
	fsystest.SetChanges(t, fs, 9, 0, journal)
	testkit.Place(t, fs, img, partAt)
	took(t, s, img, TrustNone)
	number := inode(t, fs, "timetable2")
	fsystest.SetChanges(t, fs, 9, 0, fsystest.Changes(journal, 2, number))
	testkit.Place(t, fs, img, partAt)
	testkit.Write(t, img, []disk.Patch{{Off: placeOf(t, fs, "timetable2") + partAt + 1_000_000, Data: []byte("held")}})
	tw, notes = took(t, s, img, TrustMost)
	all, _ = took(t, oak(t), img, TrustNone)
	same(t, tw, all, "NTFS with a journal")
	if part := tw.Disks[0].Parts()[0]; part.Trusted < 6<<20 {
		t.Errorf("%d of %d bytes were taken over: %s", part.Trusted, part.Used, notes)
	}
}

// itemOf finds a file in the root of an NTFS volume.
func itemOf(t *testing.T, fs, name string) (fsys.Tree, fsys.Item) {
	t.Helper()
	d, err := disk.Open(fs, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	v, err := families.Identify(t.Context(), d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	tree, err := fsys.TreeOf(v)
	if err != nil {
		t.Fatal(err)
	}
	root, err := tree.Root()
	if err != nil {
		t.Fatal(err)
	}
	it, err := tree.Lookup(root, name)
	if err != nil {
		t.Fatal(err)
	}
	return tree, it
}

// inode is the number of a file's record.
func inode(t *testing.T, fs, name string) int64 {
	t.Helper()
	_, it := itemOf(t, fs, name)
	return int64(it.ID & (1<<48 - 1))
}

// placeOf is where a file begins on its volume.
func placeOf(t *testing.T, fs, name string) int64 {
	t.Helper()
	tree, it := itemOf(t, fs, name)
	c, err := tree.Open(it, "")
	if err != nil {
		t.Fatal(err)
	}
	return c.Spans()[0].Start
}

// filesOf is where the contents of all files of a volume lie.
func filesOf(t *testing.T, v fsys.Volume) (all span.Set) {
	t.Helper()
	tree, err := fsys.TreeOf(v)
	if err != nil {
		t.Fatal(err)
	}
	root, err := tree.Root()
	if err != nil {
		t.Fatal(err)
	}
	err = fsys.Walk(tree, root, ".", func(_ string, _ fsys.Item, entries []fsys.Entry, err error) error {
		for _, e := range entries {
			if c, err := tree.Open(e.Item, ""); err == nil {
				all = all.Union(span.Of(c.Spans()...))
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// TestRecordsThatLie: contents that change without their records are found by the samples, and everything is read.
func TestRecordsThatLie(t *testing.T) {
	img := filled(t)
	s := oak(t)
	took(t, s, img, TrustSure)
	f, err := os.OpenFile(img, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	// Every block of files changes after the file system's back.
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	c, err := families.Examine(context.Background(), disk.Section(d, partAt, 300*units.MiB), 300*units.MiB, 512)
	if err != nil || !c.Maps {
		t.Fatal(err, c.Why)
	}
	files := filesOf(t, c.Volume)
	if err := c.Volume.(fsys.Unchanging).Unchanged(context.Background(), c.Volume, func(sp span.Span) error {
		b := make([]byte, 10)
		if err := disk.ReadFull(d, b, partAt+sp.Start+4086); err == nil && string(b) == "SWAPSPACE2" {
			t.Errorf("a swap file at %s is taken for unchanged", sp)
		}
		if !files.Overlaps(sp) {
			return nil // a folder: one that names no inodes any more makes the volume contradict itself
		}
		_, err := f.WriteAt([]byte("altered"), partAt+sp.Start)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	f.Close()
	tw, notes := took(t, s, img, TrustSure)
	all, _ := took(t, oak(t), img, TrustNone)
	same(t, tw, all, "after lies")
	if !strings.Contains(notes, "don't tell the truth") {
		t.Errorf("notes: %s", notes)
	}
}

// TestAnotherVolumeProvesNothing: a volume made anew in the same place isn't taken for the old one.
func TestAnotherVolumeProvesNothing(t *testing.T) {
	img := filled(t)
	s := oak(t)
	took(t, s, img, TrustSure)
	fs := testkit.Image(t, "fs", 300*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", fs)
	testkit.Place(t, fs, img, partAt)
	tw, _ := took(t, s, img, TrustSure)
	if tw.Disks[0].Parts()[0].Trusted != 0 {
		t.Error("something was taken over")
	}
}
