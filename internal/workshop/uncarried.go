package workshop

import (
	"path/filepath"
	"slices"

	"twinshelf/internal/routine"
)

// Uncarried names the shelves to which routines that took a twin carry, and that didn't hold it when they were open
// here last: its only copy may be the one here.
func Uncarried(list []*routine.Standing, known []KnownShelf, twin string) (to []string) {
	for _, s := range list {
		if !slices.ContainsFunc(s.History, func(e routine.Entry) bool { return e.Twin == twin }) {
			continue
		}
		for _, step := range s.Steps {
			if step.Action == routine.Carry && !slices.Contains(to, step.To) && !holds(known, step.To, twin) {
				to = append(to, step.To)
			}
		}
	}
	return to
}

// holds says whether a shelf, by its name or where it lies, is known to hold a twin.
func holds(known []KnownShelf, ref, twin string) bool {
	return slices.ContainsFunc(known, func(k KnownShelf) bool {
		return (k.Name == ref || k.Path == ref || k.Path == filepath.Clean(ref)) && slices.Contains(k.Holds, twin)
	})
}
