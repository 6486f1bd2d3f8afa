package backendtest

import (
	"context"
	"errors"
	"time"

	"twinshelf/internal/store/backend"
)

// Skewed is a backend whose clock is another one than that of this machine.
type Skewed struct {
	backend.Backend
	// By is how much further it is.
	By time.Duration
}

func (s *Skewed) there(i backend.Info) backend.Info {
	i.Changed = i.Changed.Add(s.By)
	return i
}

// Stat is that of the backend.
func (s *Skewed) Stat(ctx context.Context, name string) (backend.Info, error) {
	i, err := s.Backend.Stat(ctx, name)
	return s.there(i), err
}

// Entries is that of the backend.
func (s *Skewed) Entries(ctx context.Context, folder string) ([]backend.Entry, error) {
	l, tells := s.Backend.(backend.Lister)
	if !tells {
		return nil, errors.ErrUnsupported
	}
	all, err := l.Entries(ctx, folder)
	out := make([]backend.Entry, len(all))
	for i, e := range all {
		e.Info = s.there(e.Info)
		out[i] = e
	}
	return out, err
}

// Sweep is that of the backend.
func (s *Skewed) Sweep(ctx context.Context, abandoned func(label string, changed time.Time) bool) error {
	return s.Backend.Sweep(ctx, func(label string, changed time.Time) bool {
		return abandoned(label, changed.Add(s.By))
	})
}
