// Package inside reads files off anything that is a disk: attached ones, image files, disks of twins, planned ones. It
// finds the parts, opens their trees, keeps the indexes of names of a shelf, follows an item over its dates, and names
// the files that a stretch of a disk belongs to.
package inside

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
)

// Part is a part of a disk, or a whole disk that is one volume, to be looked into.
type Part struct {
	Disk   int       // of the machine, from 0
	Number int       // in the table; 1 for a whole disk
	Span   span.Span // bytes on the disk
	Title  string
	Kind   string // file system, "" when unknown
	ID     string // of the file system
	// Unclean says why the file system wasn't quiet: what was written last may not show in its folders. Empty when it
	// was.
	Unclean string
	Device  disk.Device

	// others are where a container may lie that the part is a member of.
	others []families.Member

	why string // why there is nothing to look at
	// unsure says that the part was captured by maps which nobody compared with its records.
	unsure bool

	mu     sync.Mutex // guards what follows
	opened bool
	tree   fsys.Tree
	err    error
}

// Parts lists the parts of a disk. number is that of the disk in its machine, from 0.
func Parts(ctx context.Context, d disk.Device, number int) ([]*Part, error) {
	if t, ok := d.(*shelf.Disk); ok {
		return ofTwin(ctx, t, number), nil
	}
	t, err := table.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return nil, err
	}
	parts := t.Parts
	if t.Kind == table.None {
		parts = withoutTable(ctx, d)
	}
	return identified(ctx, d, number, parts, t.Kind == table.None), nil
}

// identified looks what parts hold; one that no table names is called by its place.
func identified(ctx context.Context, d disk.Device, number int, parts []table.Part, lost bool) []*Part {
	var out []*Part
	for _, tp := range parts {
		p := &Part{Disk: number, Number: tp.Number, Span: tp.Span.Intersect(span.Span{End: d.Size()}), Device: d,
			Title: tp.Name}
		if v, err := p.volume(ctx); v != nil {
			info := v.Info()
			p.Kind, p.ID, p.Unclean = info.Kind, info.ID, info.Unclean
			if info.Label != "" && !(lost && tp.Name != "") {
				p.Title = info.Label
			}
		} else if err != nil {
			p.why = err.Error()
		}
		if p.Title == "" && !lost {
			p.Title = table.TypeName(tp.Type)
		}
		out = append(out, p)
	}
	return out
}

// withoutTable are the parts of a disk without a table: all of it, where a file system begins at its start, or what
// begins at the usual places of a table that was lost.
func withoutTable(ctx context.Context, d disk.Device) []table.Part {
	whole := []table.Part{{Number: 1, Span: span.Span{End: d.Size()}}}
	if v, err := families.Identify(ctx, d, d.Size(), d.SectorSize()); v != nil || err != nil {
		return whole
	}
	lost, err := survey.Lost(ctx, d)
	if err != nil || len(lost) == 0 {
		return whole
	}
	var parts []table.Part
	for i, r := range lost {
		end := d.Size()
		if i+1 < len(lost) {
			end = lost[i+1].At
		}
		if r.Size > 0 {
			end = min(end, r.At+r.Size)
		}
		parts = append(parts,
			table.Part{Number: i + 1, Span: span.Span{Start: r.At, End: end}, Name: "lost, " + r.Words()})
	}
	return parts
}

// ofTwin lists the parts as the twin describes them; of a disk without a table, what can be found in it.
func ofTwin(ctx context.Context, d *shelf.Disk, number int) []*Part {
	var out []*Part
	if t := d.Describe().Table; t != nil && t.Kind == table.None {
		if parts := withoutTable(ctx, d); parts[0].Span.Start > 0 {
			return identified(ctx, d, number, parts, true)
		}
	}
	for _, r := range d.Describe().Parts() {
		p := &Part{Disk: number, Number: r.Part, Span: r.Span, Title: r.Title(), Kind: r.Kind, ID: r.ID,
			Unclean: r.Unclean, Device: d, unsure: r.Whole == "" && !r.Accounted}
		if !r.Captured {
			p.why = "it was left out of this twin"
		}
		out = append(out, p)
	}
	return out
}

func (p *Part) volume(ctx context.Context) (fsys.Volume, error) {
	// What can't be read must not look like a part without a file system.
	head := make([]byte, min(4096, p.Span.Len()))
	if err := disk.ReadFull(p.Device, head, p.Span.Start); err != nil {
		return nil, err
	}
	return families.Identify(ctx, disk.Section(p.Device, p.Span.Start, p.Span.Len()), p.Span.Len(),
		p.Device.SectorSize(),
		p.others...)
}

// encrypted says whether what is in the part needs a key, also where it has one.
func (p *Part) encrypted(ctx context.Context) bool {
	v, err := p.volume(ctx)
	return err == nil && families.Encrypted(v)
}

// Join has parts of one machine know of each other, so that containers that lie on several of them can be looked into.
// It is called before any of them is opened.
func Join(parts []*Part) {
	for _, p := range parts {
		p.others = nil
		for _, o := range parts {
			if o != p {
				p.others = append(p.others,
					families.Member{R: disk.Section(o.Device, o.Span.Start, o.Span.Len()), Size: o.Span.Len()})
			}
		}
	}
}

// Tree opens the part's files. The error says why there are none.
func (p *Part) Tree(ctx context.Context) (fsys.Tree, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.opened {
		p.tree, p.err = p.openTree(ctx)
		p.opened = ctx.Err() == nil // what was cancelled is tried again
	}
	if p.err != nil {
		return nil, fmt.Errorf("%s can't be looked into: %w", p.Name(), p.err)
	}
	return p.tree, nil
}

func (p *Part) openTree(ctx context.Context) (fsys.Tree, error) {
	if p.why != "" {
		return nil, &fsys.Unreadable{Why: p.why}
	}
	v, err := p.volume(ctx)
	if err != nil {
		return nil, err
	}
	t, err := fsys.TreeOf(v)
	if err == nil && p.unsure {
		t, err = ofKept(ctx, t, v)
	}
	if err != nil {
		return nil, err
	}
	return withGaps(t, p), nil
}

// Name is the part in words.
func (p *Part) Name() string {
	s := fmt.Sprintf("part %d", p.Number)
	if p.Title != "" {
		s += ", " + p.Title
	}
	if p.Known() && p.Kind != p.Title {
		s += " (" + p.Kind + ")"
	}
	return s
}

// Known says whether it was recognised what the part holds.
func (p *Part) Known() bool { return p.Kind != "" }

// Key says which part it is over dates and disks: the file system's own identity where it has one, its place otherwise.
func (p *Part) Key() string { return key(p.Disk, p.Number, p.Kind, p.ID) }

func key(disk, number int, kind, id string) string {
	if id != "" {
		return kind + " " + strings.ToLower(id)
	}
	return fmt.Sprintf("%d.%d", disk, number)
}

// Where is a path that people write: "3:home/ann" is in part 3, "2.3:home/ann" in part 3 of disk 2.
type Where struct {
	Disk, Part int // from 1; 0 where it isn't said
	Path       string
}

// ParseWhere takes a path apart. Without a part in front all of it is the path.
func ParseWhere(s string) Where {
	w := Where{Path: s}
	if head, rest, ok := strings.Cut(s, ":"); ok {
		var d, p int
		if n, err := fmt.Sscanf(head+" ", "%d.%d ", &d, &p); err == nil && n == 2 && d > 0 && p > 0 {
			w = Where{d, p, rest}
		} else if n, err := fmt.Sscanf(head+" ", "%d ", &p); err == nil && n == 1 && p > 0 &&
			!strings.Contains(head, ".") {
			w = Where{0, p, rest}
		}
	}
	w.Path = strings.Trim(strings.ReplaceAll(w.Path, "\\", "/"), "/")
	if w.Path == "" {
		w.Path = "."
	}
	return w
}

// Label is how a place in a part is written for people; disks is how many the machine has.
func (p *Part) Label(path string, disks int) string {
	if path == "." {
		path = ""
	}
	if disks > 1 {
		return fmt.Sprintf("%d.%d:%s", p.Disk+1, p.Number, path)
	}
	return fmt.Sprintf("%d:%s", p.Number, path)
}
