package careful

import (
	"slices"
	"time"

	"twinshelf/internal/span"
)

// cells is into how many stretches a drive is divided for its rates.
const cells = 512

// Rates are how fast a drive was read, stretch by stretch.
type Rates struct {
	size  int64
	bytes [cells]int64
	took  [cells]time.Duration
}

// NewRates are those of a drive of size bytes that nobody has read yet.
func NewRates(size int64) *Rates { return &Rates{size: size} }

// Add notes a read that went well.
func (r *Rates) Add(sp span.Span, took time.Duration) {
	if sp.Empty() || r.size <= 0 {
		return
	}
	i := min(cells-1, max(0, int(float64(sp.Start)/float64(r.size)*cells)))
	r.bytes[i] += sp.Len()
	r.took[i] += took
}

const (
	// slowShare of the median rate is slow.
	slowShare = 10
	// enough is how much of a stretch must have been read before it can be called slow, in bytes.
	enough = 4 << 20
)

// Slow are the stretches that were read at less than a tenth of the rate of most: a drive often reads long at sectors
// that will be bad tomorrow.
func (r *Rates) Slow() span.Set {
	var all []float64
	rate := func(i int) float64 { return float64(r.bytes[i]) / max(1e-9, r.took[i].Seconds()) }
	for i := range cells {
		if r.bytes[i] >= enough {
			all = append(all, rate(i))
		}
	}
	var out span.Set
	if len(all) < 3 {
		return out
	}
	slices.Sort(all)
	middle := all[len(all)/2]
	for i := range cells {
		if r.bytes[i] >= enough && rate(i) < middle/slowShare {
			out.Add(span.Span{Start: int64(float64(i) / cells * float64(r.size)),
				End: int64(float64(i+1) / cells * float64(r.size))})
		}
	}
	return out
}
