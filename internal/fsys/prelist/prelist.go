// Package prelist lists the folders of a tree before it is their turn, a few at the same time: for going through a
// whole tree of which each small read costs much, as that of a twin does, where a whole block is unpacked for it.
package prelist

import (
	"iter"
	"slices"
	"strings"
	"sync"

	"twinshelf/internal/fsys"
)

const (
	// mostAtOnce is how many folders are listed at the same time at the most.
	mostAtOnce = 4
	// mostHeld is how many folders are held before their turn: what one block of a twin has of a volume, as a rule.
	mostHeld = 64
	// mostItems is how many items those may hold before another folder is begun.
	mostItems = 50_000
	// mostKnown is how many folders are known that nobody has listed so far.
	mostKnown = 4096
)

// Tree is a tree whose folders are asked for as fsys.Walk does it: a folder, then those in it by name, each followed by
// what is below it. Other orders give the same, and gain nothing.
type Tree struct {
	fsys.Tree
	running sync.WaitGroup

	mu     sync.Mutex
	known  []fsys.Item // the next one is the last
	held   []*listing  // in the order in which they were begun
	atOnce int         // of them are being listed
	items  int         // of those that are listed
	closed bool
}

// listing is what a folder holds.
type listing struct {
	folder fsys.Item
	done   chan struct{} // closed when the rest is there
	items  []fsys.Item
	errs   []error
}

// Of wraps a tree; whoever does that calls Close.
func Of(t fsys.Tree) *Tree { return &Tree{Tree: t} }

// Close waits for what is being listed, and lists nothing more before its turn.
func (t *Tree) Close() {
	t.mu.Lock()
	t.closed = true
	t.mu.Unlock()
	t.running.Wait()
}

// List is that of the tree itself.
func (t *Tree) List(folder fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		l := t.take(folder)
		if l == nil {
			l = &listing{folder: folder}
			l.fill(t.Tree)
		}
		t.follow(l)
		for i, it := range l.items {
			if !yield(it, l.errs[i]) {
				return
			}
		}
	}
}

// take gives what a folder holds; nil where it isn't held.
func (t *Tree) take(folder fsys.Item) *listing {
	t.mu.Lock()
	i := slices.IndexFunc(t.held, func(l *listing) bool { return folder.ID != 0 && l.folder.ID == folder.ID })
	mine := i >= 0
	if last := len(t.known) - 1; !mine && last >= 0 && t.known[last].ID == folder.ID {
		t.known = t.known[:last]
	}
	if !mine && (len(t.held) == mostHeld || t.items > mostItems) {
		i = 0 // nobody may ever come for the oldest
	}
	if i < 0 || len(t.held) == 0 {
		t.mu.Unlock()
		return nil
	}
	l := t.held[i]
	t.held = slices.Delete(t.held, i, i+1)
	t.mu.Unlock()
	<-l.done
	t.mu.Lock()
	t.items -= len(l.items)
	t.mu.Unlock()
	if !mine {
		return nil
	}
	return l
}

func (l *listing) fill(t fsys.Tree) {
	for it, err := range t.List(l.folder) {
		l.items, l.errs = append(l.items, it), append(l.errs, err)
	}
}

// follow makes those folders known whose turn will be next.
func (t *Tree) follow(l *listing) {
	var below []fsys.Item
	for i, it := range l.items {
		if l.errs[i] == nil && it.IsDir() && it.ID != 0 && it.Attr&fsys.Earlier == 0 {
			below = append(below, it)
		}
	}
	slices.SortStableFunc(below, func(a, b fsys.Item) int { return strings.Compare(b.Name, a.Name) })
	t.mu.Lock()
	defer t.mu.Unlock()
	t.known = append(t.known, below...)
	if more := len(t.known) - mostKnown; more > 0 {
		t.known = slices.Delete(t.known, 0, more)
	}
	t.begin()
}

// begin has as many folders listed as may be; mu is held.
func (t *Tree) begin() {
	for !t.closed && len(t.known) > 0 && t.atOnce < mostAtOnce && len(t.held) < mostHeld && t.items < mostItems {
		last := len(t.known) - 1
		next := &listing{folder: t.known[last], done: make(chan struct{})}
		t.known, t.held = t.known[:last], append(t.held, next)
		t.atOnce++
		t.running.Go(func() {
			next.fill(t.Tree)
			t.mu.Lock()
			defer t.mu.Unlock()
			t.atOnce--
			t.items += len(next.items)
			close(next.done)
			t.begin()
		})
	}
}
