package names

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/cespare/xxhash/v2"

	"twinshelf/internal/fsys"
)

// paper is a tree on paper: items by path, without contents.
type paper map[string]fsys.Item

func (p paper) Root() (fsys.Item, error) { return fsys.Item{Mode: fs.ModeDir, Ref: ""}, nil }
func (p paper) List(f fsys.Item) iter.Seq2[fsys.Item, error] {
	within := f.Ref.(string)
	return func(yield func(fsys.Item, error) bool) {
		for path, it := range p {
			if len(path) <= len(within) || within != "" && !strings.HasPrefix(path, within) {
				continue
			}
			dir, name := split(path)
			if dir != within {
				continue
			}
			it.Name, it.Ref = name, path
			var err error
			if strings.HasPrefix(name, "broken") {
				err = errors.New("it is broken")
			}
			if !yield(it, err) {
				return
			}
		}
	}
}
func (p paper) Lookup(fsys.Item, string) (fsys.Item, error)   { return fsys.Item{}, fs.ErrNotExist }
func (p paper) Open(fsys.Item, string) (fsys.Contents, error) { return nil, fs.ErrInvalid }
func (p paper) More(fsys.Item) (fsys.More, error)             { return fsys.More{}, nil }
func (p paper) file(path string, id uint64, size int64, day int) {
	p.put(path, fsys.Item{ID: id, Size: size, Modified: time.Date(2026, 11, day, 8, 0, 0, 0, time.UTC)})
}
func (p paper) put(path string, it fsys.Item) {
	for dir, _ := split(path); dir != ""; dir, _ = split(dir) {
		if _, ok := p[dir]; !ok {
			p[dir] = fsys.Item{Mode: fs.ModeDir, ID: xxhash.Sum64String(dir)}
		}
	}
	p[path] = it
}

// harbour is a volume with n tickets.
func harbour(n int) paper {
	p := paper{}
	for i := range n {
		p.file(fmt.Sprintf("tickets/%03d/Ticket %06d.txt", i/500, i), uint64(1000+i), int64(i), 1+i%20)
	}
	p.file("Timetable.ods", 1, 9000, 3)
	p.file("a-b/x", 2, 1, 3)
	p.file("a/Übersicht.pdf", 3, 2, 3)
	p.file("a b/x", 4, 3, 3)
	p.put("a/link", fsys.Item{Mode: fs.ModeSymlink | 0o777, ID: 5, Size: 9})
	p.put("a/pipe", fsys.Item{Mode: fs.ModeNamedPipe, ID: 6})
	p.put("a/broken.doc", fsys.Item{})
	p.put(".settings", fsys.Item{Attr: fsys.Hidden, ID: 7, Size: 3})
	return p
}

func made(t testing.TB, p paper, m *Memory) (*Index, *Made) {
	t.Helper()
	got, err := Make(context.Background(), p, m)
	if err != nil {
		t.Fatal(err)
	}
	x, err := Open(t.Context(), m, got.Keys)
	if err != nil {
		t.Fatal(err)
	}
	return x, got
}

// deduplicated keeps equal chunks once, as a shelf does.
type deduplicated map[string][]byte

func (d deduplicated) Put(ctx context.Context, b []byte) (string, error) {
	d[string(b)] = slices.Clone(b)
	return string(b), nil
}
func (d deduplicated) Get(ctx context.Context, key string) ([]byte, error) {
	if b, ok := d[key]; ok {
		return b, nil
	}
	return nil, fs.ErrNotExist
}

func TestIndexHoldsEverything(t *testing.T) {
	for _, n := range []int{0, 700, 3_000} {
		p := harbour(n)
		x, m := made(t, p, &Memory{})
		if m.Items != int64(len(p)) || m.Lost != 1 || len(m.Problems) != 1 ||
			!strings.Contains(m.Problems[0], "a/broken.doc: it is broken") {
			t.Errorf("%d items of %d, problems %q", m.Items, len(p), m.Problems)
		}
		seen, last := map[string]bool{}, ""
		for e, err := range x.All(t.Context()) {
			if err != nil {
				t.Fatal(err)
			}
			if last != "" && compare(last, e.Path) >= 0 {
				t.Fatalf("%q stands before %q", last, e.Path)
			}
			last = e.Path
			seen[e.Path] = true
			want := p[e.Path]
			if e.Kind == Broken {
				want = fsys.Item{}
			}
			if e.ID != want.ID || e.Size != want.Size || !e.Modified.Equal(want.Modified) ||
				e.Hidden != (want.Attr&fsys.Hidden != 0) {
				t.Fatalf("%+v, want %+v", e, want)
			}
			if len(seen)%7 != 0 && n > 1000 {
				continue
			}
			found, err := x.Find(t.Context(), e.Path)
			if err != nil || found != e {
				t.Fatalf("%s is found as %+v, %v", e.Path, found, err)
			}
		}
		if len(seen) != len(p) {
			t.Errorf("%d paths of %d", len(seen), len(p))
		}
		for path, want := range map[string]Kind{"a/link": Link, "a/pipe": Other, "a": Folder, "a/broken.doc": Broken,
			"Timetable.ods": File} {
			if e, err := x.Find(t.Context(), path); err != nil || e.Kind != want {
				t.Errorf("%s is %v, %v", path, e.Kind, err)
			}
		}
		for _, path := range []string{"", "a/", "Timetable", "a/link/x", "zzz", "tickets/000/Ticket"} {
			if _, err := x.Find(t.Context(), path); !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("%q is found: %v", path, err)
			}
		}
		for _, folder := range append([]string{"", ".", "nowhere"}, slices.Collect(maps.Keys(p))...) {
			if n > 1000 && !strings.HasPrefix(folder, "tickets/01") {
				continue
			}
			var got, want []string
			for e, err := range x.List(t.Context(), folder) {
				if err != nil {
					t.Fatal(err)
				}
				got = append(got, e.Path)
			}
			for path := range p {
				if dir, _ := split(path); dir == strings.TrimPrefix(folder, ".") && folder != ".settings" {
					want = append(want, path)
				}
			}
			slices.Sort(want)
			if !slices.Equal(got, want) {
				t.Fatalf("%q holds %d entries, want %d", folder, len(got), len(want))
			}
		}
	}
}

// TestChunksAreShared: what changes in one place changes the chunks around it.
func TestChunksAreShared(t *testing.T) {
	store := deduplicated{}
	p := harbour(12_000)
	count := func() int {
		before := len(store)
		if _, err := Make(context.Background(), p, store); err != nil {
			t.Fatal(err)
		}
		return len(store) - before
	}
	if all := count(); all < 16 {
		t.Fatalf("only %d chunks", all)
	}
	p.file("tickets/010/Ticket 005100.txt", 6100, 77, 25)
	if n := count(); n != 1 {
		t.Errorf("%d new chunks after a file was written to", n)
	}
	p.file("tickets/010/Ticket 005100b.txt", 99, 77, 25)
	delete(p, "tickets/020/Ticket 010007.txt")
	if n := count(); n > 9 {
		t.Errorf("%d new chunks after one file came and one went", n)
	}
	if n := count(); n != 0 {
		t.Errorf("%d new chunks after nothing", n)
	}
}

func TestSearch(t *testing.T) {
	store := deduplicated{}
	open := func(p paper) *Index {
		m, err := Make(context.Background(), p, store)
		if err != nil {
			t.Fatal(err)
		}
		x, err := Open(t.Context(), store, m.Keys)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	p := harbour(5000)
	first := open(p)
	p.file("Timetable.ods", 1, 9500, 9)
	second := open(p)
	delete(p, "Timetable.ods")
	third := open(p)
	all := []*Index{first, nil, second, third}
	for _, c := range []struct {
		q    Query
		want []string
		in   string
	}{
		{Query{Text: "timetable"}, []string{"Timetable.ods"}, "0 2"},
		{Query{Text: "TIMET*.OdS"}, []string{"Timetable.ods"}, "0 2"},
		{Query{Text: "timetable", Case: true}, nil, ""},
		{Query{Text: "Timetable", Case: true}, []string{"Timetable.ods"}, "0 2"},
		{Query{Text: "timetable*"}, []string{"Timetable.ods"}, "0 2"},
		{Query{Text: "imetable*"}, nil, ""},
		{Query{Text: "überSICHT"}, []string{"a/Übersicht.pdf"}, "0 2 3"},
		{Query{Text: "?bersicht.*"}, []string{"a/Übersicht.pdf"}, "0 2 3"},
		{Query{Text: "a/*.pdf"}, []string{"a/Übersicht.pdf"}, "0 2 3"},
		{Query{Text: "003/ticket 00199"},
			[]string{"tickets/003/Ticket 001990.txt", "tickets/003/Ticket 001991.txt", "tickets/003/Ticket 001992.txt",
				"tickets/003/Ticket 001993.txt", "tickets/003/Ticket 001994.txt",
				"tickets/003/Ticket 001995.txt", "tickets/003/Ticket 001996.txt", "tickets/003/Ticket 001997.txt",
				"tickets/003/Ticket 001998.txt", "tickets/003/Ticket 001999.txt"}, "0 2 3"},
		{Query{Text: "ticket 00300[1-3].txt"},
			[]string{"tickets/006/Ticket 003001.txt", "tickets/006/Ticket 003002.txt", "tickets/006/Ticket 003003.txt"},
			"0 2 3"},
		{Query{Text: "settings"}, nil, ""},
		{Query{Text: "settings", Hidden: true}, []string{".settings"}, "0 2 3"},
		{Query{Text: "tick\u212Aet"}, nil, ""},
		{Query{Text: "lin\u212A"}, []string{"a/link"}, "0 2 3"},
		{Query{Text: "i", Kinds: []Kind{Folder}}, []string{"tickets"}, "0 2 3"},
	} {
		res, err := Search(context.Background(), all, c.q, 100)
		if err != nil || res.More || len(res.Problems) > 0 {
			t.Fatalf("%+v: %v %+v", c.q, err, res)
		}
		var got []string
		for _, h := range res.Hits {
			got = append(got, h.Path)
			var in []string
			for _, s := range h.In {
				in = append(in, fmt.Sprint(s.Index))
			}
			if c.in != strings.Join(in, " ") {
				t.Errorf("%+v: %s is in %v", c.q, h.Path, in)
			}
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%+v: %q", c.q, got)
		}
	}
	res, err := Search(context.Background(), all, Query{Text: "ticket 0"}, 10)
	if err != nil || len(res.Hits) != 10 || !res.More {
		t.Errorf("%d hits of 10, more: %v, %v", len(res.Hits), res.More, err)
	}
	res, _ = Search(context.Background(), all, Query{Text: "timetable"}, 10)
	if v := res.Hits[0].In; v[0].Entry.Size != 9000 || v[1].Entry.Size != 9500 {
		t.Errorf("the versions are %+v", v)
	}
	for _, bad := range []string{"", "  ", "x[a"} {
		if _, err := Search(context.Background(), all, Query{Text: bad}, 10); err == nil {
			t.Errorf("%q is looked for", bad)
		}
	}
	for k := range store {
		delete(store, k)
		break
	}
	clear(store)
	if res, err := Search(context.Background(), all, Query{Text: "timetable"}, 10); err != nil ||
		len(res.Problems) != 3 {
		t.Errorf("lost chunks: %v %v", res, err)
	}
}

func TestCompare(t *testing.T) {
	p := harbour(8000)
	before := harbour(8000)
	before["tickets/007"] = fsys.Item{Mode: fs.ModeDir, ID: 444}
	old, _ := made(t, before, &Memory{})
	p.file("Timetable.ods", 1, 9500, 9)                                   // written to
	p.file("tickets/001/Ticket 000777.txt", 1777, 777, 28)                // only its time
	delete(p, "tickets/002/Ticket 001001.txt")                            // gone
	p.file("tickets/000/Ticket 000000a.txt", 77_777, 5, 9)                // new
	p.file("notes/Übersicht.pdf", 3, 2, 3)                                // moved
	delete(p, "a/Übersicht.pdf")                                          //
	p.put("notes/link", fsys.Item{Mode: fs.ModeSymlink, ID: 5, Size: 10}) // an identity that was used again
	delete(p, "a/link")
	for i := 3500; i < 4000; i++ { // a folder moved with all that is in it
		was := fmt.Sprintf("tickets/007/Ticket %06d.txt", i)
		p["archive/seven/"+was[12:]] = p[was]
		delete(p, was)
	}
	p["archive"] = fsys.Item{Mode: fs.ModeDir, ID: 555}
	p["archive/seven"] = fsys.Item{Mode: fs.ModeDir, ID: 444}
	delete(p, "tickets/007")
	now, _ := made(t, p, &Memory{})
	got, err := Compare(context.Background(), old, now, "")
	if err != nil {
		t.Fatal(err)
	}
	var lines []string
	for _, d := range got {
		lines = append(lines,
			strings.TrimSpace(fmt.Sprintf("%v %s %s %d %v", d.Way, d.Path, d.From, d.Below, d.Unsure)))
	}
	want := []string{
		"changed Timetable.ods  0 false", "new archive  0 false", "new notes  0 false", "gone a/link  0 false",
		"moved archive/seven tickets/007 500 false",
		"new notes/link  0 false", "moved notes/Übersicht.pdf a/Übersicht.pdf 0 false",
		"new tickets/000/Ticket 000000a.txt  0 false",
		"changed tickets/001/Ticket 000777.txt  0 true", "gone tickets/002/Ticket 001001.txt  0 false",
	}
	if !slices.Equal(lines, want) {
		t.Errorf("differences:\n%s\nwant\n%s", strings.Join(lines, "\n"), strings.Join(want, "\n"))
	}
	part, err := Compare(context.Background(), old, now, "tickets/001")
	if err != nil || len(part) != 1 {
		t.Errorf("in one folder: %+v, %v", part, err)
	}
	if same, err := Compare(context.Background(), now, now, ""); err != nil || len(same) != 0 {
		t.Errorf("with itself: %+v, %v", same, err)
	}
}

// FuzzChunks decodes whatever comes.
func FuzzChunks(f *testing.F) {
	m := &Memory{}
	_, x := made(f, harbour(30), m)
	for _, k := range x.Keys {
		b, _ := m.Get(f.Context(), k)
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if c, err := decodeNames(b); err == nil {
			n := 0
			c.paths(func(i int, path string) bool { n++; _ = c.kinds[i]; return true })
			if n != len(c.kinds) {
				t.Fatalf("%d paths, %d kinds", n, len(c.kinds))
			}
		}
		if a, err := decodeAttrs(b); err == nil && len(a.size) != len(a.id) {
			t.Fatal("columns of different lengths")
		}
		one := &Memory{}
		key, _ := one.Put(t.Context(), b)
		if x, err := Open(t.Context(), one, []string{key, key, key}); err == nil {
			for range x.All(t.Context()) {
			}
		}
	})
}
