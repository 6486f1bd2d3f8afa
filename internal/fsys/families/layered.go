package families

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"path"
	"strings"

	"twinshelf/internal/container"
	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/container/fusion"
	"twinshelf/internal/container/lvm"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/lock"
	"twinshelf/internal/signature"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Member is a stretch that a container may lie on, beside the one that is looked at.
type Member = container.Member

// kinds are the containers that are read, by the signature that their members bear.
func kinds() map[string]opener {
	return map[string]opener{
		"LVM volume group member": func(_ context.Context, m Member, others []Member) (container.Container, []Member,
			error) {
			return lvm.Open(m, others...)
		},
		fusion.Kind: func(_ context.Context, m Member, others []Member) (container.Container, []Member, error) {
			return fusion.Open(m, others...)
		},
		signature.EncryptedKind(signature.BitLocker):     encrypted,
		signature.EncryptedKind(signature.BitLockerToGo): encrypted,
	}
}

// encrypted opens an encrypted volume by its key, where that is known.
func encrypted(ctx context.Context, m Member, _ []Member) (container.Container, []Member, error) {
	v, err := bitlocker.Read(m)
	if err != nil {
		return nil, nil, err
	}
	c, err := v.Open(lock.From(ctx).Of(v.ID))
	return c, []Member{m}, err
}

// opener opens the container that a member is of; of others those count that are of it too.
type opener func(ctx context.Context, m Member, others []Member) (c container.Container, members []Member, err error)

const (
	// maxLayers is how deep containers may lie in each other.
	maxLayers = 8
	// maxPieces is how many pieces of a device are told apart; of one with more all that it takes counts as used.
	maxPieces = 1 << 22
)

// layered is a container on a part, and what lies in it.
type layered struct {
	c       container.Container
	members []Member // the first one is the part
	sector  int
	inner   []inner
}

// inner is a device of the container.
type inner struct {
	container.Device
	device  disk.Device // nil where it can't be read
	volume  fsys.Volume // nil where none is known
	content fsys.Content
	// all is the content with what may be left out.
	all fsys.Content
}

var (
	_ fsys.Volume  = (*layered)(nil)
	_ fsys.Layered = (*layered)(nil)
	_ fsys.Omitter = (*layered)(nil)
	_ fsys.Resizer = (*layered)(nil)
	_ fsys.Files   = (*layered)(nil)

	_ fsys.Unchanging = (*layered)(nil)
	_ fsys.Witness    = (*layered)(nil)
)

// open opens a container that a part bears the signature of; nil where it isn't one that is read. others are members
// that it may need beside the part.
func open(ctx context.Context, v fsys.Volume, r io.ReaderAt, size int64, sector int, others []Member) (*layered,
	error) {
	if v == nil {
		return nil, nil
	}
	kind := kinds()[v.Info().Kind]
	if kind == nil {
		return nil, nil
	}
	c, members, err := kind(ctx, Member{R: r, Size: size}, others)
	if err != nil {
		return nil, err
	}
	return newLayered(c, members, sector), nil
}

// newLayered is a container with its devices as far as they can be read.
func newLayered(c container.Container, members []Member, sector int) *layered {
	l := &layered{c: c, members: members, sector: sector}
	for _, d := range c.Devices() {
		x := inner{Device: d}
		if d.Map != nil && d.Sealed == "" {
			x.device = container.Open(d, members, sector)
		}
		l.inner = append(l.inner, x)
	}
	return l
}

// identify recognises what lies in the devices.
func (l *layered) identify(ctx context.Context, depth int) {
	for i := range l.inner {
		x := &l.inner[i]
		x.content = fsys.Everything(x.Size, x.Sealed)
		if x.device != nil {
			x.volume, _ = identify(ctx, x.device, x.Size, l.sector, nil, depth+1)
		}
		if x.volume != nil {
			x.content.Volume, x.content.Info = x.volume, x.volume.Info()
		}
		x.all = x.content
	}
}

// examine looks which bytes of the devices matter.
func (l *layered) examine(ctx context.Context, depth int) error {
	for i := range l.inner {
		x := &l.inner[i]
		if x.device == nil {
			x.content = fsys.Everything(x.Size, x.Sealed)
			x.all = x.content
			continue
		}
		var err error
		if x.content, err = examine(ctx, x.device, x.Size, l.sector, nil, depth+1); err != nil {
			return err
		}
		x.volume, x.all = x.content.Volume, x.content
		if err := x.all.KeepAll(ctx); err != nil {
			return ctx.Err() // then all of it counts
		}
	}
	return nil
}

// Info describes the container as a volume of the part.
func (l *layered) Info() fsys.Info {
	h := l.c.Head(0)
	return fsys.Info{Kind: h.Kind, Label: h.Name, ID: h.ID, Size: l.members[0].Size, Unit: h.Unit}
}

// unquiet says which volumes in it weren't quiet, and which aren't believed.
func (l *layered) unquiet() (unclean, doubt string) {
	var a, b []string
	for _, x := range l.inner {
		switch info := x.content.Info; {
		case info.Unclean != "":
			a = append(a, x.Name+": "+info.Unclean)
		case x.volume != nil && !x.content.Maps && info.Opaque == "":
			b = append(b, x.Name+": "+x.content.Why)
		}
	}
	return strings.Join(a, "; "), strings.Join(b, "; ")
}

// Used is what the container needs for itself, and what of its devices matters.
func (l *layered) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) {
		used := l.c.Own(0)
		for i := range l.inner {
			if err := l.inner[i].used(&used); err != nil {
				yield(span.Span{}, err)
				return
			}
		}
		for sp := range used.All() {
			if !yield(sp, nil) {
				return
			}
		}
	}
}

// used adds what of the device matters, in bytes of the part.
func (x *inner) used(out *span.Set) error {
	if x.Map == nil {
		return nil // the container counts it as its own
	}
	n := 0
	for sp, err := range x.all.Spans() {
		if err != nil {
			return fmt.Errorf("%s: %w", x.Name, err)
		}
		if n++; n > maxPieces {
			sp = span.Span{End: x.Size}
		}
		if x.Map.On(0, sp, out); n > maxPieces {
			break
		}
	}
	return nil
}

// Inner are the devices.
func (l *layered) Inner() []fsys.Inner {
	out := make([]fsys.Inner, len(l.inner))
	for i, x := range l.inner {
		out[i] = fsys.Inner{Name: x.Name, Size: x.Size, Device: x.device, Content: x.content, Doubt: x.Doubt,
			Fixed: x.Fixed}
	}
	return out
}

// Omissions are those of the volumes.
func (l *layered) Omissions() ([]fsys.Omission, error) {
	var out []fsys.Omission
	for _, x := range l.inner {
		for _, o := range x.content.Omit {
			out = append(out, x.omission(o))
		}
	}
	return out, nil
}

// Unchanged proves what the volumes' own records prove, of devices that lie where they lay.
func (l *layered) Unchanged(ctx context.Context, before fsys.Volume, proven func(span.Span) error) error {
	was, ok := before.(*layered)
	if !ok || was.c.Head(0).ID != l.c.Head(0).ID {
		return nil
	}
	for i := range l.inner {
		x := &l.inner[i]
		y := was.sameDevice(x)
		u, can := x.volume.(fsys.Unchanging)
		if !can || y == nil || !x.content.Maps || !y.content.Maps {
			continue
		}
		if err := u.Unchanged(ctx, y.volume,
			func(sp span.Span) error { return onPart(x.Map, sp, proven) }); err != nil {
			return fmt.Errorf("%s: %w", x.Name, err)
		}
	}
	return nil
}

// onPart says what of the part a proven stretch of a device is.
func onPart(m *container.Map, sp span.Span, proven func(span.Span) error) error {
	var on span.Set
	m.On(0, sp, &on)
	for o := range on.All() {
		if err := proven(o); err != nil {
			return err
		}
	}
	return nil
}

// sameDevice finds a device that is the same and lies in the same places; nil where there is none.
func (l *layered) sameDevice(x *inner) *inner {
	for i := range l.inner {
		y := &l.inner[i]
		alike := x.Sectors == nil && y.Sectors == nil || x.Sectors != nil && y.Sectors != nil &&
			x.Sectors.Same(y.Sectors)
		if x.ID != "" && y.ID == x.ID && x.Map != nil && y.Map != nil && x.Map.Equal(y.Map) && alike {
			return y
		}
	}
	return nil
}

// Witness joins what the volumes' journals tell.
func (l *layered) Witness(ctx context.Context, before fsys.Volume) string {
	was, ok := before.(*layered)
	if !ok {
		return ""
	}
	var out []string
	for i := range l.inner {
		x := &l.inner[i]
		y, w := was.sameDevice(x), fsys.Witness(nil)
		if w, ok = x.volume.(fsys.Witness); !ok || y == nil {
			continue
		}
		if said := w.Witness(ctx, y.volume); said != "" {
			out = append(out, x.Name+": "+said)
		}
	}
	return strings.Join(out, "; ")
}

// Caveat joins those of the volumes.
func (l *layered) Caveat() string {
	var out []string
	for _, x := range l.inner {
		if u, can := x.volume.(fsys.Unchanging); can && u.Caveat() != "" {
			out = append(out, x.Name+": "+u.Caveat())
		}
	}
	return strings.Join(out, "; ")
}

// Resize has the container use a part of another size, and the largest volume in it that can grow take the room.
func (l *layered) Resize(b fsys.Bounds) (*fsys.Change, error) {
	keeps := &fsys.Change{Size: l.members[0].Size}
	if b.Size <= keeps.Size {
		return keeps, nil
	}
	grower, ok := l.c.(container.Grower)
	i := l.growing()
	if !ok || i < 0 {
		keeps.Notes = []string{"it keeps its size: nothing in it can grow"}
		return keeps, nil
	}
	x := &l.inner[i]
	g, err := grower.Grow(0, b.Size, i)
	if err != nil {
		keeps.Notes = []string{"it keeps its size: " + err.Error()}
		return keeps, nil
	}
	c, err := x.volume.(fsys.Resizer).Resize(fsys.Bounds{Size: g.Device, Sector: l.sector})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", x.Name, err)
	}
	if len(c.Moves) > 0 {
		keeps.Notes = []string{fmt.Sprintf("it keeps its size: the %s of %s would have to move", x.content.Info.Kind,
			x.Name)}
		return keeps, nil
	}
	out := &fsys.Change{Size: b.Size, Patches: g.Patches}
	more, err := outward(c.Patches, g.Map)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", x.Name, err)
	}
	out.Patches = append(out.Patches, more...)
	for _, n := range c.Notes {
		out.Notes = append(out.Notes, x.Name+": "+n)
	}
	out.Notes = append(out.Notes, fmt.Sprintf("%s grows from %s to %s, and its %s with it", x.Name, units.Bytes(x.Size),
		units.Bytes(g.Device), x.content.Info.Kind))
	out.Patches, err = disk.SortPatches(out.Patches, b.Size)
	return out, err
}

// growing is the largest volume that can grow; -1 when there is none.
func (l *layered) growing() int {
	best := -1
	for i, x := range l.inner {
		info := x.content.Info
		if _, ok := x.volume.(fsys.Resizer); !ok || info.Opaque != "" || info.Unclean != "" || info.Swap {
			continue
		}
		if best < 0 || x.Size > l.inner[best].Size {
			best = i
		}
	}
	return best
}

// Outward puts patches of a device where its bytes lie on the part.
func (l *layered) Outward(device int, patches []disk.Patch) ([]disk.Patch, error) {
	x := &l.inner[device]
	if x.Map == nil {
		return nil, fmt.Errorf("where %s lies can't be told", x.Name)
	}
	if x.Fixed != "" {
		return nil, fmt.Errorf("nothing is changed in %s: %s", x.Name, x.Fixed)
	}
	return outward(patches, x.Map)
}

func outward(patches []disk.Patch, m *container.Map) ([]disk.Patch, error) {
	var out []disk.Patch
	for _, q := range patches {
		at := q.Off
		for r := range m.Runs(q.Span()) {
			if r.Member != 0 {
				return nil, errors.New("some of what would change lies on another member")
			}
			p := q.Part(r.Inner)
			p.Off = r.Off
			out = append(out, p)
			at = r.Inner.End
		}
		if at != q.Span().End {
			return nil, fmt.Errorf("what would change at %s lies beyond the end of the device", q.Span())
		}
	}
	return out, nil
}

// Files is a tree with a folder for each device whose files can be read.
func (l *layered) Files() (fsys.Tree, error) {
	t := &layeredTree{bare: len(l.inner) == 1 && l.inner[0].Sole}
	var problem error
	for i := range l.inner {
		x := &l.inner[i]
		tree, err := fsys.TreeOf(x.volume)
		if err != nil {
			problem = errors.Join(problem, fmt.Errorf("%s: %w", x.Name, err))
			continue
		}
		t.devices = append(t.devices, branch{path.Base(x.Name), tree, x.Map})
	}
	if len(t.devices) == 0 {
		return nil, &fsys.Unreadable{Why: fmt.Sprintf("no device in it holds files that can be read (%v)", problem)}
	}
	return t, nil
}
