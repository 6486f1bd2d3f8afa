package inside

import (
	"context"

	"twinshelf/internal/fsys"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// gapTree is the files of a part of a twin that misses something: what couldn't be read reads as zeros, and contents
// that are hit say so.
type gapTree struct {
	fsys.Tree
	missing span.Set // of the part
}

// withGaps has contents say what of them is missing; a twin that misses nothing of the part keeps its tree.
func withGaps(t fsys.Tree, p *Part) fsys.Tree {
	d, ok := p.Device.(*shelf.Disk)
	if !ok {
		return t
	}
	missing := d.Describe().Missing.Clip(p.Span).Shift(-p.Span.Start)
	if missing.Empty() {
		return t
	}
	return &gapTree{t, missing}
}

func (t *gapTree) Open(it fsys.Item, stream string) (fsys.Contents, error) {
	c, err := t.Tree.Open(it, stream)
	if err != nil {
		return nil, err
	}
	var n int64
	for _, sp := range c.Spans() {
		n += t.missing.Clip(sp).Total()
	}
	if n == 0 {
		return c, nil
	}
	return &gapped{c, n}, nil
}

// gapped are contents with a gap.
type gapped struct {
	fsys.Contents
	gap int64
}

// Plain is where they lie as they are; see fsys.Plain.
func (g *gapped) Plain() []span.Span { return fsys.Plain(g.Contents) }

// Gap is how many bytes are missing; see fsys.GapOf.
func (g *gapped) Gap() int64 { return g.gap }

// mostOpened is how many files of a folder are looked at for gaps.
const mostOpened = 20_000

// GapsAmong says of the files of a folder how many bytes of each couldn't be read when they were captured, by name. It
// costs nothing where the part has no gaps.
func GapsAmong(ctx context.Context, t fsys.Tree, entries []fsys.Entry) map[string]int64 {
	if _, some := t.(*gapTree); !some {
		return nil
	}
	out := map[string]int64{}
	for i, e := range entries {
		if ctx.Err() != nil || i == mostOpened {
			break
		}
		if e.Err != nil || !e.Mode.IsRegular() {
			continue
		}
		if c, err := t.Open(e.Item, ""); err == nil && fsys.GapOf(c) > 0 {
			out[e.Name] = fsys.GapOf(c)
		}
	}
	return out
}

// GapWords say how much of a file is missing; empty for nothing.
func GapWords(n int64) string {
	if n == 0 {
		return ""
	}
	return units.Bytes(n) + " of it couldn't be read: zeros are there"
}
