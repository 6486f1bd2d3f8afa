package takeout

import (
	"context"
	"sync"
	"sync/atomic"

	"github.com/zeebo/blake3"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// Small files are read before it is their turn to be written, several at the same time: it is the disk that is waited
// for, not the copying. After the first that can't be read one is read at a time: a failing drive is spared.
const (
	readers    = 4         // files that are read at the same time
	aheadFiles = 64        // of a folder
	aheadBytes = 16 << 20  // of all folders together
	aheadFile  = 512 << 10 // larger files are read as they are written
)

// ahead reads files ahead.
type ahead struct {
	jobs    chan *fetched
	workers sync.WaitGroup
	room    int64 // bytes that may still be read ahead; whoever takes out owns it
	hurt    atomic.Bool
}

// fetched is a file that is read ahead.
type fetched struct {
	tree fsys.Tree
	item fsys.Item
	room int64

	ready    chan struct{} // closed when the rest is known
	err      error
	contents fsys.Contents
	plain    []byte // what its data holds, one stretch after another
	sum      []byte
}

func readAhead(ctx context.Context) *ahead {
	a := &ahead{jobs: make(chan *fetched, aheadFiles), room: aheadBytes}
	for range readers {
		a.workers.Go(func() {
			for f := range a.jobs {
				f.fetch(ctx, a)
			}
		})
	}
	return a
}

// stop ends reading ahead, and waits for what is under way.
func (a *ahead) stop() {
	close(a.jobs)
	a.workers.Wait()
}

func (f *fetched) fetch(ctx context.Context, a *ahead) {
	defer close(f.ready)
	if ctx.Err() != nil || a.hurt.Load() {
		return
	}
	defer func() {
		if f.err != nil {
			a.hurt.Store(true)
		}
	}()
	if f.contents, f.err = f.tree.Open(f.item, ""); f.err != nil {
		return
	}
	total := f.contents.Data().Total()
	if total > f.room { // its contents are longer than its listing says
		return
	}
	f.plain = make([]byte, 0, total)
	h := blake3.New()
	for data := range f.contents.Data().All() {
		at := len(f.plain)
		f.plain = f.plain[:at+int(data.Len())]
		if f.err = disk.ReadFull(f.contents, f.plain[at:], data.Start); f.err != nil {
			return
		}
		h.Write(f.plain[at:])
	}
	f.sum = h.Sum(nil)
}

// queue is a folder's files in the order in which they are taken out.
type queue struct {
	*ahead
	tree    fsys.Tree
	entries []fsys.Entry
	// wanted says whether a file will be read at all: it won't where it is outside already.
	wanted  func(name string) bool
	asked   int // entries that were looked at
	waiting map[int]*fetched
}

func (a *ahead) folder(t fsys.Tree, entries []fsys.Entry, wanted func(name string) bool) *queue {
	return &queue{ahead: a, tree: t, entries: entries, wanted: wanted, waiting: map[int]*fetched{}}
}

// take gives what was read ahead of entry i, or why that failed; nil where nothing was. Entries are taken in their
// order.
func (q *queue) take(i int) *fetched {
	q.ask(i)
	f := q.waiting[i]
	if f == nil {
		return nil
	}
	<-f.ready
	delete(q.waiting, i)
	q.room += f.room
	if f.err == nil && f.sum == nil {
		return nil
	}
	return f
}

// ask has as much read ahead from entry i on as there is room for.
func (q *queue) ask(i int) {
	for q.asked = max(q.asked, i); q.asked < min(len(q.entries), i+aheadFiles) && !q.hurt.Load(); q.asked++ {
		e := &q.entries[q.asked]
		if e.Err != nil || !e.Mode.IsRegular() || e.Links > 1 || e.Size > aheadFile || !q.wanted(e.Name) {
			continue
		}
		if e.Size > q.room {
			return
		}
		f := &fetched{tree: q.tree, item: e.Item, room: e.Size, ready: make(chan struct{})}
		select {
		case q.jobs <- f:
			q.room -= f.room
			q.waiting[q.asked] = f
		default:
			return
		}
	}
}
