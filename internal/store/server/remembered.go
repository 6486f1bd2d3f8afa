package server

import (
	"context"
	"maps"
	"sync"
)

// remembered keeps what a person answered while a server was opened, so that a connection that breaks comes back
// without asking again. Nothing of it is written down.
type remembered struct {
	asks Asks

	mu      sync.Mutex
	answers map[string]string // by question
}

// asking asks only what wasn't answered before.
func (r *remembered) asking() Asks {
	out := r.asks
	if r.asks.Secret == nil {
		return out
	}
	r.mu.Lock()
	before := maps.Clone(r.answers)
	r.mu.Unlock()
	out.Secret = func(ctx context.Context, question string) (string, error) {
		if a, known := before[question]; known {
			delete(before, question) // asked twice in one go, it was wrong
			return a, nil
		}
		a, err := r.asks.Secret(ctx, question)
		if err == nil {
			r.mu.Lock()
			defer r.mu.Unlock()
			if r.answers == nil {
				r.answers = map[string]string{}
			}
			r.answers[question] = a
		}
		return a, err
	}
	return out
}

// forget forgets everything: it let nobody in.
func (r *remembered) forget() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.answers = nil
}
