package disk

import (
	"errors"
	"io"

	"twinshelf/internal/span"
)

// Patched is a device that reads as another one with patches over it. It knows of holes what that one knows.
func Patched(base Device, patches []Patch) (Device, error) {
	sorted, err := SortPatches(patches, base.Size())
	if err != nil {
		return nil, err
	}
	p := &patched{base, sorted}
	if s, ok := base.(Sparse); ok {
		return &sparsePatched{patched: p, holes: s}, nil
	}
	return p, nil
}

type patched struct {
	Device
	patches []Patch
}

// ReadAt reads from the device, and from the patches where they are.
func (p *patched) ReadAt(b []byte, off int64) (int, error) {
	n, err := p.Device.ReadAt(b, off)
	for _, q := range p.patches {
		q.read(b[:n], off)
	}
	return n, err
}

// sparsePatched is a patched device whose holes are known.
type sparsePatched struct {
	*patched
	holes Sparse
}

// NextData is the next stretch that isn't a hole: of the device, or of a patch.
func (p *sparsePatched) NextData(off int64) (span.Span, error) {
	data, err := p.holes.NextData(off)
	if err != nil && !errors.Is(err, io.EOF) {
		return data, err
	}
	for _, q := range p.patches {
		here := q.Span().Intersect(span.Span{Start: off, End: q.Span().End})
		if q.Kind() == Zero || here.Empty() {
			continue
		}
		if errors.Is(err, io.EOF) || here.Start < data.Start {
			return here, nil
		}
		break
	}
	return data, err
}
