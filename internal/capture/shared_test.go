package capture

import (
	"context"
	"iter"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// reflinked is a volume on which two files share a stretch, and one that has changed is as long.
type reflinked struct{ proven []span.Span }

func (reflinked) Info() fsys.Info { return fsys.Info{Kind: "shared", Size: 4 << 20, Unit: 4096} }

func (reflinked) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) { yield(span.At(1<<20, 32<<10), nil) }
}

func (reflinked) Caveat() string { return "" }

func (v reflinked) Unchanged(_ context.Context, _ fsys.Volume, proven func(span.Span) error) error {
	for _, sp := range v.proven {
		if err := proven(sp); err != nil {
			return err
		}
	}
	return nil
}

// TestWhatIsProvenTwice: a stretch that two files share doesn't prove another one of its length.
func TestWhatIsProvenTwice(t *testing.T) {
	shared, other := span.At(1<<20, 16<<10), span.At(1<<20+16<<10, 16<<10)
	for _, c := range []struct {
		proven []span.Span
		same   bool
	}{
		{[]span.Span{other, shared}, true}, {[]span.Span{span.At(1<<20, 32<<10)}, true},
		{[]span.Span{shared, shared}, false}, {[]span.Span{shared}, false},
	} {
		v := reflinked{c.proven}
		now := fsys.Everything(4<<20, "")
		now.Volume, now.Info, now.Maps = v, v.Info(), true
		got, err := unchangedBlocks(context.Background(), &now, &now, 4<<20, 1<<20)
		if err != nil || got[1] != c.same {
			t.Errorf("%v: %v %v", c.proven, got, err)
		}
	}
}
