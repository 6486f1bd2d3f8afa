package keeping

import (
	"cmp"
	"context"
	"slices"
	"time"

	"twinshelf/internal/shelf"
)

// Standing says where a twin stands, of two shelves.
type Standing struct {
	Machine     string    `json:"machine"`
	Taken       time.Time `json:"taken"`
	Twin        string    `json:"twin"`
	Here, There bool
	// Differ says that both have it and that it isn't the same.
	Differ bool `json:"differ,omitempty"`
}

// Compare puts the twins of two shelves side by side, by machine and date. Twins of one ID are the same when they
// describe the same disks with the same used parts; with open shelves also their contents are compared, by name.
func Compare(ctx context.Context, here, there *shelf.Shelf) ([]Standing, []error) {
	a, problems := here.Twins(ctx)
	b, more := there.Twins(ctx)
	var out []Standing
	for _, t := range a {
		s := Standing{Machine: t.Machine, Taken: t.Taken, Twin: t.ID, Here: true}
		if i := slices.IndexFunc(b, func(o *shelf.Twin) bool { return o.ID == t.ID }); i >= 0 {
			s.There = true
			s.Differ = !equalTwins(t, b[i], !here.Sealed() && !there.Sealed())
		}
		out = append(out, s)
	}
	for _, t := range b {
		if !slices.ContainsFunc(a, func(o *shelf.Twin) bool { return o.ID == t.ID }) {
			out = append(out, Standing{Machine: t.Machine, Taken: t.Taken, Twin: t.ID, There: true})
		}
	}
	slices.SortStableFunc(out, func(a, b Standing) int {
		return cmp.Or(cmp.Compare(a.Machine, b.Machine), b.Taken.Compare(a.Taken))
	})
	return out, append(problems, more...)
}

// equalTwins says whether two twins describe the same; names says that nodes of the same bytes have the same names.
func equalTwins(a, b *shelf.Twin, names bool) bool {
	return (!names || a.MapsSum == b.MapsSum) && a.Machine == b.Machine && a.Taken.Equal(b.Taken) && a.Used == b.Used &&
		slices.EqualFunc(a.Disks, b.Disks, func(x, y shelf.TwinDisk) bool {
			return x.Identity == y.Identity && slices.EqualFunc(x.Regions, y.Regions, equalRegions)
		})
}

func equalRegions(r, q shelf.Region) bool {
	return r.Span == q.Span && r.Used == q.Used && r.Captured == q.Captured && r.NodeCount == q.NodeCount
}
