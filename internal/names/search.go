package names

import (
	"cmp"
	"context"
	"runtime"
	"slices"
	"sync"
)

// Hit is an entry that a search found, in one or more of the indexes that were searched.
type Hit struct {
	Path string
	Kind Kind
	In   []Seen // ascending by index
}

// Seen says in which index, by its number in the search, an entry was found, and what it was there.
type Seen struct {
	Index int
	Entry Entry
}

// Result is what a search found, by path.
type Result struct {
	Hits []Hit
	// More says that there are more hits than were asked for.
	More bool
	// Problems are indexes that couldn't be searched whole, by number.
	Problems map[int]error
}

// place is a chunk of an index.
type place struct{ index, chunk int }

// Search looks through several indexes for at most limit paths. Chunks that indexes share are looked at once. An index
// that is nil is left out.
func Search(ctx context.Context, all []*Index, q Query, limit int) (*Result, error) {
	m, err := q.matcher()
	if err != nil {
		return nil, err
	}
	where := map[string][]place{}
	var order []string
	for i, x := range all {
		if x == nil {
			continue
		}
		for j, c := range x.chunks {
			if _, ok := where[c.names]; !ok {
				order = append(order, c.names)
			}
			where[c.names] = append(where[c.names], place{i, j})
		}
	}
	s := &search{m: m, all: all, limit: limit, found: map[string]*Hit{}, res: &Result{Problems: map[int]error{}},
		rests: map[string]*attrs{}}
	work := make(chan string)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for key := range work {
				s.chunk(ctx, where[key])
			}
		})
	}
	for _, key := range order {
		if ctx.Err() != nil {
			break
		}
		work <- key
	}
	close(work)
	wg.Wait()
	for _, h := range s.found {
		slices.SortFunc(h.In, func(a, b Seen) int { return cmp.Compare(a.Index, b.Index) })
		s.res.Hits = append(s.res.Hits, *h)
	}
	slices.SortFunc(s.res.Hits, func(a, b Hit) int { return compare(a.Path, b.Path) })
	return s.res, ctx.Err()
}

type search struct {
	m     *matcher
	all   []*Index
	limit int

	mu    sync.Mutex
	found map[string]*Hit
	res   *Result
	rests map[string]*attrs // the latest few
}

const keptRests = 256

// chunk looks through one chunk, which stands in several places.
func (s *search) chunk(ctx context.Context, places []place) {
	first := places[0]
	c, err := s.all[first.index].names(ctx, first.chunk)
	if err != nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		for _, p := range places {
			s.res.Problems[p.index] = err
		}
		return
	}
	if !s.m.may(c) {
		return
	}
	type hit struct {
		n    int
		path string
	}
	var hits []hit
	c.paths(func(n int, path string) bool {
		if s.m.matches(path, c.kinds[n]) {
			hits = append(hits, hit{n, path})
		}
		return true
	})
	hits = slices.DeleteFunc(hits, func(h hit) bool { return !s.accept(h.path, Kind(c.kinds[h.n]&kindBits)) })
	if len(hits) == 0 {
		return
	}
	for _, p := range places {
		a, err := s.rest(ctx, s.all[p.index], p.chunk)
		s.mu.Lock()
		for _, h := range hits {
			var e Entry
			if err == nil {
				e, err = a.entry(h.path, c.kinds[h.n], h.n)
			}
			if err != nil {
				s.res.Problems[p.index] = err
				break
			}
			f := s.found[h.path]
			f.In = append(f.In, Seen{p.index, e})
		}
		s.mu.Unlock()
	}
}

// accept makes room for a path, unless there are as many as were asked for.
func (s *search) accept(path string, kind Kind) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.found[path] != nil {
		return true
	}
	if len(s.found) >= s.limit {
		s.res.More = true
		return false
	}
	s.found[path] = &Hit{Path: path, Kind: kind}
	return true
}

// rest decodes the other half of a chunk; dates that share it are looked at one after another.
func (s *search) rest(ctx context.Context, x *Index, i int) (*attrs, error) {
	key := x.chunks[i].rest
	s.mu.Lock()
	a, ok := s.rests[key]
	s.mu.Unlock()
	if ok {
		return a, nil
	}
	a, err := x.attrs(ctx, i)
	if err == nil {
		s.mu.Lock()
		if len(s.rests) >= keptRests {
			clear(s.rests)
		}
		s.rests[key] = a
		s.mu.Unlock()
	}
	return a, err
}
