package families

import (
	"bytes"
	"context"
	"fmt"

	"twinshelf/internal/container"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

var _ fsys.Interrupted = (*layered)(nil)

// Rest is that of the volume in it that sleeps, or else of one that wasn't shut down.
func (l *layered) Rest() fsys.Rest {
	var out fsys.Rest
	for _, x := range l.inner {
		r, ok := fsys.RestOf(x.volume)
		if ok && (out.State == "" || out.Quiet() && !r.Quiet() || r.Asleep() && !out.Asleep()) {
			out = r
		}
	}
	return out
}

// Cut says what must be kept of the volumes that weren't shut down as after a power cut, and of the others what
// matters.
func (l *layered) Cut(ctx context.Context, all bool) (*fsys.Cut, error) {
	used := l.c.Own(0)
	out := &fsys.Cut{}
	for i := range l.inner {
		x := l.inner[i]
		if x.Map == nil {
			continue // the container counts it as its own
		}
		if r, ok := fsys.RestOf(x.volume); ok && !r.Quiet() {
			c := x.content
			if all {
				if err := c.KeepAll(ctx); err != nil {
					return nil, fmt.Errorf("%s: %w", x.Name, err)
				}
			}
			if err := c.AsCut(ctx); err != nil {
				return nil, fmt.Errorf("%s: %w", x.Name, err)
			}
			patches, err := x.stored(c.Cut().Patches)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", x.Name, err)
			}
			out.Patches = append(out.Patches, patches...)
			out.Named += c.Cut().Named
			x.content = c
		}
		if !all {
			x.all = x.content
			for _, o := range x.content.Omit {
				out.Omit = append(out.Omit, x.omission(o))
			}
		}
		if err := x.used(&used); err != nil {
			return nil, err
		}
	}
	out.Used = func(yield func(span.Span, error) bool) {
		for sp := range used.All() {
			if !yield(sp, nil) {
				return
			}
		}
	}
	return out, nil
}

// omission is what is left out of a device, in bytes of the part.
func (x *inner) omission(o fsys.Omission) fsys.Omission {
	here := fsys.Omission{What: x.Name + ": " + o.What, Why: o.Why}
	for sp := range o.Spans.All() {
		x.Map.On(0, sp, &here.Spans)
	}
	here.Bytes = here.Spans.Total()
	return here
}

// stored puts patches of a device where its bytes lie on the part, enciphered as those around them.
func (x *inner) stored(patches []disk.Patch) ([]disk.Patch, error) {
	if x.Sectors == nil {
		return outward(patches, x.Map)
	}
	sealer, can := x.Sectors.(container.Sealer)
	if !can {
		return nil, fmt.Errorf("what lies in %s can't be enciphered", x.Name)
	}
	var open []disk.Patch
	for _, p := range patches {
		b := p.Bytes()
		if b == nil {
			b = make([]byte, p.Zeros)
		}
		open = append(open, disk.Patch{Off: p.Off, Data: b, Why: p.Why})
	}
	out, err := outward(open, x.Map)
	if err != nil {
		return nil, err
	}
	for i := range out {
		b := bytes.Clone(out[i].Data)
		for in := range x.Map.Inner(0, out[i].Span()) {
			if in.Len() != int64(len(b)) {
				return nil, fmt.Errorf("what changes at byte %d of %s lies in several places", in.Start, x.Name)
			}
			if err := sealer.Seal(b, in.Start, out[i].Off); err != nil {
				return nil, err
			}
		}
		out[i].Data = b
	}
	return out, nil
}
