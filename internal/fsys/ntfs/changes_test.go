package ntfs_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/fsys/ntfs"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// journalled is a volume with files and a change journal, and the numbers of their records by name.
func journalled(t testing.TB, journal []byte) (img string, numbers map[string]int64) {
	t.Helper()
	testkit.Need(t, "mkntfs", "ntfscp")
	img = testkit.Image(t, "desk.img", 24*units.MiB)
	testkit.Do(t, "mkntfs", "-Q", "-F", "-q", img)
	for i, name := range []string{"fares", "ledger", "timetable", "hiberfil.sys", "bootstat.dat"} {
		file := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(file, testkit.Noise(uint64(i+3), 300_000), 0o600); err != nil {
			t.Fatal(err)
		}
		testkit.Do(t, "ntfscp", "-q", "-f", img, file, name)
	}
	empty := testkit.Image(t, "empty", 0)
	testkit.Do(t, "ntfscp", "-q", "-f", img, empty, "$Extend/$UsnJrnl")
	fsystest.SetChanges(t, img, 7, 0, journal)
	numbers = map[string]int64{}
	eachFile(t, img, func(name string, it fsys.Item, _ []span.Span) { numbers[name] = int64(it.ID & (1<<48 - 1)) })
	return img, numbers
}

func eachFile(t testing.TB, img string, each func(name string, it fsys.Item, at []span.Span)) {
	t.Helper()
	tree, err := fsys.TreeOf(volume(t, img))
	if err != nil {
		t.Fatal(err)
	}
	root, err := tree.Root()
	if err != nil {
		t.Fatal(err)
	}
	for it, err := range tree.List(root) {
		if err != nil {
			t.Fatal(err)
		}
		if it.IsDir() {
			continue
		}
		c, err := tree.Open(it, "")
		if err != nil {
			t.Fatal(err)
		}
		each(it.Name, it, c.Spans())
	}
}

func volume(t testing.TB, img string) *ntfs.Volume {
	t.Helper()
	b, err := os.ReadFile(img)
	if err != nil {
		t.Fatal(err)
	}
	m := disk.NewMemory(int64(len(b)), 512)
	copy(m.Bytes, b)
	v, err := ntfs.Probe(m, m.Size(), 512)
	if err != nil || v == nil {
		t.Fatal(err)
	}
	return v.(*ntfs.Volume)
}

// TestChangeJournal: files that the journal names since the date before aren't proven by their records, over ends of
// pages and in both forms; what is written past the file system never is. Where the journal doesn't reach back, begins
// anew or is broken, that is said, and the records count alone.
func TestChangeJournal(t *testing.T) {
	old := fsystest.Changes(nil, 2, 40, 41, 42)
	img, numbers := journalled(t, old)
	was := volume(t, img)
	ledger := numbers["ledger"]
	if ledger == 0 {
		t.Fatalf("%v", numbers)
	}
	many := func(b []byte) []byte { // the ledger is named in the page after
		for range 60 {
			b = fsystest.Changes(b, 3, 44)
		}
		return fsystest.Changes(b, 3, ledger)
	}
	hole := make([]byte, 3*fsystest.ChangePage)
	copy(hole, old)
	bad := fsystest.Changes(bytes.Clone(old), 2, ledger)
	bad[len(old)+24]++ // its own number
	for _, c := range []struct {
		name    string
		id      uint64
		lowest  int64
		journal []byte
		helps   string
		proven  string
	}{
		{"named", 7, 0, fsystest.Changes(bytes.Clone(old), 2, ledger, ledger), "names 1 file since", "fares timetable"},
		{"newer form, next page", 7, 0, many(bytes.Clone(old)), "names 2 files since", "fares timetable"},
		{"nothing", 7, 0, old, "names 0 files since", "fares ledger timetable"},
		{"begun anew", 8, 0, fsystest.Changes(nil, 2, ledger), "begun anew", "fares ledger timetable"},
		{"other history", 7, 0, fsystest.Changes(nil, 2, 40, 41, 43, ledger), "doesn't go on from where it was",
			"fares ledger timetable"},
		{"wrapped", 7, 4096, many(bytes.Clone(old)), "doesn't reach back", "fares ledger timetable"},
		{"shorter", 7, 0, fsystest.Changes(nil, 2, 40), "doesn't reach back", "fares ledger timetable"},
		{"hole", 7, 0, fsystest.Changes(bytes.Clone(hole), 2, ledger), "a hole", "fares ledger timetable"},
		{"wrong number", 7, 0, bad, "holds no record", "fares ledger timetable"},
	} {
		t.Run(c.name, func(t *testing.T) {
			now := testkit.Image(t, "now.img", 24*units.MiB)
			testkit.Place(t, img, now, 0)
			fsystest.SetChanges(t, now, c.id, c.lowest, c.journal)
			v := volume(t, now)
			if said := v.Witness(t.Context(), was); !strings.Contains(said, c.helps) {
				t.Errorf("it says %q", said)
			}
			var proven span.Set
			err := v.Unchanged(t.Context(), was, func(sp span.Span) error { proven.Add(sp); return nil })
			if err != nil {
				t.Fatal(err)
			}
			var names []string
			eachFile(t, now, func(name string, _ fsys.Item, at []span.Span) {
				if len(at) > 0 && proven.Covers(at[0]) {
					names = append(names, name)
				}
			})
			if got := strings.Join(names, " "); got != c.proven {
				t.Errorf("proven: %s; want %s", got, c.proven)
			}
		})
	}
	other, _ := journalled(t, old)
	testkit.Write(t, other, []disk.Patch{{Off: 0x48, Data: []byte("another!")}}) // its serial number
	if said := volume(t, other).Witness(t.Context(), was); said != "" {
		t.Errorf("of another volume: %s", said)
	}
}

// FuzzChanges: whatever a change journal holds, it is read to an end.
func FuzzChanges(f *testing.F) {
	const room = 3 * fsystest.ChangePage
	mark := bytes.Repeat([]byte("change journal!!"), room/16)
	img, _ := journalled(f, mark)
	b, err := os.ReadFile(img)
	if err != nil {
		f.Fatal(err)
	}
	at := bytes.Index(b, mark[:fsystest.ChangePage])
	if at < 0 {
		f.Fatal("the journal isn't there")
	}
	base := disk.NewMemory(int64(len(b)), 512)
	copy(base.Bytes, b)
	old := fsystest.Changes(nil, 2, 40, 41, 42)
	f.Add(old, fsystest.Changes(bytes.Clone(old), 3, 50, 51))
	f.Add([]byte{}, fsystest.Changes(nil, 2, 40))
	f.Fuzz(func(t *testing.T, before, after []byte) {
		var volumes [2]*ntfs.Volume
		for i, body := range [][]byte{before, after} {
			data := make([]byte, room)
			copy(data, body)
			o, err := disk.NewOverlay(base, []disk.Patch{{Off: int64(at), Data: data}}, base.Size())
			if err != nil {
				t.Fatal(err)
			}
			v, err := ntfs.Probe(o, o.Size(), 512)
			if err != nil {
				t.Fatal(err)
			}
			volumes[i] = v.(*ntfs.Volume)
		}
		if said := volumes[1].Witness(t.Context(), volumes[0]); said == "" {
			t.Error("it says nothing")
		}
	})
}
