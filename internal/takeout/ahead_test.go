package takeout

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/zeebo/blake3"

	"twinshelf/internal/fsys"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

// moody is a tree of which some files are longer than they say, and some can be read at the second try only.
type moody struct {
	hostile
	mu    sync.Mutex
	tries map[string]int
}

const longer = 3 * aheadFile

func (m *moody) Open(it fsys.Item, stream string) (fsys.Contents, error) {
	m.mu.Lock()
	m.tries[it.Name]++
	first := m.tries[it.Name] == 1
	m.mu.Unlock()
	switch {
	case it.Name == "shy" && first:
		return nil, errors.New("not now")
	case it.Name == "torn", it.Name == "faint" && first:
		return torn{}, nil
	case it.Name == "longer":
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

// TestReadAhead: what is read ahead is what would have been read; what fails then is tried again in its turn, and only
// what fails there as well is left out. Folders with more files than are read ahead, and deep ones, come whole.
func TestReadAhead(t *testing.T) {
	file := func(name string) fsys.Item { return fsys.Item{Name: name, Mode: 0o644, Size: 4, Ref: name} }
	tree := &moody{hostile: hostile{"": {file("shy"), file("torn"), file("faint"), file("longer")}},
		tries: map[string]int{}}
	at := ""
	for deep := range 5 { // each with more files than are read ahead
		folder := fmt.Sprintf("%d below", deep)
		tree.hostile[at] = append(tree.hostile[at], fsys.Item{Name: folder, Mode: fs.ModeDir | 0o755, Ref: folder})
		for i := range 3 * aheadFiles {
			tree.hostile[at] = append(tree.hostile[at], file(fmt.Sprintf("%03d", i)))
		}
		at = folder
	}
	root, _ := tree.Root()
	root.Name = "all"
	dest := t.TempDir()
	r := taken(t, func(rc *run.Context) (*Report, error) {
		return ToFolder(rc, []Choice{{Tree: tree, Item: root, Path: "."}}, dest, Options{})
	})
	if want := 5*3*aheadFiles + 3; r.Files != want || r.Verified != want || r.LeftOut != 1 ||
		r.Left[0].Path != "torn" {
		t.Errorf("%d files, %d read back, left out: %v", r.Files, r.Verified, r.Left)
	}
	if st, err := os.Stat(filepath.Join(dest, "all", "longer")); err != nil || st.Size() != longer {
		t.Errorf("the longer one: %v %v", st, err)
	}
	for name, want := range map[string]int{"shy": 2, "faint": 2, "torn": 2, "000": 5} {
		if tree.tries[name] != want {
			t.Errorf("%s was opened %d times", name, tree.tries[name])
		}
	}
	again := taken(t, func(rc *run.Context) (*Report, error) {
		return ToFolder(rc, []Choice{{Tree: tree, Item: root, Path: "."}}, dest, Options{Clash: Replace})
	})
	if again.Files != r.Files || again.Bytes != r.Bytes {
		t.Errorf("written over: %+v", again)
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
