package capture

import (
	"bytes"
	"context"
	"errors"
	"io"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
)

// samples is how many blocks of a plan are read to see how much of it the shelf has already.
const samples = 48

// Sample reads a few blocks, evenly spread over what is in use, and looks whether the shelf has them, so that the
// estimate of a machine's first capture doesn't count them. It reads nothing for a machine whose earlier twins tell
// more, and for an empty shelf. What can't be read is left out. The error is of the context.
func (p *Plan) Sample(ctx context.Context) error {
	p.there = 0
	if twins, _ := shelf.TwinsOf(ctx, p.Shelf, p.Machine); len(twins) > 0 {
		return nil
	}
	if ids, err := p.Shelf.TwinIDs(ctx); err == nil && len(ids) == 0 {
		return nil
	}
	total := int64(0)
	for _, s := range p.Sources {
		for i := range s.Survey.Areas {
			if p.takesArea(&s, i) {
				total += s.Survey.Areas[i].Content.Used
			}
		}
	}
	block := int64(p.Shelf.Head().BlockSize)
	c := sampler{p: p, block: block, every: max(1, total/block/samples), buf: make([]byte, block)}
	for _, s := range p.Sources {
		for i := range s.Survey.Areas {
			if !p.takesArea(&s, i) {
				continue
			}
			if err := c.area(ctx, &s, i); err != nil {
				return err
			}
		}
	}
	if c.read > 0 {
		p.there = float64(c.known) / float64(c.read)
	}
	return nil
}

func (p *Plan) takesArea(s *Source, i int) bool {
	a := s.Survey.Areas[i]
	return a.Part == nil || !s.LeaveOut[a.Number()]
}

// mostZeros is how many blocks without anything in them are read at the most.
const mostZeros = 4 * samples

// sampler takes every nth block that is in use.
type sampler struct {
	p           *Plan
	block       int64
	every       int64
	seen        int64 // blocks in use
	buf         []byte
	read, known int
	zeros       int         // blocks that were read and hold nothing
	hole        span.Span   // the last one that the device told of
	spans       []span.Span // of the block that is gathered, in bytes of the part
	at          int64       // its number
}

func (c *sampler) area(ctx context.Context, s *Source, i int) error {
	a := &s.Survey.Areas[i]
	c.at, c.spans, c.hole = -1, nil, span.Span{}
	// Maps that can't be read are told elsewhere; here it is only about an estimate.
	_ = eachUsed(ctx, &a.Content, c.block, func(k int64, sp span.Span) {
		if k != c.at {
			c.look(ctx, s, i)
			c.at, c.spans = k, c.spans[:0]
			c.seen++
		}
		if c.seen%c.every == 0 {
			c.spans = append(c.spans, sp)
		}
	})
	c.look(ctx, s, i)
	return ctx.Err()
}

// isHole says whether the device knows that a stretch reads as zeros.
func (c *sampler) isHole(d disk.Device, sp span.Span) bool {
	sparse, ok := d.(disk.Sparse)
	if !ok || c.hole.Covers(sp) {
		return ok
	}
	data, err := sparse.NextData(sp.Start)
	switch {
	case errors.Is(err, io.EOF):
		c.hole = span.Span{Start: sp.Start, End: d.Size()}
	case err == nil:
		c.hole = span.Span{Start: sp.Start, End: data.Start}
	}
	return err == nil && c.hole.Covers(sp) || errors.Is(err, io.EOF)
}

// look reads the block that was gathered, as a capture would, and asks the shelf for it.
func (c *sampler) look(ctx context.Context, s *Source, i int) {
	if len(c.spans) == 0 || c.read >= 2*samples || c.zeros >= mostZeros {
		return
	}
	a := &s.Survey.Areas[i]
	start := c.at * c.block
	b := c.buf[:min(c.block, a.Span.Len()-start)]
	if c.isHole(s.Survey.Device, span.At(a.Span.Start+start, int64(len(b)))) {
		return // it isn't counted as read
	}
	for k := range c.spans {
		c.spans[k] = c.spans[k].Shift(a.Span.Start)
	}
	if readSpans(s.Survey.Device, b, a.Span.Start+start, c.spans) != nil {
		c.buf = make([]byte, len(c.buf)) // a read that hangs may come yet
		return
	}
	if len(bytes.TrimLeft(b, "\x00")) == 0 {
		c.zeros++ // it costs nothing, and says nothing of the rest
		return
	}
	c.read++
	if c.p.Shelf.Has(ctx, b) {
		c.known++
	}
}
