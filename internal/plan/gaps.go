package plan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/inside"
	"twinshelf/internal/rehearse"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Gaps says what becomes of places that couldn't be read when the source was captured. The zero Gaps leaves zeros
// there.
type Gaps struct {
	// Text is what stands in gaps of files, over and over. Gaps elsewhere, in folders and file-system records, stay
	// zeros: a text there would be taken for records.
	Text string
	// List puts a file into the root folder of each file system with gaps in its files, which names these.
	List bool
}

const (
	// ListName is the name of the list of files with gaps in a root folder.
	ListName = "GAPS.TXT"
	// mostListed is how long a list gets, in bytes; lessListed where a file system takes no longer file.
	mostListed = 256 << 10
	lessListed = 10 << 10
	listHead   = "Files with gaps"
)

// mark finds the files that places belong to which couldn't be read, and puts the text into these.
func mark(ctx context.Context, p Plan) (Plan, error) {
	p.source = p.Order.Source
	w := p.Order.Wish.Gaps
	if w == (Gaps{}) {
		return p, nil
	}
	if p.Order.Missing.Empty() {
		p.gaps = []string{"nothing of the source is missing: there are no gaps to mark or to list"}
		return p, nil
	}
	hit, err := inside.FilesIn(ctx, p.Order.Source, p.Order.Missing)
	if err != nil {
		return p, err
	}
	p.hit = hit
	if w.Text == "" {
		return p, nil
	}
	if p.source, err = rehearse.Mark(p.Order.Source, hit.Plain, w.Text); err != nil {
		return p, err
	}
	if n := hit.Plain.Total(); n > 0 {
		p.gaps = append(p.gaps,
			fmt.Sprintf("%s of gaps in files are filled with the text %q, repeated", units.Bytes(n), w.Text))
	}
	if rest := p.Order.Missing.Total() - hit.Plain.Total(); rest > 0 {
		p.gaps = append(p.gaps, fmt.Sprintf("%s of gaps elsewhere (folders, file-system records, packed files, free "+
			"room) stay zeros", units.Bytes(rest)))
	}
	return p, nil
}

// list puts the lists of files with gaps into the root folders.
func list(ctx context.Context, p Plan) (Plan, error) {
	if !p.Order.Wish.Gaps.List || p.hit == nil {
		return p, nil
	}
	for _, x := range p.Layout.Parts {
		if x.To.Empty() {
			continue
		}
		for _, h := range p.homes(ctx, x.To) {
			if err := p.listIn(h, x.Part.Number); err != nil {
				return p, err
			}
		}
	}
	return p, ctx.Err()
}

// homes are the file systems in a part of the planned disk.
func (p *Plan) homes(ctx context.Context, at span.Span) []fsys.Home {
	v, err := families.Identify(ctx, disk.Section(p.Disk, at.Start, at.Len()), at.Len(), p.Disk.SectorSize())
	if err != nil {
		return nil
	}
	return fsys.Homes(v, at.Start)
}

// listIn puts the list of a file system's files with gaps into it, and says so, or why not.
func (p *Plan) listIn(h fsys.Home, part int) error {
	var files []inside.Touched
	folder, where := "", h.Where(part)
	if h.Device != "" {
		folder = path.Base(h.Device) + "/"
	}
	for _, f := range p.hit.Files {
		if name, ok := strings.CutPrefix(f.Path, folder); ok && f.Part == part {
			f.Path = name
			files = append(files, f)
		}
	}
	if len(files) == 0 {
		return nil
	}
	patches, err := p.listPatches(h, files)
	var cant *fsys.Cant
	if errors.Is(err, fs.ErrExist) {
		err = &fsys.Cant{Why: "there is a file " + ListName + " already"}
	}
	if errors.As(err, &cant) {
		p.gaps = append(p.gaps, fmt.Sprintf("%s: no list of its %s with gaps is put there: %v", where,
			units.Plural(len(files), "file"), err))
		return nil
	}
	if err != nil {
		return fmt.Errorf("the list of files with gaps in %s: %w", where, err)
	}
	p.gaps = append(p.gaps, fmt.Sprintf("%s: %s in its root folder names its %s with gaps", where, ListName,
		units.Plural(len(files), "file")))
	p.Disk, err = p.Disk.With(patches)
	return err
}

func (p *Plan) listPatches(h fsys.Home, files []inside.Touched) ([]disk.Patch, error) {
	w, ok := h.Volume.(fsys.RootWriter)
	switch {
	case h.Fixed != "" || h.Doubt != "":
		return nil, &fsys.Cant{Why: cmp.Or(h.Fixed, h.Doubt)}
	case !ok:
		return nil, &fsys.Cant{Why: "no file is put into a file system of this kind"}
	}
	patches, err := w.AddToRoot(ListName, p.listText(files, mostListed), p.Order.Made)
	var cant *fsys.Cant
	if errors.As(err, &cant) {
		patches, err = w.AddToRoot(ListName, p.listText(files, lessListed), p.Order.Made)
	}
	if err != nil {
		return nil, err
	}
	return h.OnDisk(patches)
}

// listText names the files, in so many bytes at the most.
func (p *Plan) listText(files []inside.Touched, most int) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\r\n\r\nThe drive that this disk was made from couldn't be read everywhere (captured %s).\r\n"+
		"Of these files so many bytes are missing. ", listHead, units.Moment(p.Order.Made))
	if text := p.Order.Wish.Gaps.Text; text != "" {
		fmt.Fprintf(&b, "In their place stands \"%s\", over and over;\r\nin packed files zeros.\r\n\r\n", text)
	} else {
		fmt.Fprint(&b, "In their place are zeros.\r\n\r\n")
	}
	for i, f := range files {
		line := fmt.Sprintf("%14d  %s\r\n", f.Bytes, f.Path)
		if b.Len()+len(line) > most-40 {
			fmt.Fprintf(&b, "and %d more\r\n", len(files)-i)
			return []byte(b.String())
		}
		b.WriteString(line)
	}
	if p.hit.More {
		b.WriteString("and others\r\n")
	}
	return []byte(b.String())
}

// gapsOf is what a disk that was made of a source shows of the wish for its gaps; plain are its places in files.
func gapsOf(ctx context.Context, o Order, p *Plan, made disk.Device) (Gaps, error) {
	var g Gaps
	if o.Missing.Empty() {
		return g, nil
	}
	hit, err := inside.FilesIn(ctx, o.Source, o.Missing)
	if err != nil {
		return g, err
	}
	for sp := range hit.Plain.All() {
		if at := target(p.Layout.Moves, sp); sp.Len() >= 512 && !at.Empty() {
			b := make([]byte, 512)
			if disk.ReadFull(made, b, at.Start) == nil {
				g.Text = rehearse.MarkIn(b)
			}
			break
		}
	}
	parts, err := inside.Parts(ctx, made, 0)
	if err != nil {
		return g, nil // what can't be looked into shows no list
	}
	for _, part := range parts {
		t, err := part.Tree(ctx)
		if err != nil {
			continue
		}
		it, err := fsys.Find(t, ListName)
		if err != nil || it.Size < int64(len(listHead)) {
			continue
		}
		b := make([]byte, len(listHead))
		c, err := t.Open(it, "")
		g.List = g.List || err == nil && disk.ReadFull(c, b, 0) == nil && string(b) == listHead
	}
	return g, nil
}

// target is where bytes of the source are put; empty where they aren't, or not all in one place.
func target(moves []disk.Move, from span.Span) span.Span {
	for _, m := range moves {
		if m.From.Intersect(from) == from {
			return from.Shift(m.Shift())
		}
	}
	return span.Span{}
}
