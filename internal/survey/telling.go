package survey

import (
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// headOfPart is how much of the beginning of a part is telling, in bytes: super blocks, allocation tables and the like.
const headOfPart = 256 << 10

// Telling are the places in use that change with most of what is written to an area, in bytes of the disk: its
// beginning, and what its volume names. That they are as they were proves nothing of the rest.
func (a *Area) Telling() (span.Set, error) {
	places := span.Of(span.At(0, headOfPart))
	if v, stirs := a.Content.Volume.(fsys.Stirring); stirs {
		for _, sp := range v.Stirs() {
			places.Add(sp)
		}
	}
	end := places.Bounds().End
	var out span.Set
	for used, err := range a.Content.Spans() {
		if err != nil || used.Start >= end {
			return out, err
		}
		for sp := range places.Clip(used).All() {
			out.Add(sp.Shift(a.Span.Start))
		}
	}
	return out, nil
}
