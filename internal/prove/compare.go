package prove

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/rehearse"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

const (
	// compareStep is how exactly a difference is placed, in bytes.
	compareStep = 4 << 10
	// comparedAtOnce is how much of what was planned is put together at a time, in bytes: many targets may be compared
	// at the same time.
	comparedAtOnce = 256 << 10
)

// comparison compares a target with what was planned for it.
type comparison struct {
	ctx     context.Context
	planned *rehearse.Planned
	target  disk.Device
	used    *used
}

// piece reads a piece of the target into buf's memory and compares it; a hole that should hold zeros needs no reading.
// A block that differs is looked at once more: bytes of it that nobody uses, which a twin keeps as zeros, don't count.
func (c *comparison) piece(p disk.Piece, buf []byte) ([]byte, verdict) {
	n := int(p.Len())
	if p.Kind == disk.Zero {
		if sparse, ok := c.target.(disk.Sparse); ok {
			if data, err := sparse.NextData(p.Start); err != nil || data.Start >= p.End {
				return buf, verdict{skipped: true}
			}
		}
	}
	if cap(buf) < n {
		buf = make([]byte, n)
	}
	buf = buf[:n]
	if err := disk.ReadFull(c.target, buf, p.Start); err != nil {
		return buf, verdict{bad: err.Error()}
	}
	equal, err := c.equal(p, buf)
	if err != nil {
		return buf, verdict{bad: err.Error()}
	}
	if equal {
		return buf, verdict{}
	}
	return buf, c.differs(p, buf)
}

// equal says whether a piece of the target holds just what was planned.
func (c *comparison) equal(p disk.Piece, have []byte) (bool, error) {
	if p.Kind == disk.Zero {
		return disk.IsZero(have), nil
	}
	if equal, known := c.planned.Named(p, have); known {
		return equal, nil
	}
	want := make([]byte, min(p.Len(), comparedAtOnce))
	for sp := range disk.Chunks(p.Span, comparedAtOnce) {
		b := want[:sp.Len()]
		if err := disk.ReadFull(c.planned, b, sp.Start); err != nil {
			return false, err
		}
		if !bytes.Equal(b, have[sp.Start-p.Start:sp.End-p.Start]) {
			return false, nil
		}
	}
	return true, nil
}

// differs looks at a piece that isn't just what was planned.
func (c *comparison) differs(p disk.Piece, have []byte) verdict {
	want := make([]byte, p.Len())
	if p.Kind == disk.Data {
		b, err := c.planned.Read(p, want)
		if err != nil {
			return verdict{bad: err.Error()}
		}
		want = b
	}
	matters, err := c.used.in(c.ctx, p.Span)
	if err != nil {
		return verdict{bad: err.Error()}
	}
	where := differing(want, have, p.Start, matters)
	switch {
	case where.Empty():
		return verdict{}
	case p.Kind == disk.Zero:
		return verdict{bad: "there should be zeros", where: where}
	}
	return verdict{bad: fmt.Sprintf("the bytes differ at byte %d", where.Bounds().Start), where: where}
}

// differing is where two pieces that begin at byte base differ, as far as it matters, in steps.
func differing(want, have []byte, base int64, matters span.Set) (out span.Set) {
	for sp := range matters.All() {
		for at := sp.Start; at < sp.End; {
			end := min(sp.End, (at/compareStep+1)*compareStep)
			if !bytes.Equal(want[at-base:end-base], have[at-base:end-base]) {
				out.Add(span.Span{Start: at, End: end})
			}
			at = end
		}
	}
	return out
}

// used knows which bytes of a planned disk matter: of parts that were captured by their maps those that the maps name.
type used struct {
	planned *rehearse.Planned
	regions []usedRegion
}

type usedRegion struct {
	region shelf.Region
	once   sync.Once
	set    span.Set // on the disk
	known  bool
	err    error
}

func newUsed(planned *rehearse.Planned, want *shelf.TwinDisk) *used {
	u := &used{planned: planned, regions: make([]usedRegion, len(want.Regions))}
	for i, r := range want.Regions {
		u.regions[i].region = r
	}
	return u
}

// in is what of a stretch matters; it lies in one region or between them.
func (u *used) in(ctx context.Context, sp span.Span) (span.Set, error) {
	for i := range u.regions {
		r := &u.regions[i]
		if !r.region.Span.Covers(sp) || r.region.Part == 0 || r.region.Whole != "" || !r.region.Captured {
			continue
		}
		r.once.Do(func() { r.read(ctx, u.planned) })
		if r.err != nil || r.known {
			return r.set.Clip(sp), r.err
		}
	}
	return span.Of(sp), nil
}

// read walks the maps of the region's file system once.
func (r *usedRegion) read(ctx context.Context, planned *rehearse.Planned) {
	sp := r.region.Span
	content, err := families.Examine(ctx, disk.Section(planned, sp.Start, sp.Len()), sp.Len(), planned.SectorSize())
	if r.err = err; err != nil || !content.Maps {
		return
	}
	for s, err := range content.Spans() {
		if err != nil {
			r.err = err
			return
		}
		r.set.Add(s.Shift(sp.Start))
	}
	for _, q := range planned.Patches() { // what was written there on purpose matters too
		if sp.Overlaps(q.Span()) {
			r.set.Add(q.Span().Intersect(sp))
		}
	}
	r.known = true
}

// ErrNotARestore means that a target bears no sign of what it is to be compared with.
var ErrNotARestore = errors.New("this isn't a restore of it")

// Resembles says whether a target bears an identity of what was planned: of the table, of a part, or of a file system.
func Resembles(ctx context.Context, planned *rehearse.Planned, target disk.Device) error {
	want, err := identities(ctx, planned)
	if err != nil {
		return err
	}
	have, err := identities(ctx, target)
	if err != nil {
		return err
	}
	for id := range want {
		if have[id] {
			return nil
		}
	}
	if len(want) == 0 {
		return nil // nothing has an identity, so nothing can be told
	}
	return fmt.Errorf("%s: %w: neither its table nor any of its parts or file systems bears an identity of the source",
		disk.Sticker(target.Identity()), ErrNotARestore)
}

func identities(ctx context.Context, d disk.Device) (map[string]bool, error) {
	t, err := table.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	note := func(id string) {
		if id != "" && id != "00000000" {
			out[id] = true
		}
	}
	note(t.ID)
	spans := []span.Span{{End: d.Size()}}
	for _, p := range t.Parts {
		note(p.GUID)
		spans = append(spans, p.Span.Intersect(span.Span{End: d.Size()}))
	}
	for _, sp := range spans {
		if v, err := families.Identify(ctx, disk.Section(d, sp.Start, sp.Len()), sp.Len(),
			d.SectorSize()); err == nil &&
			v != nil {
			note(v.Info().ID)
		}
	}
	return out, nil
}
