package inside

import (
	"context"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Touched is a file some of whose bytes lie in given stretches of a disk.
type Touched struct {
	Part  int    `json:"part"`
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"` // of it that lie there, as they are stored
	// Secret says that the part is encrypted: its names come into no record, proof or sheet.
	Secret bool `json:"-"`
}

// Name is the file as it may be written down.
func (f *Touched) Name() string {
	if f.Secret {
		return "a file in an encrypted volume"
	}
	return f.Path
}

// Touching is which files stretches of a disk belong to.
type Touching struct {
	Files []Touched `json:"files"`
	// More says that there are more than these.
	More bool `json:"more,omitempty"`
	// Rest are the bytes that belong to no file: folders, maps, free space, and what isn't in any volume that can be
	// read.
	Rest int64 `json:"rest"`
	// Plain is what of the stretches lies in files byte by byte as these are: not packed, not encrypted.
	Plain span.Set `json:"-"`

	plain []span.Span
}

const maxTouched = 1000

// FilesIn names the files that lie in stretches of a disk. It looks at every file of the volumes that these touch.
func FilesIn(ctx context.Context, d disk.Device, where span.Set) (*Touching, error) {
	out := &Touching{Rest: where.Total()}
	if where.Empty() {
		return out, nil
	}
	parts, err := Parts(ctx, d, 0)
	if err != nil {
		return nil, err
	}
	for _, p := range parts {
		here := where.Clip(p.Span).Shift(-p.Span.Start)
		if here.Empty() {
			continue
		}
		t, err := p.Tree(ctx)
		if err != nil {
			continue
		}
		if err := out.in(ctx, p, t, here); err != nil {
			return nil, err
		}
	}
	out.Plain = span.Of(out.plain...).Intersect(where)
	return out, nil
}

func (o *Touching) in(ctx context.Context, p *Part, t fsys.Tree, here span.Set) error {
	root, err := t.Root()
	if err != nil {
		return nil
	}
	seen := map[uint64]bool{} // files with several names
	secret := p.encrypted(ctx)
	return fsys.Walk(t, root, ".", func(folder string, _ fsys.Item, entries []fsys.Entry, _ error) error {
		for _, e := range entries {
			if err := ctx.Err(); err != nil {
				return err
			}
			if e.Err != nil || !e.Mode.IsRegular() || e.Links > 1 && seen[e.ID] {
				continue
			}
			if e.Links > 1 {
				seen[e.ID] = true
			}
			n, plain := bytesIn(t, e.Item, here)
			for _, sp := range plain[:min(len(plain), max(0, mostLying-len(o.plain)))] {
				o.plain = append(o.plain, sp.Shift(p.Span.Start))
			}
			if n == 0 {
				continue
			}
			o.Rest -= min(n, o.Rest)
			if len(o.Files) >= maxTouched {
				o.More = true
				continue
			}
			o.Files = append(o.Files, Touched{p.Number, fsys.Join(folder, e.Name), n, secret})
		}
		return nil
	})
}

// bytesIn is how many bytes of a file, with its streams, lie in some stretches, and where those lie that are there as
// they are.
func bytesIn(t fsys.Tree, it fsys.Item, here span.Set) (n int64, plain []span.Span) {
	streams := []fsys.Stream{{}}
	if more, err := t.More(it); err == nil {
		streams = append(streams, more.Streams...)
	}
	for _, s := range streams {
		c, err := t.Open(it, s.Name)
		if err != nil {
			continue
		}
		for _, sp := range c.Spans() {
			if here.Overlaps(sp) {
				n += here.Clip(sp).Total()
			}
		}
		for _, sp := range fsys.Plain(c) {
			plain = slices.AppendSeq(plain, here.Clip(sp).All())
		}
	}
	return n, plain
}

// Words names the files, at most so many of them.
func (o *Touching) Words(most int) string {
	s := ""
	for i, f := range o.Files {
		if i >= most {
			s += fmt.Sprintf(" and %d more", len(o.Files)-i)
			break
		}
		if i > 0 {
			s += ", "
		}
		s += fmt.Sprintf("%d:%s (%s)", f.Part, f.Name(), units.Bytes(f.Bytes))
	}
	switch {
	case s == "" && o.Rest > 0:
		return "in no file: the file system's own records, folders, or room that nobody uses"
	case o.Rest > 0:
		s += fmt.Sprintf("; %s in no file", units.Bytes(o.Rest))
	}
	return s
}
