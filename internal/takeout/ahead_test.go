package takeout

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/zeebo/blake3"

	"twinshelf/internal/fsys"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

// moody is a tree of which some files are longer than they say, and some can't be read; it counts how often each is
// opened.
type moody struct {
	hostile
	mu    sync.Mutex
	tries map[string]int
}

const longer = 3 * aheadFile

func (m *moody) Open(it fsys.Item, stream string) (fsys.Contents, error) {
	m.mu.Lock()
	m.tries[it.Name]++
	m.mu.Unlock()
	switch it.Name {
	case "shut":
		return nil, errTorn
	case "torn":
		return torn{}, nil
	case "longer":
		return &fsys.Resident{Bytes: make([]byte, longer)}, nil
	}
	return m.hostile.Open(it, stream)
}

// torn are contents that can be opened, and not read.
type torn struct{}

var errTorn = errors.New("input/output error")

func (torn) ReadAt([]byte, int64) (int, error) { return 0, errTorn }
func (torn) Size() int64                       { return 4 }
func (torn) Data() span.Set                    { return span.Of(span.At(0, 4)) }
func (torn) Spans() []span.Span                { return nil }

// crowd is a tree with some files, and folders with more than are read ahead, each in the one before.
func crowd(names ...string) (tree *moody, root fsys.Item) {
	file := func(name string) fsys.Item { return fsys.Item{Name: name, Mode: 0o644, Size: 4, Ref: name} }
	tree = &moody{hostile: hostile{}, tries: map[string]int{}}
	for _, n := range names {
		tree.hostile[""] = append(tree.hostile[""], file(n))
	}
	at := ""
	for deep := range 5 {
		folder := fmt.Sprintf("%d below", deep)
		tree.hostile[at] = append(tree.hostile[at], fsys.Item{Name: folder, Mode: fs.ModeDir | 0o755, Ref: folder})
		for i := range 3 * aheadFiles {
			tree.hostile[at] = append(tree.hostile[at], file(fmt.Sprintf("%03d", i)))
		}
		at = folder
	}
	root, _ = tree.Root()
	root.Name = "all"
	return tree, root
}

// TestReadAhead: what is read ahead is what would have been read, in deep folders and in ones with more files than are
// read ahead, also where a file is longer than it says, and where it is written over what is there.
func TestReadAhead(t *testing.T) {
	tree, root := crowd("longer")
	dest := t.TempDir()
	for _, o := range []Options{{}, {Clash: Replace}} {
		r := taken(t, func(rc *run.Context) (*Report, error) {
			return ToFolder(rc, []Choice{{Tree: tree, Item: root, Path: "."}}, dest, o)
		})
		if want := 5*3*aheadFiles + 1; r.Files != want || r.Verified != want || r.LeftOut != 0 ||
			r.Bytes != int64(4*(want-1)+longer) {
			t.Errorf("%+v", r)
		}
	}
	nothingHalf(t, dest)
	if st, err := os.Stat(filepath.Join(dest, "all", "longer")); err != nil || st.Size() != longer {
		t.Errorf("the longer one: %v %v", st, err)
	}
}

// nothingHalf fails where a file stands under a passing name.
func nothingHalf(t *testing.T, dest string) {
	t.Helper()
	must(t, filepath.WalkDir(dest, func(path string, _ fs.DirEntry, err error) error {
		if strings.Contains(path, ".twinshelf-part") {
			t.Errorf("%s was left behind", path)
		}
		return err
	}))
}

// telling is a tree whose files hold what they are called inside; one may end the run.
type telling struct {
	hostile
	end func()
}

func (m telling) Open(it fsys.Item, _ string) (fsys.Contents, error) {
	if it.Name == "end" {
		m.end()
	}
	return &fsys.Resident{Bytes: []byte(it.Ref.(string))}, nil
}

// TestNamedTwice: files that have one name in a damaged folder are kept apart, whichever is read first.
func TestNamedTwice(t *testing.T) {
	tree := telling{hostile: hostile{}}
	for i := range 2 * aheadFiles {
		ref := fmt.Sprintf("%03d", i)
		name := fmt.Sprint("fare ", i/2)
		tree.hostile[""] = append(tree.hostile[""], fsys.Item{Name: name, Mode: 0o644, Size: 3, Ref: ref})
	}
	root, _ := tree.Root()
	dest := t.TempDir()
	r := taken(t, func(rc *run.Context) (*Report, error) {
		return ToFolder(rc, []Choice{{Tree: tree, Item: root, Path: ".", Name: "all"}}, dest, Options{})
	})
	if r.Files != 2*aheadFiles || r.Verified != r.Files || len(r.Renamed) != aheadFiles || r.LeftOut != 0 {
		t.Errorf("%+v", r)
	}
	for i := range aheadFiles {
		b, err := os.ReadFile(filepath.Join(dest, "all", fmt.Sprint("fare ", i)))
		if want := fmt.Sprintf("%03d", 2*i); err != nil || string(b) != want {
			t.Errorf("the first of the name %d holds %q, %v", i, b, err)
		}
	}
	nothingHalf(t, dest)
}

// TestEndedAhead: a run that is cancelled leaves nothing of what was written ahead.
func TestEndedAhead(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	tree := telling{hostile{}, cancel}
	for i := range aheadFiles {
		for _, name := range []string{fmt.Sprint("fare ", i), fmt.Sprint("crew ", i)} {
			tree.hostile[""] = append(tree.hostile[""], fsys.Item{Name: name, Mode: 0o644, Size: 4, Ref: "4.20"})
		}
	}
	tree.hostile[""][aheadFiles].Name = "end"
	root, _ := tree.Root()
	dest := t.TempDir()
	err := run.Start(ctx, "x", Phases, nil, func(rc *run.Context) error {
		_, err := ToFolder(rc, []Choice{{Tree: tree, Item: root, Path: ".", Name: "all"}}, dest, Options{})
		return err
	}).Wait()
	if !errors.Is(err, context.Canceled) {
		t.Errorf("it ended with %v", err)
	}
	nothingHalf(t, dest)
}

// TestSpares: what can't be read is asked for once, and from then on one file at a time; the others come all the same.
func TestSpares(t *testing.T) {
	for _, bad := range []string{"shut", "torn"} {
		tree, root := crowd(bad)
		dest := t.TempDir()
		r := taken(t, func(rc *run.Context) (*Report, error) {
			return ToFolder(rc, []Choice{{Tree: tree, Item: root, Path: "."}}, dest, Options{})
		})
		nothingHalf(t, dest)
		if want := 5 * 3 * aheadFiles; r.Files != want || r.Verified != want || r.LeftOut != 1 ||
			r.Left[0].Path != bad || !strings.HasSuffix(r.Left[0].Why, errTorn.Error()) {
			t.Errorf("%s: %d files, %d read back, left out: %v", bad, r.Files, r.Verified, r.Left)
		}
		if n := tree.tries[bad]; n != 1 {
			t.Errorf("%s was opened %d times", bad, n)
		}
	}
	a := readAhead(t.Context())
	defer a.stop()
	a.hurt.Store(true)
	tree, _ := crowd()
	entries := []fsys.Entry{{Item: fsys.Item{Name: "000", Mode: 0o644}}}
	if f := a.folder(tree, entries, func(string) bool { return true }).take(0); f != nil || len(tree.tries) > 0 {
		t.Errorf("read ahead of a failing drive: %+v", f)
	}
}

// TestReadBack: files that are not what was written are said each, those after them are read back all the same.
func TestReadBack(t *testing.T) {
	dest := t.TempDir()
	root, err := os.Open(dest)
	must(t, err)
	defer root.Close()
	sum := blake3.Sum256([]byte("fare"))
	must(t, testkit.Run(t, func(rc *run.Context) error {
		tk := &taker{rc: rc, r: &Report{}, root: root}
		const files = lotFiles + 10
		for i := range files {
			name := fmt.Sprint(i)
			must(t, os.WriteFile(filepath.Join(dest, name), []byte("fare"), 0o644))
			must(t, tk.remember(written{name: name, path: name, data: span.Of(span.At(0, 4)), size: 4,
				sum: sum[:]}))
			switch i { // of the first lot, and of the second
			case 7:
				must(t, os.WriteFile(filepath.Join(dest, name), []byte("fire"), 0o644))
			case lotFiles + 1:
				must(t, os.Truncate(filepath.Join(dest, name), 3))
			case lotFiles + 2:
				must(t, os.Remove(filepath.Join(dest, name)))
			case lotFiles + 3:
				must(t, os.Remove(filepath.Join(dest, name)))
				must(t, os.Symlink("0", filepath.Join(dest, name)))
			}
		}
		must(t, tk.settle())
		must(t, tk.finish())
		var left []string
		for _, l := range tk.r.Left {
			left = append(left, l.Path)
		}
		if fmt.Sprint(left) != fmt.Sprint([]int{7, lotFiles + 1, lotFiles + 2, lotFiles + 3}) ||
			tk.r.Verified != files-4 {
			t.Errorf("%d read back; differ: %v", tk.r.Verified, tk.r.Left)
		}
		return nil
	}))
}
