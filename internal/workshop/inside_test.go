package workshop

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/keeping"
	"twinshelf/internal/names"
	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
	"twinshelf/internal/takeout"
	"twinshelf/internal/testkit"
)

// library is that of the open shelf.
func library(t testing.TB, w *Workshop) *inside.Library {
	t.Helper()
	lib, err := w.Library()
	if err != nil {
		t.Fatal(err)
	}
	return lib
}

func into(t *testing.T, w *Workshop, ref string) *inside.Machine {
	t.Helper()
	twin, err := w.Shelf.Find(t.Context(), ref)
	if err != nil {
		t.Fatal(err)
	}
	in, err := w.LookInto(t.Context(), Origin{Twin: twin})
	if err != nil {
		t.Fatal(err)
	}
	return in
}

func TestPathsOfAMachine(t *testing.T) {
	w, disks := ferry(t)
	laptop, desk := into(t, w, "Purser's laptop"), into(t, w, "Ticket desk")
	for _, c := range []struct {
		in   *inside.Machine
		path string
		want string // label, or the error
	}{
		{laptop, "2.1:MS-Eider/2026-01.csv", "2.1:MS-Eider/2026-01.csv"},
		{laptop, "ms-eider/2026-01.CSV", "2.1:MS-Eider/2026-01.csv"},
		{laptop, "MS-Eider", "2.1:MS-Eider"},
		{laptop, "1.2:/home/pell/", "1.2:home/pell"},
		{laptop, "2:home", "1.2:home"},
		{laptop, "1:x", "more than one disk"},
		{laptop, "home/nobody", "isn't there"},
		{laptop, ".", "say which part"},
		{desk, "3:", "3:"},
		{desk, "3:Users\\Maud", "3:Users/Maud"},
		{desk, "2:", "no file system is known"},
		{desk, "9:", "there is no part 9"},
		{desk, "3:Users/nobody", "3:Users/nobody isn't there"},
		{desk, "a:b", "isn't there"},
	} {
		p, _, path, err := c.in.Resolve(t.Context(), c.path)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			got = p.Label(path, c.in.Disks)
		}
		if got != c.want && (err == nil || !strings.Contains(got, c.want)) {
			t.Errorf("%s leads to %q, want %q", c.path, got, c.want)
		}
	}
	attached, err := w.LookInto(t.Context(), Origin{Bench: named(t, disks, "40B1")})
	if err != nil || len(attached.Parts) != len(desk.Parts) || attached.Parts[2].Key() != desk.Parts[2].Key() ||
		attached.Parts[2].Title != desk.Parts[2].Title {
		t.Errorf("the attached disk has other parts: %+v, %v", attached, err)
	}
	if same := attached.Same(desk.Parts[3]); same != attached.Parts[3] {
		t.Errorf("part 4 is %v", same)
	}
}

// TestNamesOverTheDates searches, follows an item and compares dates, with the indexes on the shelf, without them, and
// after damage.
func TestNamesOverTheDates(t *testing.T) {
	w, disks := ferry(t)
	ctx := context.Background()
	made := 0
	search := func(q names.Query, machine string) []inside.Found {
		t.Helper()
		res, err := library(t, w).Search(ctx, q, machine, 100, func(*shelf.Twin, int) { made++ })
		if err != nil || len(res.Problems) > 0 {
			t.Fatalf("%v %q", err, res.Problems)
		}
		return res.Found
	}
	found := search(names.Query{Text: "timetable-winter*"}, "")
	if len(found) != 2 || made != 70 || found[1].Machine != "Ticket desk" ||
		found[1].Label() != "3:Users/Maud/timetable-winter.txt" || !found[1].Gone || len(found[1].At) != 1 ||
		found[1].Of != 3 {
		t.Errorf("%d made, found %+v", made, found)
	}
	made = 0
	if f := search(names.Query{Text: "quarter-4", Kinds: []names.Kind{names.File}}, "ticket desk"); made != 0 ||
		len(f) == 0 || f[0].Gone || !f[0].At[0].Twin.Taken.After(f[0].At[1].Twin.Taken) {
		t.Errorf("%d made again, found %+v", made, f)
	}
	if f := search(names.Query{Text: "pagefile"}, ""); len(f) != 1 {
		t.Errorf("%+v", f)
	}
	desk := into(t, w, "Ticket desk")
	sights, err := library(t, w).Follow(ctx, "Ticket desk", desk.Parts[2], "Tickets/2026/quarter-4.csv")
	if err != nil || len(sights) != 3 || sights[0].Version != 1 || sights[1].Version != 2 || sights[2].Version != 2 ||
		sights[1].Entry.Size <= sights[0].Entry.Size {
		t.Errorf("%+v, %v", sights, err)
	}
	sights, _ = library(t, w).Follow(ctx, "Ticket desk", desk.Parts[2], "Users/Maud/timetable-winter.txt")
	if !sights[0].There || sights[1].There || sights[2].There {
		t.Errorf("%+v", sights)
	}
	if sights, _ = library(t, w).Follow(ctx, "Ticket desk", desk.Parts[1], "x"); sights[0].Why == "" {
		t.Errorf("a part without files: %+v", sights)
	}
	// The attached disk against the newest date: it is what was captured.
	attached, err := w.LookInto(ctx, Origin{Bench: named(t, disks, "40B1")})
	if err != nil {
		t.Fatal(err)
	}
	all, err := inside.Compare(ctx, library(t, w), into(t, w, "20261002"), desk, nil, "")
	if err != nil || len(all) != 4 || !strings.HasPrefix(inside.DifferenceWords(all[2]), "3 new (") ||
		inside.DifferenceWords(all[3]) != "nothing differs" ||
		!strings.Contains(inside.DifferenceWords(all[1]), "can't be compared") {
		t.Errorf("%+v, %v", all, err)
	}
	paths := func(d inside.PartDifference) (out []string) {
		for _, x := range d.All {
			out = append(out, x.Way.String()+" "+inside.DifferencePath(x))
		}
		return out
	}
	whole := paths(all[2])
	if all, err = inside.Compare(ctx, library(t, w), into(t, w, "20261002"), attached, attached.Parts[2],
		""); err != nil ||
		len(all) != 1 || !slices.Equal(paths(all[0]), whole) {
		t.Errorf("%q and against the attached disk %q, %v", whole, paths(all[0]), err)
	}
	if err := inside.ConfirmDifferences(ctx, into(t, w, "20261002"), &all[0]); err != nil ||
		!slices.Equal(paths(all[0]), whole) {
		t.Errorf("after a look at the contents %q, %v", paths(all[0]), err)
	}
	if all, err = inside.Compare(ctx, library(t, w), into(t, w, "20261002"), desk, desk.Parts[2],
		"Users"); err != nil ||
		len(all[0].All) >= len(whole) || len(all[0].All) == 0 {
		t.Errorf("in one folder %q, %v", paths(all[0]), err)
	}
	// A retired shelf is not written; damaged listings are made again.
	if err := w.Shelf.Retire(ctx, "full"); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(filepath.Join(w.Shelf.Place(), "names")); err != nil {
		t.Fatal(err)
	}
	w.library = nil
	if again := search(names.Query{Text: "timetable-winter*"}, ""); made != 70 || len(again) != 2 {
		t.Errorf("%d made, found %+v", made, again)
	}
	if left, _ := os.ReadDir(filepath.Join(w.Shelf.Place(), "names")); len(left) > 0 {
		t.Errorf("a retired shelf got %v", left)
	}
}

func TestVersionsOfAFile(t *testing.T) {
	w, _ := ferry(t)
	open := func(ref, path string) *inside.Opened {
		t.Helper()
		p, _, at, err := into(t, w, ref).Resolve(t.Context(), path)
		if err != nil {
			t.Fatal(err)
		}
		o, err := p.Open(t.Context(), at)
		if err != nil {
			t.Fatal(err)
		}
		return o
	}
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{"3:Tickets/2024/quarter-1.csv", "3:Tickets/2024/quarter-1.csv", true},
		{"3:Tickets/2026/quarter-4.csv", "3:Tickets/2026/quarter-4.csv", false},
		{"3:Tickets/2024/quarter-1.csv", "3:Tickets/2024/quarter-2.csv", false},
	} {
		if same, err := inside.SameContents(context.Background(), open("20261002", c.a),
			open("Ticket desk", c.b)); err != nil || same != c.same {
			t.Errorf("%s and %s: %v %v", c.a, c.b, same, err)
		}
	}
}

func TestTakingOut(t *testing.T) {
	w, _ := ferry(t)
	in := into(t, w, "Purser's laptop")
	var choices []takeout.Choice
	for _, path := range []string{"1.2:home/pell/crew", "2.1:MS-Eider", "2.1:MS-Saltwort",
		"2.1:MS-Ternfoot"} {
		p, it, at, err := in.Resolve(t.Context(), path)
		if err != nil {
			t.Fatal(err)
		}
		c, err := ChoiceOf(t.Context(), p, it, at)
		if err != nil {
			t.Fatal(err)
		}
		choices = append(choices, c)
	}
	dest := t.TempDir()
	r, report, err := w.StartTake(context.Background(), "x", choices, Taking{Folder: dest})
	if err != nil || r.Wait() != nil || report().LeftOut != 0 || report().Verified < 20 {
		t.Fatalf("%v %+v", err, report())
	}
	for _, name := range []string{"crew/Rota.txt", "MS-Eider/2026-07.csv"} {
		if _, err := os.Stat(filepath.Join(dest, name)); err != nil {
			t.Error(err)
		}
	}
	var packed bytes.Buffer
	if r, report, err = w.StartTake(context.Background(), "x", choices, Taking{Zip: &packed}); err != nil ||
		r.Wait() != nil || packed.Len() < 100_000 || report().Files < 20 {
		t.Errorf("zip of %d bytes, %v", packed.Len(), err)
	}
	if _, _, err := w.StartTake(context.Background(), "x", choices,
		Taking{Folder: filepath.Join(w.Shelf.Place(), "packs/x")}); err == nil ||
		!strings.Contains(err.Error(), "belongs to the open shelf") {
		t.Errorf("into the shelf: %v", err)
	}
	file := filepath.Join(dest, "new.tar")
	if f, err := NewFile(file); err != nil {
		t.Error(err)
	} else {
		f.Close()
	}
	if _, err := NewFile(file); err == nil {
		t.Error("a file is written over")
	}
}

func TestEntriesAreSorted(t *testing.T) {
	w, _ := ferry(t)
	p, it, _, err := into(t, w, "Harbour kiosk").Resolve(t.Context(), "2:srv/kiosk")
	if err != nil {
		t.Fatal(err)
	}
	tree, _ := p.Tree(t.Context())
	all, err := fsys.Entries(tree, it)
	if err != nil {
		t.Fatal(err)
	}
	for by, ordered := range map[string]func(a, b fsys.Entry) bool{
		"name": func(a, b fsys.Entry) bool { return strings.ToLower(a.Name) <= strings.ToLower(b.Name) },
		"size": func(a, b fsys.Entry) bool { return a.Size >= b.Size }, "changed": func(a, b fsys.Entry) bool {
			return !a.Modified.Before(b.Modified)
		},
	} {
		inside.SortEntries(all, by)
		for i := 1; i < len(all); i++ {
			if a, b := all[i-1], all[i]; b.IsDir() && !a.IsDir() || a.IsDir() == b.IsDir() && !ordered(a, b) {
				t.Errorf("by %s: %s stands before %s", by, a.Name, b.Name)
			}
		}
	}
}

// TestDamageIsNamedByFile: a block that is lost is named by the file that it belongs to, in checks and proofs.
func TestDamageIsNamedByFile(t *testing.T) {
	w, _ := ferry(t)
	twin, err := w.Shelf.Find(t.Context(), "Purser's laptop")
	if err != nil {
		t.Fatal(err)
	}
	p, it, _, err := into(t, w, "Purser's laptop").Resolve(t.Context(), "2.1:MS-Eider/2026-07.csv")
	if err != nil {
		t.Fatal(err)
	}
	tree, _ := p.Tree(t.Context())
	c, err := tree.Open(it, "")
	if err != nil {
		t.Fatal(err)
	}
	d, err := w.Shelf.OpenDisk(t.Context(), twin, 1)
	if err != nil {
		t.Fatal(err)
	}
	ref, err := d.RefAt(p.Span.Start + c.Spans()[0].Start)
	if err != nil {
		t.Fatal(err)
	}
	lose(t, w.Shelf, ref.Name)
	r, report := w.StartCheck(context.Background(), keeping.CheckKind{Share: 1})
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	if rep := report(); len(rep.Files) == 0 ||
		!strings.Contains(strings.Join(rep.Files, "\n"), "MS-Eider/2026-07.csv") {
		t.Errorf("check: %+v", rep)
	}
	run, proof := w.StartProofTwin(context.Background(), twin)
	if err := run.Wait(); err != nil {
		t.Fatal(err)
	}
	said := ""
	for _, claim := range proof().Claims {
		if !claim.Holds {
			said += claim.Evidence
		}
	}
	if !strings.Contains(said, "files: ") || !strings.Contains(said, "MS-Eider/2026-07.csv") {
		t.Errorf("proof: %s", said)
	}
}

// lose damages a block where it stands in its pack, and takes the parity away.
func lose(t *testing.T, s *shelf.Shelf, n store.Name) {
	t.Helper()
	if err := os.RemoveAll(filepath.Join(s.Place(), "parity")); err != nil {
		t.Fatal(err)
	}
	packs, err := filepath.Glob(filepath.Join(s.Place(), "packs", "*"))
	if err != nil {
		t.Fatal(err)
	}
	hits := 0
	for _, p := range packs {
		b, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		if i := bytes.Index(b, n[:]); i >= 0 { // the head of the block; its bytes are after it
			hits++
			b[i+200] ^= 0x55
			if err := os.WriteFile(p, b, 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	if hits == 0 {
		t.Fatal("the block isn't in any pack")
	}
}

// TestVersionsAreSettledByContents: a file of which only the time changed is no other version.
func TestVersionsAreSettledByContents(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "debugfs")
	dir, tree := t.TempDir(), t.TempDir()
	for name, text := range map[string]string{"fares.txt": "old fares", "other.txt": "beside it"} {
		if err := os.WriteFile(filepath.Join(tree, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	img := filepath.Join(dir, "kiosk.img")
	testkit.Sparse(t, img, 16<<20)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-d", tree, img)
	if _, err := shelf.Create(t.Context(), filepath.Join(dir, "oak"), store.New{Name: "Oak"}); err != nil {
		t.Fatal(err)
	}
	w, err := New(filepath.Join(dir, "state"), []string{img}, false)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.OpenShelf(t.Context(), filepath.Join(dir, "oak")); err != nil {
		t.Fatal(err)
	}
	defer w.Shelf.Close()
	day := 0
	capture := func() {
		t.Helper()
		d := w.Bench.List()[0]
		w.Bench.Probe(context.Background(), d)
		p, err := w.PlanCapture(t.Context(), "Kiosk", []*bench.Disk{d}, nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		day++
		p.Now = time.Date(2026, 11, day, 8, 0, 0, 0, time.UTC)
		r, _ := w.StartCapture(context.Background(), p, nil)
		if err := r.Wait(); err != nil {
			t.Fatal(err)
		}
	}
	capture()
	testkit.Do(t, "debugfs", "-w", "-R", "set_inode_field /fares.txt mtime 20261102080000", img)
	capture() // touched only
	at, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	i := bytes.Index(at, []byte("old fares"))
	testkit.Write(t, img, []disk.Patch{{Off: int64(i), Data: []byte("new")}})
	testkit.Do(t, "debugfs", "-w", "-R", "set_inode_field /fares.txt mtime 20261103080000", img)
	capture() // the same size, and other contents
	capture()
	in := into(t, w, "Kiosk")
	versions := func(sights []inside.Sight) (out []int) {
		for _, s := range sights {
			out = append(out, s.Version)
		}
		return out
	}
	sights, err := library(t, w).Follow(context.Background(), "Kiosk", in.Parts[0], "fares.txt")
	if err != nil || !slices.Equal(versions(sights), []int{1, 2, 3, 3}) {
		t.Errorf("by its records the versions are %v, %v", versions(sights), err)
	}
	small := slices.Clone(sights)
	if err := library(t, w).SettleVersions(context.Background(), in.Parts[0], "fares.txt", sights, 1<<20); err != nil ||
		!slices.Equal(versions(sights), []int{1, 1, 2, 2}) {
		t.Errorf("by its contents the versions are %v, %v", versions(sights), err)
	}
	if err := library(t, w).SettleVersions(context.Background(), in.Parts[0], "fares.txt", small, 3); err != nil ||
		!slices.Equal(versions(small), []int{1, 2, 3, 3}) {
		t.Errorf("of a file that is too large the versions are %v, %v", versions(small), err)
	}
}

// TestDamageDoesNotStayInListings: what can't be read because the shelf is hurt is said, and looked for again later.
func TestDamageDoesNotStayInListings(t *testing.T) {
	w, _ := ferry(t)
	in := into(t, w, "Purser's laptop")
	d, err := w.Shelf.OpenDisk(t.Context(), in.Twin, 0)
	if err != nil {
		t.Fatal(err)
	}
	ref, err := d.RefAt(in.Parts[1].Span.Start)
	if err != nil {
		t.Fatal(err)
	}
	lose(t, w.Shelf, ref.Name)
	res, err := library(t, w).Search(context.Background(), names.Query{Text: "*.csv"}, "Purser's laptop", 100, nil)
	if err != nil || len(res.Problems) == 0 || !strings.Contains(res.Problems[0], "part 2: ") || len(res.Found) == 0 {
		t.Errorf("%+v, %v", res, err)
	}
	kept, err := w.Shelf.Listing(t.Context(), in.Twin.ID)
	if err != nil || kept != nil {
		t.Errorf("a listing with a hole is kept: %+v, %v", kept, err)
	}
}

// TestHistoryTellsUnreadDates: a date whose twin can't be read is one of which nobody knows, not one that never was.
func TestHistoryTellsUnreadDates(t *testing.T) {
	w, _ := ferry(t)
	desk := into(t, w, "Ticket desk")
	const path = "Tickets/2026/quarter-4.csv"
	before, err := library(t, w).Follow(t.Context(), "Ticket desk", desk.Parts[2], path)
	if err != nil || len(before) != 3 {
		t.Fatalf("%+v, %v", before, err)
	}
	file := shelftest.TwinFile(t, w.Shelf, before[1].Twin.ID)
	if err := os.Remove(filepath.Join(w.Shelf.Place(), file)); err != nil {
		t.Fatal(err)
	}
	sights, err := library(t, w).Follow(t.Context(), "Ticket desk", desk.Parts[2], path)
	if err != nil || len(sights) != 3 {
		t.Fatalf("%+v, %v", sights, err)
	}
	for i, s := range sights {
		if s.Twin.ID != before[i].Twin.ID || !s.Twin.Taken.Equal(before[i].Twin.Taken) || (s.Why != "") != (i == 1) {
			t.Errorf("date %d: %+v", i, s)
		}
	}
}

// TestGoneOnlyWhereKnown: an item isn't gone while the machine's newest twin can't be read.
func TestGoneOnlyWhereKnown(t *testing.T) {
	w, _ := ferry(t)
	find := func() inside.Found {
		t.Helper()
		found, err := library(t, w).Search(t.Context(), names.Query{Text: "timetable-winter"}, "Ticket desk", 10, nil)
		if err != nil || len(found.Found) != 1 {
			t.Fatalf("%+v, %v", found, err)
		}
		return found.Found[0]
	}
	if f := find(); !f.Gone {
		t.Fatalf("%+v", f)
	}
	last, err := w.Shelf.Find(t.Context(), "Ticket desk")
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(w.Shelf.Place(), shelftest.TwinFile(t, w.Shelf, last.ID))
	if err := os.Remove(file); err != nil { // its copy is left
		t.Fatal(err)
	}
	if f := find(); f.Gone {
		t.Errorf("%+v", f)
	}
}
