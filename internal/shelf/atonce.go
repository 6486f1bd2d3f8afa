package shelf

import (
	"context"
	"sync"
	"sync/atomic"

	"twinshelf/internal/store/backend"
)

// atOnce does something for each of n numbers, as many at once as the backend takes well.
func (s *Shelf) atOnce(n int, do func(i int)) {
	var next atomic.Int64
	var all sync.WaitGroup
	for range min(backend.AtOnce(s.Backend()), n) {
		all.Go(func() {
			for i := next.Add(1) - 1; i < int64(n); i = next.Add(1) - 1 {
				do(int(i))
			}
		})
	}
	all.Wait()
}

// Proved are the proofs of a twin.
type Proved struct {
	Proofs   []*Proof // newest first
	Problems []error  // those that can't be read
}

// ProofsOf gives the proofs of twins, in their order.
func (s *Shelf) ProofsOf(ctx context.Context, ids []string) []Proved {
	out := make([]Proved, len(ids))
	// Most twins of a large shelf have none: one listing says which.
	have := map[string]bool{}
	folders, err := s.Backend().List(ctx, "proofs")
	for _, f := range folders {
		have[f] = true
	}
	s.atOnce(len(ids), func(i int) {
		if err != nil || have[ids[i]] {
			out[i].Proofs, out[i].Problems = s.Proofs(ctx, ids[i])
		}
	})
	return out
}

// IDsOf are the IDs of twins, in their order.
func IDsOf(twins []*Twin) []string {
	out := make([]string, len(twins))
	for i, t := range twins {
		out[i] = t.ID
	}
	return out
}
