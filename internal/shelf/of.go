package shelf

import (
	"context"
	"slices"
	"strings"

	"twinshelf/internal/store/backend"
)

// TwinsOf lists the twins of one machine, newest first, and reads no others where its folder has some; otherwise all
// are looked through, since a name is the same whatever its case. What can't be read is a problem.
func TwinsOf(ctx context.Context, s *Shelf, machine string) (twins []*Twin, problems []error) {
	folder := "twins/" + s.slug(machine)
	names, err := s.Backend().List(ctx, folder)
	if err != nil || len(names) == 0 {
		all, problems := s.Twins(ctx)
		return ofMachine(all, machine), problems
	}
	read, errs := make([]*Twin, len(names)), make([]error, len(names))
	backend.Each(s.Backend(), len(names), func(i int) { read[i], errs[i] = s.readTwin(ctx, folder+"/"+names[i]) })
	for i := range names {
		if errs[i] != nil {
			problems = append(problems, errs[i])
		} else {
			twins = append(twins, read[i])
		}
	}
	slices.SortStableFunc(twins, func(a, b *Twin) int { return b.Taken.Compare(a.Taken) })
	return twins, problems
}

// NewestTwins reads the newest twin of each machine that can be read. What can't be is said where twins are listed.
func NewestTwins(ctx context.Context, s *Shelf) []*Twin {
	files, _ := s.TwinFiles(ctx)
	byFolder := map[string][]string{}
	var folders []string
	for _, f := range files { // oldest first
		folder := backend.Folder(f)
		if byFolder[folder] == nil {
			folders = append(folders, folder)
		}
		byFolder[folder] = append(byFolder[folder], f)
	}
	newest := make([]*Twin, len(folders))
	backend.Each(s.Backend(), len(folders), func(i int) {
		for _, f := range slices.Backward(byFolder[folders[i]]) {
			if t, err := s.readTwin(ctx, f); err == nil {
				newest[i] = t
				return
			}
		}
	})
	newest = slices.DeleteFunc(newest, func(t *Twin) bool { return t == nil })
	slices.SortStableFunc(newest, func(a, b *Twin) int {
		return strings.Compare(strings.ToLower(a.Machine), strings.ToLower(b.Machine))
	})
	return newest
}
