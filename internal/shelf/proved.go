package shelf

import (
	"context"

	"twinshelf/internal/store/backend"
)

// Proved are the proofs of a twin.
type Proved struct {
	Proofs   []*Proof // newest first
	Problems []error  // those that can't be read
}

// ProofsOf gives the proofs of twins, in their order.
func ProofsOf(ctx context.Context, s *Shelf, ids []string) []Proved {
	out := make([]Proved, len(ids))
	// Most twins of a large shelf have none: one listing says which.
	have := map[string]bool{}
	folders, err := s.Backend().List(ctx, "proofs")
	for _, f := range folders {
		have[f] = true
	}
	backend.Each(s.Backend(), len(ids), func(i int) {
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
