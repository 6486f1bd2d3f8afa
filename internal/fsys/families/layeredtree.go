package families

import (
	"fmt"
	"io/fs"
	"iter"

	"twinshelf/internal/container"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// layeredTree is the files of a container's devices: a folder for each, by its name.
type layeredTree struct {
	devices []branch
	// bare has no such folder: the container is nothing but its one device.
	bare bool
}

// branch is a device with files.
type branch struct {
	name string
	tree fsys.Tree
	m    *container.Map
}

// ref says of which device an item is.
type ref struct {
	device int
	item   fsys.Item
}

// topFolder is the reference of the folder that has the devices.
const topFolder = -1

func (t *layeredTree) Root() (fsys.Item, error) {
	if t.bare {
		it, err := t.device(0)
		it.Name = ""
		return it, err
	}
	return fsys.Item{Mode: fs.ModeDir | 0o755, Links: 1, Ref: ref{device: topFolder}}, nil
}

// wrap makes an item of a device one of the whole: IDs of different devices stay apart.
func (t *layeredTree) wrap(device int, it fsys.Item) fsys.Item {
	out := it
	out.Ref = ref{device, it}
	if it.ID != 0 {
		out.ID ^= uint64(device+1) << 56
	}
	return out
}

// at is the device and its item that an item stands for.
func (t *layeredTree) at(it fsys.Item) (*branch, int, fsys.Item, error) {
	r, ok := it.Ref.(ref)
	if !ok || r.device == topFolder || r.device >= len(t.devices) {
		return nil, 0, fsys.Item{}, &fsys.Unreadable{Why: "it is a folder that stands for a container"}
	}
	return &t.devices[r.device], r.device, r.item, nil
}

// device is the topmost folder of a device.
func (t *layeredTree) device(i int) (fsys.Item, error) {
	root, err := t.devices[i].tree.Root()
	it := t.wrap(i, root)
	it.Name = t.devices[i].name
	it.Attr &^= fsys.Hidden | fsys.System // as the root of an NTFS volume is
	if err != nil {
		return it, fmt.Errorf("%s: %w", it.Name, err)
	}
	return it, nil
}

func (t *layeredTree) List(folder fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		if r, ok := folder.Ref.(ref); ok && r.device == topFolder {
			for i := range t.devices {
				if !yield(t.device(i)) {
					return
				}
			}
			return
		}
		b, i, inner, err := t.at(folder)
		if err != nil {
			yield(fsys.Item{}, err)
			return
		}
		for it, err := range b.tree.List(inner) {
			if !yield(t.wrap(i, it), err) {
				return
			}
		}
	}
}

func (t *layeredTree) Lookup(folder fsys.Item, name string) (fsys.Item, error) {
	if r, ok := folder.Ref.(ref); ok && r.device == topFolder {
		for i := range t.devices {
			if t.devices[i].name == name {
				return t.device(i)
			}
		}
		return fsys.Item{}, fs.ErrNotExist
	}
	b, i, inner, err := t.at(folder)
	if err != nil {
		return fsys.Item{}, err
	}
	it, err := b.tree.Lookup(inner, name)
	return t.wrap(i, it), err
}

func (t *layeredTree) Open(it fsys.Item, stream string) (fsys.Contents, error) {
	b, _, inner, err := t.at(it)
	if err != nil {
		return nil, err
	}
	c, err := b.tree.Open(inner, stream)
	if err != nil {
		return nil, err
	}
	return outer{c, b.m, t.bare}, nil
}

func (t *layeredTree) More(it fsys.Item) (fsys.More, error) {
	b, _, inner, err := t.at(it)
	if err != nil { // a container's own folder has nothing more
		return fsys.More{}, nil
	}
	return b.tree.More(inner)
}

// outer is the contents of a file of a device.
type outer struct {
	fsys.Contents
	m          *container.Map
	enciphered bool
}

// Spans is where they lie on the part; what lies on other members isn't there.
func (o outer) Spans() []span.Span { return o.outward(o.Contents.Spans()) }

// Plain is where they lie as they are: nowhere in what is enciphered.
func (o outer) Plain() []span.Span {
	if o.enciphered {
		return nil
	}
	return o.outward(fsys.Plain(o.Contents))
}

func (o outer) outward(inner []span.Span) []span.Span {
	var out []span.Span
	for _, sp := range inner {
		for r := range o.m.Runs(sp) {
			if r.Member == 0 {
				out = append(out, r.Outer())
			}
		}
	}
	return out
}
