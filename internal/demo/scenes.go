package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// largest finds the file of which most was written in the largest part of a stand-in: where that lies on the disk.
func largest(ctx context.Context, f *os.File, d stand) ([]span.Span, error) {
	p := d.parts[0]
	for _, q := range d.parts {
		if q.Span.Len() > p.Span.Len() {
			p = q
		}
	}
	v, err := families.Identify(ctx, io.NewSectionReader(f, p.Span.Start, p.Span.Len()), p.Span.Len(), 512)
	if err != nil {
		return nil, err
	}
	t, err := fsys.TreeOf(v)
	if err != nil {
		return nil, err
	}
	var most int64
	var out []span.Span
	err = everyFile(t, func(_ string, it fsys.Item) error {
		c, err := t.Open(it, "")
		if err != nil || c.Data().Total() <= most {
			return err
		}
		most, out = c.Data().Total(), nil
		for _, sp := range c.Spans() {
			out = append(out, sp.Shift(p.Span.Start))
		}
		return nil
	})
	if err == nil && out == nil {
		err = errors.New("there is no file on it")
	}
	return out, err
}

// hurt makes some places of the largest file of a stand-in unreadable, as on a drive that is failing.
func hurt(ctx context.Context, f *os.File, path string, d stand) error {
	spans, err := largest(ctx, f, d)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	r := rand.New(rand.NewPCG(24, 11))
	var bad span.Set
	noise := make([]byte, 64<<10)
	for range 9 {
		sp := spans[r.IntN(len(spans))]
		at := sp.Start + r.Int64N(max(1, sp.Len()-int64(len(noise))))/4096*4096
		for i := range noise {
			noise[i] = byte(r.Uint32())
		}
		if _, err := f.WriteAt(noise, at); err != nil { // what was never written isn't read
			return err
		}
		bad.Add(span.At(at, 4096*int64(1+r.IntN(12))))
	}
	l := labelOf(d)
	l.Unreadable = bad
	l.Faults = &disk.Faults{BadSeconds: 0.003, Slow: span.Of(span.At(spans[0].Start, 32<<20)), SlowRate: 60_000_000}
	return writeLabel(path, l)
}

// weigh rewrites some of what the weighbridge weighed, in place: more in summer, when the island is full.
func (b Bench) weigh(ctx context.Context, d stand, date int) error {
	f, err := os.OpenFile(filepath.Join(b.Disks, d.file), os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	p := d.parts[0]
	v, err := families.Identify(ctx, io.NewSectionReader(f, p.Span.Start, p.Span.Len()), p.Span.Len(), 512)
	if err != nil {
		return err
	}
	t, err := fsys.TreeOf(v)
	if err != nil {
		return err
	}
	it, err := fsys.Find(t, "WEIGHTS.CSV")
	if err != nil {
		return err
	}
	c, err := t.Open(it, "")
	if err != nil {
		return err
	}
	spans := c.Spans()
	r := rand.New(rand.NewPCG(uint64(date), 60))
	n := 1 + r.IntN(3)
	if date == 0 {
		n = 7
	}
	for range n {
		at := r.Int64N(max(1, spans[0].Len()-units.MiB))
		text := weights(r, 3000+r.IntN(9000))
		if _, err := f.WriteAt(text, p.Span.Start+spans[0].Start+at/units.MiB*units.MiB); err != nil {
			return err
		}
	}
	return nil
}

// weights are lines of what was weighed.
func weights(r *rand.Rand, lines int) []byte {
	var s strings.Builder
	for range lines {
		fmt.Fprintf(&s, "%d;L-%02d;%s\n", 900+r.IntN(23_000), r.IntN(97), []string{"in", "out"}[r.IntN(2)])
	}
	return []byte(s.String())
}
