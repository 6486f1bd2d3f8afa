package shelf_test

import (
	"bytes"
	"context"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store/backend"
)

// slow is a folder whose answers take a while on their way; it counts the reads of packs, and how many were on their
// way at once.
type slow struct {
	backend.Backend

	mu             sync.Mutex
	reads, now, at int           // at: the most at once
	most           int           // that are worth it
	breaks         int64         // from which byte of a pack on nothing can be read; 0 for none
	held           chan struct{} // closed when reads may go on; nil where they may
}

func (s *slow) AtOnce() int { return s.most }

func (s *slow) Open(ctx context.Context, name string) (backend.Object, error) {
	o, err := s.Backend.Open(ctx, name)
	if err != nil || !strings.HasPrefix(name, "packs/") {
		return o, err
	}
	return &slowObject{o, s}, nil
}

type slowObject struct {
	backend.Object
	s *slow
}

func (o *slowObject) ReadAt(ctx context.Context, p []byte, off int64) (int, error) {
	o.s.mu.Lock()
	o.s.reads++
	o.s.now++
	o.s.at = max(o.s.at, o.s.now)
	held := o.s.held
	o.s.mu.Unlock()
	if held != nil {
		select {
		case <-held:
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	}
	time.Sleep(5 * time.Millisecond) // so that those that are sent at once meet
	n, err := o.Object.ReadAt(ctx, p, off)
	o.s.mu.Lock()
	defer o.s.mu.Unlock()
	if o.s.now--; o.s.breaks > 0 && off > o.s.breaks {
		return 0, errors.New("the line breaks")
	}
	return n, err
}

// since gives what was counted, and begins anew.
func (s *slow) since() (reads, at int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	reads, at = s.reads, s.at
	s.reads, s.at = 0, 0
	return reads, at
}

// set sets how many reads are worth being sent at once, and where packs break.
func (s *slow) set(most int, breaks int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.most, s.breaks = most, breaks
}

// slowDisk is a disk of a twin on a shelf of this kind, with what it holds; each time it is opened nothing is kept and
// nothing counted.
func slowDisk(t *testing.T) (*slow, [][]byte, func() *shelf.Disk) {
	t.Helper()
	near, blocks := shelftest.New(t), shelftest.Content(64, 5)
	tw := committed(t, near, "Kiosk", blocks)
	b := &slow{Backend: backend.InFolder(near.Place()), most: 64}
	return b, blocks, func() *shelf.Disk {
		d, err := shelftest.At(t, b).OpenDisk(t.Context(), tw, 0)
		if err != nil {
			t.Fatal(err)
		}
		b.since()
		return d
	}
}

// TestReadAhead: of a disk whose shelf lies far away, what is read in order is asked for ahead, and each block once;
// what is read here and there is asked for alone.
func TestReadAhead(t *testing.T) {
	b, blocks, open := slowDisk(t)
	p := make([]byte, shelftest.Block/4)
	d, data := open(), 0
	for off := int64(0); off < d.Size(); off += int64(len(p)) {
		if _, err := d.ReadAt(p, off); err != nil {
			t.Fatal(err)
		}
		k := off / shelftest.Block
		if want := blocks[k][off%shelftest.Block:][:len(p)]; !bytes.Equal(p, want) {
			t.Fatalf("byte %d is another one", off)
		}
		if off%shelftest.Block == 0 && len(bytes.TrimLeft(blocks[k], "\x00")) > 0 {
			data++
		}
	}
	if reads, at := b.since(); reads > data+2 || reads < data/2 || at != 8 {
		t.Errorf("in order: %d reads of %d blocks, %d at once", reads, data, at)
	}
	d, data = open(), 0
	for k := int64(1); k < 64; k += 7 {
		if _, err := d.ReadAt(p, k*shelftest.Block); err != nil {
			t.Fatal(err)
		}
		data++
	}
	if reads, at := b.since(); reads > data+2 || at != 1 {
		t.Errorf("here and there: %d reads of %d blocks, %d at once", reads, data, at)
	}
}

// TestHurtAhead: a block that can't be read is told of by whoever asks for it, and not by who asks for one before it.
func TestHurtAhead(t *testing.T) {
	b, _, open := slowDisk(t)
	first := func(most int) int64 {
		b.set(most, 0)
		d, p := open(), make([]byte, 1)
		for k := range int64(64) {
			if _, err := d.ReadAt(p, k*shelftest.Block); err != nil {
				return k
			}
			b.set(most, 1<<20)
		}
		t.Fatal("nothing is hurt")
		return 0
	}
	if alone, ahead := first(1), first(64); alone != ahead || alone < 10 {
		t.Errorf("read one by one block %d can't be read, read ahead block %d", alone, ahead)
	}
}

// TestReadTogether: a block that several ask for at the same time is read once, and all of them get it; where it can't
// be read all of them hear of that, and whoever asks again has it tried again.
func TestReadTogether(t *testing.T) {
	b, blocks, open := slowDisk(t)
	d := open()
	const askers, k = 8, 10
	ask := func() (good int) {
		var all sync.WaitGroup
		var right atomic.Int64
		for i := range askers {
			all.Go(func() {
				p := make([]byte, 100)
				at := int64(k*shelftest.Block + 100*i)
				if _, err := d.ReadAt(p, at); err == nil && bytes.Equal(p, blocks[k][100*i:][:100]) {
					right.Add(1)
				}
			})
		}
		all.Wait()
		return int(right.Load())
	}
	if _, err := d.ReadAt(make([]byte, 1), shelftest.Block); err != nil { // now it is known where blocks lie
		t.Fatal(err)
	}
	b.set(1, 1)
	if good := ask(); good != 0 {
		t.Errorf("%d of %d got a block that can't be read", good, askers)
	}
	b.set(1, 0)
	b.since()
	if good := ask(); good != askers {
		t.Errorf("%d of %d got the block", good, askers)
	}
	if reads, _ := b.since(); reads != 1 {
		t.Errorf("%d reads of one block", reads)
	}
}

// TestLatestShared: what one disk of a shelf read another one needn't read, and who waits for somebody else's reading,
// which was stopped, reads by itself.
func TestLatestShared(t *testing.T) {
	near, blocks := shelftest.New(t), shelftest.Content(64, 5)
	tw := committed(t, near, "Kiosk", blocks)
	b := &slow{Backend: backend.InFolder(near.Place()), most: 1}
	s := shelftest.At(t, b)
	open := func(ctx context.Context) *shelf.Disk {
		d, err := s.OpenDisk(ctx, tw, 0)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	read := func(d *shelf.Disk, k int64) error {
		p := make([]byte, shelftest.Block)
		_, err := d.ReadAt(p, k*shelftest.Block)
		if err == nil && !bytes.Equal(p, blocks[k]) {
			err = errors.New("it is another one")
		}
		return err
	}
	ctx, stop := context.WithCancel(t.Context())
	one, other := open(ctx), open(t.Context())
	if err := errors.Join(read(one, 8), read(other, 2)); err != nil { // and with it the block map
		t.Fatal(err)
	}
	b.since()
	if err := read(other, 8); err != nil {
		t.Fatal(err)
	}
	if reads, _ := b.since(); reads != 0 {
		t.Errorf("%d reads of what was read before", reads)
	}
	held := make(chan struct{})
	b.mu.Lock()
	b.held = held
	b.mu.Unlock()
	results := [2]chan error{make(chan error, 1), make(chan error, 1)}
	go func() { results[0] <- read(one, 9) }()
	for reads := 0; reads == 0; {
		reads, _ = b.since()
	}
	go func() { results[1] <- read(other, 9) }()
	time.Sleep(20 * time.Millisecond) // it waits for the first one, or comes after it: both shall do
	stop()
	if err := <-results[0]; !errors.Is(err, context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
	close(held)
	if err := <-results[1]; err != nil {
		t.Error(err)
	}
}
