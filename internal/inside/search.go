package inside

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/names"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// Found is an item that a search found on the shelf.
type Found struct {
	Machine string     `json:"machine"`
	Disk    int        `json:"disk"` // from 1
	Part    int        `json:"part"`
	Disks   int        `json:"-"`
	Path    string     `json:"path"`
	Kind    names.Kind `json:"-"`
	// At are the dates that have it, newest first.
	At []FoundAt `json:"at"`
	// Of is how many dates of the machine were searched; Gone says that the machine's newest one is known to lack it.
	Of   int  `json:"dates_searched"`
	Gone bool `json:"gone"`
}

// FoundAt is a date and what the item was then.
type FoundAt struct {
	Twin  *shelf.Twin `json:"-"`
	Entry names.Entry `json:"-"`
}

// Label is the place as people write it.
func (f Found) Label() string {
	return (&Part{Disk: f.Disk - 1, Number: f.Part}).Label(f.Path, f.Disks)
}

// Searched is what a search came to.
type Searched struct {
	Found    []Found
	More     bool
	Twins    int
	Problems []string
}

// Search looks for names over all dates of a machine, or of all ("" for machine). Indexes that are missing are made
// first; making hears of each.
func (l *Library) Search(ctx context.Context, q names.Query, machine string, limit int,
	making func(t *shelf.Twin, left int)) (*Searched, error) {
	twins, problems := l.s.Twins(ctx)
	newest, err := knownNewest(ctx, l.s, twins, len(problems) > 0)
	if err != nil {
		return nil, err
	}
	twins = slices.DeleteFunc(twins, func(t *shelf.Twin) bool {
		return machine != "" && !strings.EqualFold(t.Machine, machine)
	})
	out := &Searched{Twins: len(twins)}
	for _, p := range problems {
		out.Problems = append(out.Problems, p.Error())
	}
	var listed []*Listed
	var all []*names.Index
	for i, t := range twins {
		if making != nil && !l.Has(ctx, t) {
			making(t, len(twins)-i)
		}
		parts, err := l.Of(ctx, t)
		if err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			out.Problems = append(out.Problems,
				fmt.Sprintf("%s of %s can't be searched: %v", t.Machine, units.Moment(t.Taken), err))
			newest.forget(t)
			continue
		}
		for _, p := range parts {
			listed, all = append(listed, p), append(all, p.Index)
			if lacks := p.Lacks(); lacks != "" {
				newest.forget(t)
				out.Problems = append(out.Problems,
					fmt.Sprintf("%s of %s, part %d: %s", t.Machine, units.Moment(t.Taken), p.Part, lacks))
			}
		}
	}
	res, err := names.Search(ctx, all, q, limit)
	if err != nil {
		return nil, err
	}
	out.More = res.More
	for i, err := range res.Problems {
		newest.forget(listed[i].Twin)
		out.Problems = append(out.Problems,
			fmt.Sprintf("%s of %s, part %d: %v", listed[i].Twin.Machine, units.Moment(listed[i].Twin.Taken),
				listed[i].Part, err))
	}
	out.Found = grouped(res, listed, twins, newest)
	return out, nil
}

// newestTwins are the newest twins of machines, for those of which they are known.
type newestTwins map[string]*shelf.Twin

// knownNewest finds them among the twins that were read; unread says that some weren't.
func knownNewest(ctx context.Context, s *shelf.Shelf, twins []*shelf.Twin, unread bool) (newestTwins, error) {
	out := newestTwins{}
	for _, t := range twins {
		if n := out[t.Machine]; n == nil || t.Taken.After(n.Taken) {
			out[t.Machine] = t
		}
	}
	strays, err := s.StrayTwins(ctx)
	if err != nil {
		return nil, err
	}
	if !unread && len(strays) == 0 {
		return out, nil
	}
	for machine := range out {
		if s.KnownNewest(ctx, machine, twins) != nil {
			delete(out, machine)
		}
	}
	return out, nil
}

// forget takes out a twin that wasn't searched whole: nothing is known to be gone from it.
func (n newestTwins) forget(t *shelf.Twin) {
	if last := n[t.Machine]; last != nil && last.ID == t.ID {
		delete(n, t.Machine)
	}
}

// grouped puts hits together by machine, part and path.
func grouped(res *names.Result, listed []*Listed, twins []*shelf.Twin, newest newestTwins) []Found {
	dates := map[string]int{}
	for _, t := range twins {
		dates[t.Machine]++
	}
	type group struct{ machine, part, path string }
	at := map[group]int{}
	var out []Found
	for _, h := range res.Hits {
		for _, s := range h.In {
			l := listed[s.Index]
			g := group{l.Twin.Machine, l.Key(), h.Path}
			i, ok := at[g]
			if !ok {
				i = len(out)
				at[g] = i
				out = append(out,
					Found{Machine: l.Twin.Machine, Disk: l.Disk + 1, Part: l.Part, Disks: len(l.Twin.Disks),
						Path: h.Path, Kind: h.Kind, Of: dates[l.Twin.Machine]})
			}
			out[i].At = append(out[i].At, FoundAt{l.Twin, s.Entry})
		}
	}
	for i := range out {
		f := &out[i]
		slices.SortFunc(f.At, func(a, b FoundAt) int { return b.Twin.Taken.Compare(a.Twin.Taken) })
		last := newest[f.Machine]
		f.Gone = last != nil && f.At[0].Twin.ID != last.ID
	}
	slices.SortStableFunc(out, func(a, b Found) int { return cmp.Compare(a.Machine, b.Machine) })
	return out
}
