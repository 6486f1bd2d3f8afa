package prelist

import (
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"sync/atomic"
	"testing"
	"time"

	"twinshelf/internal/fsys"
)

// made is a tree of numbered folders: below folder n are those of below, and a file.
type made struct {
	below  map[uint64][]uint64
	files  int // more of them in each folder
	listed atomic.Int64
	under  atomic.Int64 // listings under way
	most   atomic.Int64
}

var errGarbled = errors.New("its records are garbled")

func folder(n uint64) fsys.Item {
	return fsys.Item{Name: fmt.Sprintf("%03d", n), Mode: fs.ModeDir | 0o755, ID: n}
}

func (m *made) Root() (fsys.Item, error)                      { return folder(1), nil }
func (m *made) Lookup(fsys.Item, string) (fsys.Item, error)   { return fsys.Item{}, fs.ErrNotExist }
func (m *made) Open(fsys.Item, string) (fsys.Contents, error) { return nil, fs.ErrNotExist }
func (m *made) More(fsys.Item) (fsys.More, error)             { return fsys.More{}, nil }
func (m *made) List(of fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		m.listed.Add(1)
		m.most.Store(max(m.most.Load(), m.under.Add(1)))
		defer m.under.Add(-1)
		below := m.below[of.ID]
		for i := range below { // in no order
			if !yield(folder(below[len(below)-1-i]), nil) {
				return
			}
		}
		if of.ID%7 == 3 && !yield(fsys.Item{Name: "torn"}, errGarbled) {
			return
		}
		if of.ID%11 == 5 && !yield(fsys.Item{}, errGarbled) {
			return
		}
		for i := range m.files {
			if !yield(fsys.Item{Name: fmt.Sprint(i), Mode: 0o644}, nil) {
				return
			}
		}
		yield(fsys.Item{Name: fmt.Sprint("file in ", of.ID), Mode: 0o644, Size: int64(of.ID)}, nil)
	}
}

// walked is all that a walk says.
func walked(t *testing.T, tree fsys.Tree, skip uint64) (said []string) {
	t.Helper()
	root, err := tree.Root()
	if err != nil {
		t.Fatal(err)
	}
	if err := fsys.Walk(tree, root, ".", func(path string, of fsys.Item, all []fsys.Entry, err error) error {
		said = append(said, fmt.Sprint(path, of.ID, err))
		for _, e := range all {
			said = append(said, fmt.Sprint(e.Name, e.Size, e.Err))
		}
		if of.ID == skip {
			return fs.SkipDir
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return said
}

// TestSameWalk: a walk says the same whether folders are listed before their turn or not: of a deep tree, a broad one,
// one in which folders are in two places or in themselves, and where what is below a folder is left out.
func TestSameWalk(t *testing.T) {
	deep, broad, round := map[uint64][]uint64{}, map[uint64][]uint64{}, map[uint64][]uint64{}
	for n := uint64(1); n < 300; n++ {
		deep[n] = []uint64{n + 1}
		broad[n/20+1] = append(broad[n/20+1], n+1)
		round[n] = []uint64{n/2 + 1, n + 1, 300 - n}
	}
	for name, below := range map[string]map[uint64][]uint64{"deep": deep, "broad": broad, "round": round} {
		for _, skip := range []uint64{0, 2, 9} {
			bare, ahead := &made{below: below}, &made{below: below}
			wrapped := Of(ahead)
			want, got := walked(t, bare, skip), walked(t, wrapped, skip)
			wrapped.Close()
			if fmt.Sprint(want) != fmt.Sprint(got) {
				t.Errorf("%s, without what is below %d: %d lines, want %d", name, skip, len(got), len(want))
			}
			if more := ahead.listed.Load() - bare.listed.Load(); skip == 0 && name == "broad" && more != 0 {
				t.Errorf("%s: %d folders were listed twice", name, more)
			}
			if ahead.most.Load() > mostAtOnce+1 {
				t.Errorf("%s: %d at the same time", name, ahead.most.Load())
			}
		}
	}
}

// TestEndsEarly: who stops in the middle waits for what is under way, and nothing is listed after that; no more is held
// before its turn than may be.
func TestEndsEarly(t *testing.T) {
	for _, x := range []struct{ files, most int }{{0, mostHeld}, {mostItems / 4, 4 + mostAtOnce}} {
		m := &made{below: map[uint64][]uint64{}, files: x.files}
		for n := uint64(2); n < 200; n++ {
			m.below[1] = append(m.below[1], n)
		}
		w := Of(m)
		root, _ := w.Root()
		for range w.List(root) {
			break
		}
		for m.listed.Load() < int64(min(x.most, 4))+1 {
			time.Sleep(time.Millisecond)
		}
		w.Close()
		n := m.listed.Load()
		if m.under.Load() != 0 || n > int64(x.most)+1 {
			t.Errorf("folders with %d files: %d listed, %d under way", x.files, n, m.under.Load())
		}
		for range w.List(folder(900)) {
		}
		if m.listed.Load() != n+1 {
			t.Errorf("%d listed after the end", m.listed.Load()-n)
		}
	}
}
