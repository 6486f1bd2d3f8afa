package backendtest

import (
	"errors"
	"io/fs"
	"math/rand/v2"
	"syscall"
	"testing"
	"time"

	"twinshelf/internal/store/backend"
)

func TestStormConforms(t *testing.T) {
	Conform(t, func(*testing.T) func() backend.Backend {
		return NewStorm(rand.New(rand.NewPCG(1, 2))).Process
	})
}

// TestStormInBadWeather passes the suite while reads go stale and end early: a Handle goes on.
func TestHandlesGoOn(t *testing.T) {
	s := NewStorm(rand.New(rand.NewPCG(3, 4)))
	s.Set(Weather{Stale: 9, Short: 3})
	for range 20 {
		put(t, s.Process(), "packs/1", "0123456789")
		failed := 0
		for range 20 {
			if got, err := backend.Get(t.Context(), s.Process(), "packs/1", 100); err != nil {
				failed++
			} else if string(got) != "0123456789" {
				t.Fatalf("read %q", got)
			}
		}
		if failed > 8 { // two stale reads running are an error, one isn't
			t.Fatalf("%d of 20 reads failed", failed)
		}
	}
}

// TestPutThatHappened has a commit report a failure though it happened, and one that really failed.
func TestPutThatHappened(t *testing.T) {
	s := NewStorm(rand.New(rand.NewPCG(5, 6)))
	s.Set(Weather{HappenAt: 1})
	put(t, s.Process(), "twins/a/1", "kept")
	s.Set(Weather{FailAt: 4, Err: syscall.EIO}) // create, write, sync, commit
	err := backend.Put(t.Context(), s.Process(), "twins/a/2", []byte("lost"), backend.Options{}, nil)
	if !errors.Is(err, syscall.EIO) {
		t.Errorf("a put that failed: %v", err)
	}
	if _, err := s.Process().Stat(t.Context(), "twins/a/2"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("it is there: %v", err)
	}
}

// TestListingsLag shows another process's changes late, and one's own at once.
func TestListingsLag(t *testing.T) {
	s := NewStorm(rand.New(rand.NewPCG(7, 8)))
	s.Set(Weather{Lag: 50 * time.Millisecond})
	a, b := s.Process(), s.Process()
	put(t, a, "locks/1", "x")
	for v, want := range map[backend.Backend]int{a: 1, b: 0} {
		if names, err := v.List(t.Context(), "locks"); err != nil || len(names) != want {
			t.Errorf("%q, %v", names, err)
		}
	}
	time.Sleep(b.Lag())
	if names, err := b.List(t.Context(), "locks"); err != nil || len(names) != 1 {
		t.Errorf("later: %q, %v", names, err)
	}
	if err := a.Delete(t.Context(), "locks/1"); err != nil {
		t.Fatal(err)
	}
	if names, err := b.List(t.Context(), "locks"); err != nil || len(names) != 1 {
		t.Errorf("just deleted: %q, %v", names, err)
	}
}
