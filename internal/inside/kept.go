package inside

import (
	"context"
	"errors"
	"fmt"
	"iter"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// NotKept is why a file can't be read off a twin: its volume's map called some of it free, so that it wasn't captured.
type NotKept struct{ Bytes int64 }

func (e *NotKept) Error() string {
	return fmt.Sprintf("%s of it were never captured: the file system's own map called them free", units.Bytes(e.Bytes))
}

// ofKept gives the tree of a volume that was captured by its maps. Where these left out what its records name, contents that
// weren't kept are errors, and every listing says that names may be missing.
func ofKept(t fsys.Tree, v fsys.Volume) (fsys.Tree, error) {
	a, ok := v.(fsys.Accountable)
	if !ok {
		return t, nil
	}
	err := fsys.CheckKept(context.Background(), a, v.Used())
	var lost *fsys.NotKept
	if !errors.As(err, &lost) {
		return t, nil // what can't be followed is an error where it is read
	}
	k := &keptTree{Tree: t, lost: lost}
	for sp, err := range v.Used() {
		if err != nil {
			return nil, err
		}
		k.kept.Add(sp)
	}
	return k, nil
}

type keptTree struct {
	fsys.Tree
	kept span.Set
	lost *fsys.NotKept
}

func (t *keptTree) List(folder fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		for it, err := range t.Tree.List(folder) {
			if !yield(it, err) {
				return
			}
		}
		yield(fsys.Item{}, fmt.Errorf("names may be missing: %w", t.lost))
	}
}

func (t *keptTree) Open(it fsys.Item, stream string) (fsys.Contents, error) {
	c, err := t.Tree.Open(it, stream)
	if err != nil {
		return nil, err
	}
	if lost := span.Of(c.Spans()...).Subtract(t.kept).Total(); lost > 0 {
		return nil, &NotKept{lost}
	}
	return c, nil
}
