package backendtest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"twinshelf/internal/store/backend"
)

// Conform runs the suite that every backend must pass. medium makes an empty place; what it gives opens that place as
// one more process.
func Conform(t *testing.T, medium func(t *testing.T) func() backend.Backend) {
	for _, c := range []struct {
		name string
		test func(t *testing.T, open func() backend.Backend)
	}{
		{"PutAndGet", putAndGet}, {"NothingBeforeCommit", nothingBeforeCommit}, {"Replace", replace},
		{"IfAbsent", ifAbsent}, {"OnlyOneIfAbsent", onlyOneIfAbsent}, {"Ranges", ranges},
		{"OpenOutlives", openOutlives}, {"List", list}, {"Delete", deleting}, {"Missing", missingObjects},
		{"ReadBackWhileWriting", readBackWhileWriting}, {"Sweep", sweep}, {"Cancelled", cancelled},
		{"ConcurrentReads", concurrentReads}, {"ReadyRefuses", readyRefuses}, {"Clock", clock},
	} {
		t.Run(c.name, func(t *testing.T) { c.test(t, medium(t)) })
	}
}

func put(t *testing.T, b backend.Backend, name, content string) {
	t.Helper()
	if err := backend.Put(t.Context(), b, name, []byte(content), backend.Options{Owner: "test"}, nil); err != nil {
		t.Fatalf("put %s: %v", name, err)
	}
}

func get(t *testing.T, b backend.Backend, name, want string) {
	t.Helper()
	if got, err := backend.Get(t.Context(), b, name, 1<<20); err != nil || string(got) != want {
		t.Errorf("%s holds %q (%v), not %q", name, got, err, want)
	}
}

func putAndGet(t *testing.T, open func() backend.Backend) {
	b := open()
	for name, content := range map[string]string{"head": "x", "empty": "", "twins/a/b.twin": "deep", "packs/1": "one"} {
		put(t, b, name, content)
		get(t, b, name, content)
		get(t, open(), name, content)
		info, err := b.Stat(t.Context(), name)
		if err != nil || info.Size != int64(len(content)) {
			t.Errorf("stat of %s: %+v, %v", name, info, err)
		}
	}
	var size *backend.SizeError
	if _, err := backend.Get(t.Context(), b, "twins/a/b.twin", 3); !errors.As(err, &size) || size.Limit != 3 {
		t.Errorf("an object beyond the limit: %v", err)
	}
}

func nothingBeforeCommit(t *testing.T, open func() backend.Backend) {
	b := open()
	for _, end := range []string{"abort", "crash"} {
		u, err := b.Create(t.Context(), "packs/new", backend.Options{Owner: "test"})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := u.Write([]byte("half")); err != nil {
			t.Fatal(err)
		}
		if err := u.Sync(t.Context()); err != nil {
			t.Fatal(err)
		}
		names, err := open().List(t.Context(), "packs")
		if err != nil || len(names) > 0 {
			t.Errorf("before the commit the listing is %q, %v", names, err)
		}
		if _, err := open().Stat(t.Context(), "packs/new"); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("before the commit: %v", err)
		}
		if end == "abort" {
			if err := errors.Join(u.Abort(), u.Abort()); err != nil {
				t.Errorf("abort: %v", err)
			}
		}
	}
	u, err := b.Create(t.Context(), "packs/new", backend.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if err := u.Commit(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := u.Abort(); err != nil {
		t.Errorf("abort after the commit: %v", err)
	}
	if err := u.Commit(t.Context()); err == nil {
		t.Error("committed twice")
	}
	get(t, open(), "packs/new", "")
}

func replace(t *testing.T, open func() backend.Backend) {
	b := open()
	for _, content := range []string{"first and long", "second", ""} {
		put(t, b, "rules.note", content)
		get(t, open(), "rules.note", content)
	}
	fleeting := backend.Options{Owner: "test", Fleeting: true}
	for i := range 3 {
		if err := backend.Put(t.Context(), b, "locks/1", fmt.Append(nil, i), fleeting, nil); err != nil {
			t.Fatal(err)
		}
		get(t, open(), "locks/1", fmt.Sprint(i))
	}
}

func ifAbsent(t *testing.T, open func() backend.Backend) {
	b := open()
	o := backend.Options{Owner: "test", IfAbsent: true}
	if err := backend.Put(t.Context(), b, "head", []byte("mine"), o, nil); err != nil {
		t.Fatal(err)
	}
	if err := backend.Put(t.Context(), open(), "head", []byte("theirs"), o, nil); !errors.Is(err, fs.ErrExist) {
		t.Errorf("put over another: %v", err)
	}
	get(t, open(), "head", "mine")
	if names, err := b.List(t.Context(), ""); err != nil || !slices.Contains(names, "head") {
		t.Errorf("%q, %v", names, err)
	}
}

func onlyOneIfAbsent(t *testing.T, open func() backend.Backend) {
	var won atomic.Int32
	var all sync.WaitGroup
	for i := range 16 {
		b := open()
		all.Go(func() {
			o := backend.Options{Owner: fmt.Sprint("p", i), IfAbsent: true}
			err := backend.Put(t.Context(), b, "twins/a/1.twin", fmt.Append(nil, i), o, nil)
			switch {
			case err == nil:
				won.Add(1)
			case !errors.Is(err, fs.ErrExist):
				t.Errorf("put: %v", err)
			}
		})
	}
	all.Wait()
	if won.Load() != 1 {
		t.Errorf("%d of 16 put the object", won.Load())
	}
}

func ranges(t *testing.T, open func() backend.Backend) {
	b := open()
	content := make([]byte, 100_000)
	for i := range content {
		content[i] = byte(i * 7)
	}
	put(t, b, "packs/1", string(content))
	o, err := open().Open(t.Context(), "packs/1")
	if err != nil {
		t.Fatal(err)
	}
	defer o.Close()
	if o.Size() != int64(len(content)) {
		t.Errorf("its size is %d", o.Size())
	}
	for _, c := range []struct{ off, n, want int }{
		{0, 10, 10}, {99_990, 10, 10}, {99_990, 20, 10}, {100_000, 1, 0}, {200_000, 5, 0}, {5, 0, 0},
		{0, 100_000, 100_000},
	} {
		p := make([]byte, c.n)
		n, err := o.ReadAt(t.Context(), p, int64(c.off))
		if n != c.want || n > 0 && !bytes.Equal(p[:n], content[c.off:][:n]) {
			t.Errorf("%d bytes at %d: %d bytes (%v) or wrong ones", c.n, c.off, n, err)
		}
		if n < c.n && !errors.Is(err, io.EOF) || n == c.n && err != nil && !errors.Is(err, io.EOF) {
			t.Errorf("%d bytes at %d: %v", c.n, c.off, err)
		}
	}
	if _, err := o.ReadAt(t.Context(), make([]byte, 1), -1); err == nil || errors.Is(err, io.EOF) {
		t.Errorf("a byte before the beginning: %v", err)
	}
}

func openOutlives(t *testing.T, open func() backend.Backend) {
	b := open()
	put(t, b, "index/1", "the old one")
	o, err := b.Open(t.Context(), "index/1")
	if err != nil {
		t.Fatal(err)
	}
	put(t, open(), "index/1", "new")
	if err := open().Delete(t.Context(), "index/1"); err != nil {
		t.Fatal(err)
	}
	p := make([]byte, o.Size())
	if n, err := o.ReadAt(t.Context(), p, 0); string(p[:n]) != "the old one" {
		t.Errorf("an open object gives %q, %v", p[:n], err)
	}
	if err := o.Close(); err != nil {
		t.Error(err)
	}
	if _, err := o.ReadAt(t.Context(), p, 0); err == nil {
		t.Error("a closed object can be read")
	}
}

func list(t *testing.T, open func() backend.Backend) {
	b := open()
	for _, n := range []string{"packs/b", "packs/a", "packs/c.d", "twins/x/1", "twins/y/2", "packsandmore"} {
		put(t, b, n, n)
	}
	for folder, want := range map[string]string{"packs": "a b c.d", "twins": "x y", "twins/x": "1", "nothing": "",
		"twins/x/none": ""} {
		names, err := open().List(t.Context(), folder)
		if err != nil || strings.Join(names, " ") != want {
			t.Errorf("%s lists %q, %v", folder, names, err)
		}
	}
	names, err := b.List(t.Context(), "")
	names = slices.DeleteFunc(names, func(n string) bool { return n == "tmp" }) // a folder's own
	if err != nil || strings.Join(names, " ") != "packs packsandmore twins" {
		t.Errorf("the uppermost folder lists %q, %v", names, err)
	}
}

func deleting(t *testing.T, open func() backend.Backend) {
	b := open()
	put(t, b, "marks/1", "x")
	if err := open().Delete(t.Context(), "marks/1"); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(b.Settle(t.Context(), "marks"), b.Settle(t.Context(), "none"),
		b.Settle(t.Context(), "")); err != nil {
		t.Errorf("settle: %v", err)
	}
	if _, err := b.Stat(t.Context(), "marks/1"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("it is still there: %v", err)
	}
	if err := b.Delete(t.Context(), "marks/1"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("deleted twice: %v", err)
	}
	put(t, b, "marks/1", "again")
	get(t, open(), "marks/1", "again")
}

func missingObjects(t *testing.T, open func() backend.Backend) {
	b := open()
	_, openErr := b.Open(t.Context(), "packs/none")
	_, statErr := b.Stat(t.Context(), "none")
	_, getErr := backend.Get(t.Context(), b, "none/at/all", 10)
	for _, err := range []error{openErr, statErr, getErr, b.Delete(t.Context(), "none")} {
		if !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("of an object that isn't there: %v", err)
		}
	}
}

func readBackWhileWriting(t *testing.T, open func() backend.Backend) {
	u, err := open().Create(t.Context(), "packs/1", backend.Options{Owner: "test"})
	if err != nil {
		t.Fatal(err)
	}
	defer u.Abort()
	for i := range 100 {
		if _, err := u.Write(fmt.Appendf(nil, "%04d", i)); err != nil {
			t.Fatal(err)
		}
		p := make([]byte, 4)
		at := int64(i / 2)
		if n, err := u.ReadAt(p, 4*at); string(p[:n]) != fmt.Sprintf("%04d", at) {
			t.Fatalf("piece %d reads back as %q, %v", at, p[:n], err)
		}
	}
	if n, err := u.ReadAt(make([]byte, 8), 396); n != 4 || !errors.Is(err, io.EOF) {
		t.Errorf("past what was written: %d, %v", n, err)
	}
}

// sweep has uploads of the dead swept away. A backend may keep what is small to itself until it is committed: then
// there is nothing to sweep.
func sweep(t *testing.T, open func() backend.Backend) {
	sweepUploads(t, open, "half", true)
	sweepUploads(t, open, strings.Repeat("half", 5<<20), false)
}

// abandonDead says that the uploads of "dead" are abandoned, and counts how many it was asked about.
func abandonDead(t *testing.T, seen *int) func(label string, changed time.Time) bool {
	return func(label string, changed time.Time) bool {
		*seen++
		if since := time.Since(changed); since < -time.Hour || since > time.Hour {
			t.Errorf("%s was changed at %v", label, changed)
		}
		return strings.HasPrefix(label, "dead-")
	}
}

func sweepUploads(t *testing.T, open func() backend.Backend, content string, mayKeep bool) {
	t.Helper()
	b := open()
	var all []backend.Upload
	for _, owner := range []string{"dead", "alive"} {
		u, err := open().Create(t.Context(), "packs/"+owner, backend.Options{Owner: owner})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := u.Write([]byte(content)); err != nil {
			t.Fatal(err)
		}
		all = append(all, u)
	}
	seen := 0
	err := b.Sweep(t.Context(), abandonDead(t, &seen))
	if err == nil && seen == 0 && mayKeep {
		for _, u := range all {
			if err := u.Abort(); err != nil {
				t.Error(err)
			}
		}
		return
	}
	if err != nil || seen != 2 {
		t.Fatalf("swept %d: %v", seen, err)
	}
	seen = 0
	if err := b.Sweep(t.Context(), abandonDead(t, &seen)); err != nil || seen != 1 {
		t.Errorf("after sweeping %d are left: %v", seen, err)
	}
	if err := all[0].Commit(t.Context()); err == nil {
		t.Error("what was swept away could be committed")
	}
	if err := all[1].Commit(t.Context()); err != nil {
		t.Errorf("what was left could not be committed: %v", err)
	}
	got, err := backend.Get(t.Context(), open(), "packs/alive", int64(len(content)))
	if err != nil || string(got) != content {
		t.Errorf("it holds %d bytes (%v), not %d", len(got), err, len(content))
	}
}

func cancelled(t *testing.T, open func() backend.Backend) {
	b := open()
	put(t, b, "head", "x")
	u, err := b.Create(t.Context(), "packs/1", backend.Options{Owner: "test"})
	if err != nil {
		t.Fatal(err)
	}
	o, err := b.Open(t.Context(), "head")
	if err != nil {
		t.Fatal(err)
	}
	defer o.Close()
	ctx, stop := context.WithCancel(t.Context())
	stop()
	_, createErr := b.Create(ctx, "new", backend.Options{})
	_, openErr := b.Open(ctx, "head")
	_, statErr := b.Stat(ctx, "head")
	_, listErr := b.List(ctx, "")
	_, readErr := o.ReadAt(ctx, make([]byte, 1), 0)
	_, freeErr := b.Free(ctx)
	for what, err := range map[string]error{"create": createErr, "open": openErr, "stat": statErr, "list": listErr,
		"read": readErr, "free": freeErr, "delete": b.Delete(ctx, "head"), "settle": b.Settle(ctx, ""),
		"sync": u.Sync(ctx), "commit": u.Commit(ctx), "sweep": b.Sweep(ctx, nil)} {
		if !errors.Is(err, context.Canceled) {
			t.Errorf("%s after the cancelling: %v", what, err)
		}
	}
	get(t, b, "head", "x")
	if err := u.Abort(); err != nil {
		t.Error(err)
	}
}

func concurrentReads(t *testing.T, open func() backend.Backend) {
	b := open()
	content := bytes.Repeat([]byte("0123456789abcdef"), 4096)
	put(t, b, "packs/1", string(content))
	h, err := backend.Open(t.Context(), b, "packs/1")
	if err != nil {
		t.Fatal(err)
	}
	defer h.Close()
	var all sync.WaitGroup
	for g := range 8 {
		all.Go(func() {
			p := make([]byte, 1000)
			for i := range 50 {
				off := int64((g*7919 + i*613) % (len(content) - len(p)))
				if n, err := h.ReadAt(t.Context(), p, off); n < len(p) || !bytes.Equal(p, content[off:][:len(p)]) {
					t.Errorf("at %d: %d bytes, %v", off, n, err)
					return
				}
			}
		})
	}
	all.Wait()
}

func readyRefuses(t *testing.T, open func() backend.Backend) {
	b := open()
	lost := errors.New("the lock was lost")
	err := backend.Put(t.Context(), b, "twins/a/1", []byte("x"), backend.Options{Owner: "test"},
		func(context.Context) error { return lost })
	if !errors.Is(err, lost) {
		t.Errorf("put: %v", err)
	}
	if _, err := b.Stat(t.Context(), "twins/a/1"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("it is there: %v", err)
	}
	if err := b.Sweep(t.Context(), func(label string, _ time.Time) bool {
		t.Errorf("%s was left behind", label)
		return true
	}); err != nil {
		t.Error(err)
	}
}

func clock(t *testing.T, open func() backend.Backend) {
	b := open()
	put(t, b, "locks/1", "a")
	first, err := b.Stat(t.Context(), "locks/1")
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(20*time.Millisecond + backend.Tick(b))
	put(t, b, "locks/2", "b")
	put(t, b, "locks/1", "again")
	second, err := b.Stat(t.Context(), "locks/2")
	if err != nil {
		t.Fatal(err)
	}
	again, err := b.Stat(t.Context(), "locks/1")
	if err != nil || !second.Changed.After(first.Changed) || again.Changed.Before(second.Changed) {
		t.Errorf("put at %v, then %v, then %v (%v)", first.Changed, second.Changed, again.Changed, err)
	}
}
