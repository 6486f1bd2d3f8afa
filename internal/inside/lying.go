package inside

import (
	"context"
	"path"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// mostLying bounds how many stretches are collected.
const mostLying = 1 << 20

// Meant is where files lie that somebody wishes for.
type Meant struct {
	Wish  string
	Files int
	Where span.Set // on the disk
	// More says that there are more than were collected.
	More bool
}

// Lying finds where on a disk files lie: "3:Users/Ann" is a file or a folder with all in it in part 3, "2.3:Users/Ann"
// one on disk 2, "*.ods" are all files of such a name. number is that of the disk in its machine, from 0. Folders that
// can't be read are passed over.
func Lying(ctx context.Context, d disk.Device, number int, wishes []string) ([]Meant, error) {
	parts, err := Parts(ctx, d, number)
	if err != nil {
		return nil, err
	}
	found := make([][]span.Span, len(wishes))
	out := make([]Meant, len(wishes))
	for i, w := range wishes {
		out[i].Wish = w
	}
	for _, p := range parts {
		t, err := p.Tree(ctx)
		if err != nil {
			continue
		}
		if err := lyingIn(ctx, p, t, out, found); err != nil {
			return nil, err
		}
	}
	for i := range out {
		slices.SortFunc(found[i], func(a, b span.Span) int { return int(min(1, max(-1, a.Start-b.Start))) })
		out[i].Where = span.Of(found[i]...)
	}
	return out, nil
}

func lyingIn(ctx context.Context, p *Part, t fsys.Tree, out []Meant, found [][]span.Span) error {
	root, err := t.Root()
	if err != nil {
		return nil
	}
	return fsys.Walk(t, root, ".", func(folder string, _ fsys.Item, entries []fsys.Entry, _ error) error {
		for _, e := range entries {
			if err := ctx.Err(); err != nil {
				return err
			}
			if e.Err != nil || !e.Mode.IsRegular() {
				continue
			}
			for i := range out {
				if !means(ParseWhere(out[i].Wish), p, fsys.Join(folder, e.Name)) {
					continue
				}
				out[i].Files++
				found[i] = append(found[i], extents(t, e.Item, p.Span)...)
				if len(found[i]) > mostLying {
					out[i].More, found[i] = true, found[i][:mostLying]
				}
			}
		}
		return nil
	})
}

// means says whether a wish is for a file.
func means(w Where, p *Part, name string) bool {
	if w.Part > 0 && w.Part != p.Number || w.Disk > 0 && w.Disk != p.Disk+1 {
		return false
	}
	name, wish := strings.ToLower(name), strings.ToLower(w.Path)
	if strings.ContainsAny(wish, "*?[") {
		ok, err := path.Match(wish, path.Base(name))
		return ok && err == nil
	}
	return wish == "." || name == wish || strings.HasPrefix(name, wish+"/")
}

// extents are where a file lies, with its streams; part is where its part lies.
func extents(t fsys.Tree, it fsys.Item, part span.Span) []span.Span {
	streams := []fsys.Stream{{}}
	if more, err := t.More(it); err == nil {
		streams = append(streams, more.Streams...)
	}
	var out []span.Span
	for _, s := range streams {
		c, err := t.Open(it, s.Name)
		if err != nil {
			continue
		}
		for _, sp := range c.Spans() {
			if sp = sp.Shift(part.Start).Intersect(part); !sp.Empty() {
				out = append(out, sp)
			}
		}
	}
	return out
}
