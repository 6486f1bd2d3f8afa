package inside

import (
	"twinshelf/internal/fsys"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
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
