package near

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/backend/backendtest"
)

// telling is a folder whose listings tell sizes and times, as far backends' do; it counts what it is asked.
type telling struct {
	backend.Backend
	lists, opens atomic.Int32
}

func (b *telling) Entries(ctx context.Context, folder string) ([]backend.Entry, error) {
	b.lists.Add(1)
	return backend.Entries(ctx, b.Backend, folder)
}

func (b *telling) Open(ctx context.Context, name string) (backend.Object, error) {
	b.opens.Add(1)
	return b.Backend.Open(ctx, name)
}

// connected is one over a connection, whose head comes when a folder was asked for.
type connected struct {
	telling
	after string
	asked chan struct{}
	once  sync.Once
}

func (b *connected) Dial(context.Context) error { return nil }

func (b *connected) Entries(ctx context.Context, folder string) ([]backend.Entry, error) {
	if folder == b.after {
		b.once.Do(func() { close(b.asked) })
	}
	return b.telling.Entries(ctx, folder)
}

func (b *connected) Open(ctx context.Context, name string) (backend.Object, error) {
	if name == first {
		select {
		case <-b.asked:
		case <-time.After(time.Minute):
			return nil, fmt.Errorf("nobody asks for %s before the head is there", b.after)
		}
	}
	return b.telling.Open(ctx, name)
}

// TestAskedTogether: over a connection everything is asked for with the head, also the folders of machines of which
// copies are near.
func TestAskedTogether(t *testing.T) {
	dir, cache := t.TempDir(), t.TempDir()
	const name = "twins/kiosk/1.twin"
	plain := backend.InFolder(dir)
	put(t, plain, first, []byte("the head"))
	put(t, plain, name, []byte("as it was"))
	old := time.Now().Add(-2 * apart)
	if err := os.Chtimes(filepath.Join(dir, name), old, old); err != nil {
		t.Fatal(err)
	}
	for _, after := range []string{"proofs", "twins/kiosk"} {
		far := &connected{telling: telling{Backend: plain}, after: after, asked: make(chan struct{})}
		b := Over(far, cache, 1<<20)
		is(t, b, first, []byte("the head"))
		if _, err := b.List(t.Context(), "twins/kiosk"); err != nil {
			t.Fatal(err)
		}
		is(t, b, name, []byte("as it was")) // and a copy of it is near
		if err := b.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

func TestConforms(t *testing.T) {
	backendtest.Conform(t, func(t *testing.T) func() backend.Backend {
		far, cache := t.TempDir(), t.TempDir()
		return func() backend.Backend {
			return Over(&telling{Backend: backend.InFolder(far)}, cache, 1<<20)
		}
	})
}

func put(t *testing.T, b backend.Backend, name string, content []byte) {
	t.Helper()
	if err := backend.Put(t.Context(), b, name, content, backend.Options{Owner: "a"}, nil); err != nil {
		t.Fatal(err)
	}
}

// is fails where an object doesn't hold what it should.
func is(t *testing.T, b backend.Backend, name string, want []byte) {
	t.Helper()
	if got, err := backend.Get(t.Context(), b, name, 64<<20); err != nil || !bytes.Equal(got, want) {
		t.Errorf("%s: %d bytes, %v", name, len(got), err)
	}
}

// TestIndexOnce: an index that is read often is fetched once, for all processes; a copy that was hurt is thrown away
// and fetched again, and one that can't be kept leaves the object as it is.
func TestIndexOnce(t *testing.T) {
	dir, cache := t.TempDir(), t.TempDir()
	far := &telling{Backend: backend.InFolder(dir)}
	content := make([]byte, 3<<20)
	_, _ = rand.NewChaCha8([32]byte{1}).Read(content)
	put(t, far, "index/1.index", content)
	readAll := func(most int64) {
		t.Helper()
		b := Over(far, cache, most)
		o, err := b.Open(t.Context(), "index/1.index")
		if err != nil {
			t.Fatal(err)
		}
		defer o.Close()
		p := make([]byte, 100)
		for i := range 200 {
			at := int64(i) * 7919 % (o.Size() - 100)
			if n, err := o.ReadAt(t.Context(), p, at); n < len(p) || !bytes.Equal(p, content[at:][:100]) {
				t.Fatalf("at %d: %d bytes, %v", at, n, err)
			}
		}
	}
	copied := filepath.Join(cache, "index", "1.index")
	readAll(1 << 20) // too small for it
	if _, err := os.Stat(copied); err == nil {
		t.Error("it was kept beyond the limit")
	}
	readAll(1 << 30)
	opens := far.opens.Load()
	readAll(1 << 30)
	if n := far.opens.Load() - opens; n != 0 {
		t.Errorf("with a copy near it was opened %d times far away", n)
	}
	f, err := os.OpenFile(copied, os.O_RDWR, 0)
	if err == nil {
		_, err = f.WriteAt([]byte("hurt"), 1<<20)
	}
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
	readAll(1 << 30)
	if n := far.opens.Load() - opens; n != 1 {
		t.Errorf("a hurt copy: opened %d times far away", n)
	}
}

// TestTwinsChange: a copy of what may be replaced is used only where a listing says that it is the same.
func TestTwinsChange(t *testing.T) {
	dir, cache := t.TempDir(), t.TempDir()
	far := &telling{Backend: backend.InFolder(dir)}
	const name = "twins/kiosk/1.twin"
	put(t, far, name, []byte("as it was"))
	old := time.Now().Add(-2 * apart)
	if err := os.Chtimes(filepath.Join(dir, name), old, old); err != nil {
		t.Fatal(err)
	}
	look := func(b backend.Backend, want string) {
		t.Helper()
		if _, err := b.List(t.Context(), "twins/kiosk"); err != nil {
			t.Fatal(err)
		}
		is(t, b, name, []byte(want))
	}
	look(Over(far, cache, 1<<20), "as it was")
	opens := far.opens.Load()
	second := Over(far, cache, 1<<20)
	look(second, "as it was")
	if n := far.opens.Load() - opens; n != 0 {
		t.Errorf("with a copy near it was opened %d times far away", n)
	}
	put(t, far, name, []byte("replaced!")) // by somebody else, and of the same size
	look(Over(far, cache, 1<<20), "replaced!")
	put(t, second, name, []byte("once more"))
	look(second, "once more")
	is(t, Over(far, cache, 1<<20), name, []byte("once more")) // without a listing
}

// TestClockBehind: where the far clock is behind, what was put just now looks old. It may be replaced within the same
// second all the same, so no copy of it is kept until something else was put well after it.
func TestClockBehind(t *testing.T) {
	dir, cache := t.TempDir(), t.TempDir()
	in := &telling{Backend: backend.InFolder(dir)}
	far := &backendtest.Skewed{Backend: in, By: -10 * time.Minute}
	const name = "twins/kiosk/1.twin"
	second := time.Now().Truncate(time.Second)
	was := func(name, content string, at time.Time) {
		t.Helper()
		put(t, far, name, []byte(content))
		if err := os.Chtimes(filepath.Join(dir, name), at, at); err != nil {
			t.Fatal(err)
		}
	}
	look := func(want string) {
		t.Helper()
		b := Over(far, cache, 1<<20)
		if _, err := b.List(t.Context(), "twins/kiosk"); err != nil {
			t.Fatal(err)
		}
		is(t, b, name, []byte(want))
	}
	was(name, "as it was", second)
	look("as it was")
	was(name, "replaced!", second)
	look("replaced!")
	was("twins/kiosk/2.twin", "another", second.Add(2*settled))
	look("replaced!")
	opens := in.opens.Load()
	look("replaced!")
	if n := in.opens.Load() - opens; n != 0 {
		t.Errorf("it was opened %d times far away although nothing can be put in its second any more", n)
	}
}

// TestListsAreShared: those who list at once get one answer; after a change from here, or for locks, it is asked anew.
func TestListsAreShared(t *testing.T) {
	far := &telling{Backend: backend.InFolder(t.TempDir())}
	b := Over(far, t.TempDir(), 1<<20)
	put(t, b, "twins/kiosk/1.twin", []byte("x"))
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			if names, err := b.List(t.Context(), "twins"); err != nil || len(names) != 1 {
				t.Errorf("%q, %v", names, err)
			}
		})
	}
	all.Wait()
	if n := far.lists.Load(); n != 1 {
		t.Errorf("listed %d times", n)
	}
	for i := range 3 {
		put(t, b, fmt.Sprintf("twins/desk%d/1.twin", i), []byte("x"))
		if names, err := b.List(t.Context(), "twins"); err != nil || len(names) != 2+i {
			t.Errorf("after a change: %q, %v", names, err)
		}
	}
	put(t, far, "locks/1", nil)
	put(t, far, "locks/2", nil)
	if names, err := b.List(t.Context(), "locks"); err != nil || len(names) != 2 {
		t.Errorf("locks: %q, %v", names, err)
	}
}

// TestListedAlong: over a connection the folders that dates are read from are listed together.
func TestListedAlong(t *testing.T) {
	far := &connected{telling: telling{Backend: backend.InFolder(t.TempDir())}, after: "marks",
		asked: make(chan struct{})}
	b := Over(far, t.TempDir(), 1<<20)
	defer b.Close()
	if _, err := b.List(t.Context(), "twins"); err != nil {
		t.Fatal(err)
	}
	select {
	case <-far.asked:
	case <-time.After(time.Minute):
		t.Error("nobody asks for the marks")
	}
}

// TestRoom: copies that were used longest ago make room for others.
func TestRoom(t *testing.T) {
	far := &telling{Backend: backend.InFolder(t.TempDir())}
	cache := t.TempDir()
	b := Over(far, cache, 100_000)
	for i := range 30 {
		name := fmt.Sprintf("proofs/1/%02d.proof", i)
		put(t, b, name, make([]byte, 10_000))
		if _, err := b.List(t.Context(), "proofs/1"); err != nil {
			t.Fatal(err)
		}
		is(t, b, name, make([]byte, 10_000))
	}
	if total := (&copies{dir: cache}).clean(1 << 40); total > 120_000 || total < 20_000 {
		t.Errorf("copies take %d bytes", total)
	}
}
