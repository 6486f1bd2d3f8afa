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

// ofKept gives the tree of a volume that was captured by its maps. Unless its records agree with them, contents that
// weren't kept are errors; where the maps certainly left out something, every listing says that names may be missing.
func ofKept(ctx context.Context, t fsys.Tree, v fsys.Volume) (fsys.Tree, error) {
	a, ok := v.(fsys.Accountable)
	if !ok {
		return t, nil
	}
	problem := fsys.CheckKept(ctx, a, v.Used())
	if problem == nil {
		return t, nil
	}
	k := &keptTree{Tree: t}
	certain := errors.As(problem, &k.lost)
	for sp, err := range v.Used() {
		switch {
		case err == nil:
			k.kept.Add(sp)
		case certain:
			return nil, err
		default:
			return t, nil // the maps are hurt on the shelf, as what is read may be: that is told where it is read
		}
	}
	return k, nil
}

type keptTree struct {
	fsys.Tree
	kept span.Set
	lost *fsys.NotKept // nil when the records can't be followed far enough to tell
}

func (t *keptTree) List(folder fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		for it, err := range t.Tree.List(folder) {
			if !yield(it, err) {
				return
			}
		}
		if t.lost != nil {
			yield(fsys.Item{}, fmt.Errorf("names may be missing: %w", t.lost))
		}
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
