package survey

import (
	"context"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// AsCut is the survey with parts, by number, kept as if the power had been cut (fsys.Interrupted): it shows the disk
// as the twin will hold it, so that nothing wakes up from it. The given survey stays as it is.
func (s *Survey) AsCut(ctx context.Context, parts map[int]bool) (*Survey, error) {
	out := *s
	out.Areas = slices.Clone(s.Areas)
	var patches []disk.Patch
	for i := range out.Areas {
		a := &out.Areas[i]
		if a.Part == nil || !parts[a.Part.Number] {
			continue
		}
		c := a.Content
		if err := c.AsCut(ctx); err != nil {
			return nil, fmt.Errorf("part %d (%s): %w", a.Part.Number, a.Title(), err)
		}
		a.take(s.Device, c)
		for _, p := range c.Cut().Patches {
			p.Off += a.Span.Start
			patches = append(patches, p)
		}
	}
	if len(patches) == 0 {
		return &out, nil
	}
	var err error
	out.Device, err = disk.Patched(s.Device, patches)
	return &out, err
}

// Halted are the parts that their system didn't shut down and that can be captured as if the power had been cut, by
// number, with how they were left.
func (s *Survey) Halted() map[int]fsys.Rest {
	out := map[int]fsys.Rest{}
	for i := range s.Areas {
		a := &s.Areas[i]
		if a.Part == nil || s.whole {
			continue
		}
		if r, ok := a.Content.Rest(); ok && !r.Quiet() {
			out[a.Part.Number] = r
		}
	}
	return out
}
