package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/backend/backendtest"
)

// sleep has a store's machine sleep: the clock since boot goes on, and nothing beats meanwhile.
func sleep(s *Store, d time.Duration) {
	was := s.locks.boot
	s.locks.boot = func() time.Duration { return was() + d }
}

// abandon leaves a lock as a killed process does.
func abandon(t testing.TB, l *Lock) {
	t.Helper()
	l.once.Do(func() {
		close(l.stop)
		l.aside.Wait()
	})
	l.holder.PID = 1 << 30
	if err := l.write(); err != nil {
		t.Fatal(err)
	}
}

// TestMachineThatSlept: whoever couldn't write its lock for long publishes nothing any more, though nobody has taken
// the lock away yet.
func TestMachineThatSlept(t *testing.T) {
	s := newStore(t)
	before := stored(t, s, blocks(3, "before"))
	for what, work := range map[string]func(c *Session) error{
		"a capture": func(c *Session) error {
			published := false
			err := c.Commit(t.Context(), func(context.Context, *Lock) error {
				published = true
				return nil
			}, func(context.Context) error { return nil })
			if published {
				t.Error("it published")
			}
			return err
		},
		"blocks alone": func(c *Session) error { return c.Finish(t.Context(), nil) },
		"a note": func(c *Session) error {
			defer c.Abort(t.Context())
			return s.PutNote(t.Context(), c.lock, RulesFile, map[string]int{})
		},
		"a compaction": func(c *Session) error {
			defer c.Abort(t.Context())
			m := s.Marking()
			id, _ := onlyPack(t, reopen(t, s))
			return s.Compact(t.Context(), c.lock, m, Compaction{Remove: []string{id}}, nil)
		},
		"a head": func(c *Session) error {
			defer c.Abort(t.Context())
			return s.MendHead(t.Context(), c.lock)
		},
	} {
		c, err := s.Begin(t.Context(), "kiosk")
		if err != nil {
			t.Fatal(err)
		}
		put(t, c, blocks(3, what))
		sleep(s, doubtedAfter+time.Second)
		if err := work(c); !errors.Is(err, ErrLockLost) {
			t.Errorf("%s after sleeping: %v", what, err)
		}
		has(t, reopen(t, s), before, blocks(3, "before"))
	}
	if names, err := s.b.List(t.Context(), backend.LockFolder); err != nil || len(names) > 0 {
		t.Errorf("locks are left: %q %v", names, err)
	}
}

// TestSleepBetweenTheSteps: a machine that sleeps after what it published takes that back.
func TestSleepBetweenTheSteps(t *testing.T) {
	s := newStore(t)
	c, err := s.Begin(t.Context(), "kiosk")
	if err != nil {
		t.Fatal(err)
	}
	put(t, c, blocks(3, "a"))
	undone := false
	err = c.Commit(t.Context(), func(ctx context.Context, l *Lock) error {
		err := s.PutNote(ctx, l, RulesFile, map[string]int{})
		sleep(s, time.Hour)
		return err
	}, func(ctx context.Context) error {
		undone = true
		return s.DeleteKept(ctx, RulesFile)
	})
	if !errors.Is(err, ErrLockLost) || !undone {
		t.Errorf("undone %v: %v", undone, err)
	}
}

// TestShortSleep harms nothing.
func TestShortSleep(t *testing.T) {
	s := newStore(t)
	l, err := s.Exclusive(t.Context(), "x")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Release()
	sleep(s, doubtedAfter/2)
	if err := s.PutNote(t.Context(), l, RulesFile, map[string]int{}); err != nil {
		t.Error(err)
	}
}

func TestStaleLocks(t *testing.T) {
	s := newStore(t)
	file := func(id string) string { return filepath.Join(s.Place(), lockPath(id)) }
	a, err := s.Begin(t.Context(), "kiosk")
	if err != nil {
		t.Fatal(err)
	}
	put(t, a, blocks(5, "a"))
	abandon(t, a.lock)
	if h, err := s.Holders(t.Context()); err != nil || len(h) != 0 {
		t.Errorf("a dead process holds the store: %v %v", h, err)
	}
	b, err := s.Begin(t.Context(), "kiosk")
	if err != nil {
		t.Fatal(err)
	}
	if err := a.lock.Held(t.Context()); !errors.Is(err, ErrLockLost) {
		t.Errorf("the lock of the dead one: %v", err)
	}
	if err := a.Finish(t.Context(), nil); !errors.Is(err, ErrLockLost) {
		t.Errorf("a session went on without its lock: %v", err)
	}
	b.Abort(t.Context())
	// A lock of another machine is stale when it isn't written any more.
	c, err := s.Begin(t.Context(), "kiosk")
	if err != nil {
		t.Fatal(err)
	}
	c.lock.holder.Host = "purser"
	if err := c.lock.write(); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Begin(t.Context(), "kiosk"); !errors.Is(err, ErrBusy) ||
		!strings.Contains(err.Error(), "on purser") {
		t.Errorf("%v", err)
	}
	old := time.Now().Add(-time.Hour)
	if err := os.Chtimes(file(c.lock.holder.ID), old, old); err != nil {
		t.Fatal(err)
	}
	d, err := s.Begin(t.Context(), "kiosk")
	if err != nil {
		t.Fatal(err)
	}
	d.Abort(t.Context())
	// One that can't be read counts until it is old.
	strange := file("0011223344556677")
	if err := os.WriteFile(strange, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Exclusive(t.Context(), "x"); !errors.Is(err, ErrBusy) {
		t.Errorf("%v", err)
	}
	if err := os.Chtimes(strange, old, old); err != nil {
		t.Fatal(err)
	}
	l, err := s.Exclusive(t.Context(), "x")
	if err != nil {
		t.Fatal(err)
	}
	l.Release()
	l.Release()
}

// TestUnfinishedPacksAreNobodysYet: what a running session has written isn't counted on by another one, for it may be
// taken back.
func TestUnfinishedPacksAreNobodysYet(t *testing.T) {
	s := newStore(t)
	a, err := s.Begin(t.Context(), "kiosk")
	if err != nil {
		t.Fatal(err)
	}
	all := blocks(12, "a")
	put(t, a, all)
	if err := a.settle(t.Context()); err != nil { // its packs are on the medium
		t.Fatal(err)
	}
	other := reopen(t, s)
	b, err := other.Begin(t.Context(), "ticket desk")
	if err != nil {
		t.Fatal(err)
	}
	names := put(t, b, all)
	a.Abort(t.Context())
	if err := b.Finish(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	has(t, reopen(t, s), names, all)
}

// TestClocksApart: it doesn't matter how far the clock of the shelf's folder is from that of this machine: what another
// machine is writing isn't counted on, its lock holds, and once it wasn't written for long it is cleared away.
func TestClocksApart(t *testing.T) {
	for _, by := range []time.Duration{-10 * time.Minute, 10 * time.Minute, -3 * time.Hour, 40 * 365 * 24 * time.Hour,
		-40 * 365 * 24 * time.Hour} {
		near := newStore(t)
		b := &backendtest.Skewed{Backend: near.b, By: by}
		s, err := Open(t.Context(), b, nil)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		a, err := s.Begin(t.Context(), "kiosk")
		if err != nil {
			t.Fatal(err)
		}
		a.lock.holder.Host = "purser" // so that nobody can ask whether its process lives
		all := blocks(12, "a")
		put(t, a, all)
		if err := errors.Join(a.settle(t.Context()), a.lock.write()); err != nil {
			t.Fatal(err)
		}
		other, err := Open(t.Context(), b, nil)
		if err != nil {
			t.Fatal(err)
		}
		defer other.Close()
		if live, err := other.Holders(t.Context()); err != nil || len(live) != 1 || live[0].Here() {
			t.Errorf("%v: %v %v", by, live, err)
		}
		if _, err := other.Begin(t.Context(), "kiosk"); !errors.Is(err, ErrBusy) {
			t.Errorf("%v: two captures of one machine: %v", by, err)
		}
		c, err := other.Begin(t.Context(), "ticket desk")
		if err != nil {
			t.Fatal(err)
		}
		names := put(t, c, all)
		a.Abort(t.Context())
		if err := c.Finish(t.Context(), nil); err != nil {
			t.Fatal(err)
		}
		has(t, reopen(t, near), names, all)
		killed, err := s.Begin(t.Context(), "kiosk")
		if err != nil {
			t.Fatal(err)
		}
		killed.lock.holder.Host = "purser"
		abandon(t, killed.lock)
		old := time.Now().Add(-2 * staleAfter)
		lock := filepath.Join(near.b.Place(), backend.LockFolder, killed.lock.holder.ID+".lock")
		if err := os.Chtimes(lock, old, old); err != nil {
			t.Fatal(err)
		}
		again, err := other.Begin(t.Context(), "kiosk")
		if err != nil {
			t.Fatalf("%v: after one that was killed: %v", by, err)
		}
		again.Abort(t.Context())
	}
}

// TestWhatKilledWritersLeft is cleared away by the next one, but for what somebody still writes.
func TestWhatKilledWritersLeft(t *testing.T) {
	s := newStore(t)
	dead := exec.Command("true")
	if err := dead.Run(); err != nil {
		t.Fatal(err)
	}
	mine := processTag() + "-x"
	tmp := filepath.Join(s.Place(), "tmp")
	for _, name := range []string{"0123456789abcdef.index",
		fmt.Sprintf("p%s-%d-5-x.index", hostTag(), dead.Process.Pid),
		"0123456789abcdef-1.index", mine} {
		if err := os.WriteFile(filepath.Join(tmp, name), make([]byte, 1000), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	l, err := s.Exclusive(t.Context(), "x")
	if err != nil {
		t.Fatal(err)
	}
	l.Release()
	left, err := os.ReadDir(tmp)
	if err != nil || len(left) != 1 || left[0].Name() != mine {
		t.Errorf("left in tmp: %v %v", left, err)
	}
}

// TestLabelsTellTheLock: everything that is written under a lock can be told by its ID.
func TestLabelsTellTheLock(t *testing.T) {
	s := newStore(t)
	s.LimitPacks(3000)
	c, err := s.Begin(t.Context(), "kiosk")
	if err != nil {
		t.Fatal(err)
	}
	put(t, c, blocks(20, "a")) // whole packs, and one that is being written
	c.closing.Wait()
	abandon(t, c.lock)
	seen := 0
	if err := s.b.Sweep(t.Context(), func(label string, _ time.Time) bool {
		seen++
		if !strings.HasPrefix(label, c.lock.holder.ID) {
			t.Errorf("%q was left by the session of %s", label, c.lock.holder.ID)
		}
		return false
	}); err != nil || seen == 0 {
		t.Errorf("%d unfinished objects, %v", seen, err)
	}
	if _, err := s.Exclusive(t.Context(), "x"); err != nil {
		t.Fatal(err)
	}
	if left, err := os.ReadDir(filepath.Join(s.Place(), "tmp")); err != nil || len(left) > 0 {
		t.Errorf("left in tmp: %v %v", left, err)
	}
}

// TestListingsThatLag: work that removes by what it doesn't find waits until listings show what others did.
func TestListingsThatLag(t *testing.T) {
	medium := backendtest.NewStorm(rand.New(rand.NewPCG(4, 4)))
	s, err := CreateAt(t.Context(), medium.Process(), New{Name: "Oak", BlockSize: 64 << 10})
	if err != nil {
		t.Fatal(err)
	}
	stored(t, s, blocks(3, "first"))
	medium.Set(backendtest.Weather{Lag: 150 * time.Millisecond})
	other, err := Open(t.Context(), medium.Process(), nil)
	if err != nil {
		t.Fatal(err)
	}
	all := blocks(5, "a")
	names := stored(t, other, all)
	l, err := s.Exclusive(t.Context(), "giving back space")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Release()
	if err := s.Prepare(t.Context(), l); err != nil {
		t.Fatal(err)
	}
	has(t, s, names, all)
	uses, err := s.PackUses(t.Context(), s.Marking())
	if err != nil || len(uses) != 2 {
		t.Errorf("%d packs are seen, %v", len(uses), err)
	}
}

// TestLockOfAnEarlierVersion is read as one.
func TestLockOfAnEarlierVersion(t *testing.T) {
	s := newStore(t)
	h := Holder{ID: "00112233aabbccdd", Host: "purser", PID: 7, What: "a capture", Machine: "kiosk", Since: time.Now()}
	raw, err := json.Marshal(h)
	if err != nil {
		t.Fatal(err)
	}
	if err := backend.Put(t.Context(), s.b, lockPath(h.ID), raw, backend.Options{}, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Begin(t.Context(), "kiosk"); !errors.Is(err, ErrBusy) {
		t.Errorf("%v", err)
	}
	c, err := s.Begin(t.Context(), "ticket desk")
	if err != nil {
		t.Fatal(err)
	}
	c.Abort(t.Context())
}

// TestCancelledReadsMissNothing: a block that isn't read because the work was cancelled is neither missing nor hurt.
func TestCancelledReadsMissNothing(t *testing.T) {
	s := newStore(t)
	all := blocks(3, "a")
	names := stored(t, s, all)
	ctx, stop := context.WithCancel(t.Context())
	stop()
	for _, n := range append(names, Name{1}) {
		if _, err := s.Block(ctx, n, nil); !errors.Is(err, context.Canceled) || IsHurt(err) {
			t.Errorf("%v", err)
		}
	}
	m := s.Marking()
	defer m.Close()
	if _, err := m.Set(ctx, names); !errors.Is(err, context.Canceled) || m.Lost() > 0 {
		t.Errorf("%d lost, %v", m.Lost(), err)
	}
	has(t, s, names, all)
}

// stubborn is a backend that deletes nothing while it is cut off.
type stubborn struct {
	backend.Backend
	cut bool
}

func (s *stubborn) Delete(ctx context.Context, name string) error {
	if s.cut {
		return errors.New("the line is cut")
	}
	return s.Backend.Delete(ctx, name)
}

// TestLockLeft: a lock that couldn't be deleted when its work ended is in nobody's way here afterwards, and goes.
func TestLockLeft(t *testing.T) {
	s := newStore(t)
	b := &stubborn{Backend: s.locks.b}
	s.locks.b = b
	l, err := s.Exclusive(t.Context(), "giving back space")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Exclusive(t.Context(), "another"); !errors.Is(err, ErrBusy) {
		t.Errorf("while it is held: %v", err)
	}
	b.cut = true
	l.Release()
	b.cut = false
	again, err := s.Exclusive(t.Context(), "another")
	if err != nil {
		t.Fatalf("after it was let go of: %v", err)
	}
	if names, err := b.List(t.Context(), backend.LockFolder); err != nil || len(names) != 1 {
		t.Errorf("the locks %v are there, %v", names, err)
	}
	again.Release()
}
