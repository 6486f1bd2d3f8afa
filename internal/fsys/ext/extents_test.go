package ext

import (
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"slices"
	"testing"

	"twinshelf/internal/span"
)

// TestExtentEntries: what is written as an entry of a tree is what is read from it, up to the limits of the fields.
func TestExtentEntries(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	cases := []extent{{0, 0, 1}, {1<<32 - 1, 1<<48 - 1, maxExtent}, {7, 1 << 32, uninitExtent - 1}}
	for range 1000 {
		cases = append(cases, extent{r.Int64N(1 << 32), r.Int64N(1 << 48), 1 + r.Int64N(uninitExtent-1)})
	}
	for _, x := range cases {
		for _, written := range []bool{true, false} {
			if !written && x.n == maxExtent { // only what is written may be as long
				continue
			}
			e := appendExtent(nil, x, written)
			if got, w := entryExtent(e); len(e) != extentEntry || got != x || w != written {
				t.Fatalf("%+v, written %v: %+v, %v in %d bytes", x, written, got, w, len(e))
			}
		}
		e := make([]byte, extentEntry)
		if putChild(e, x.physical); entryChild(e) != x.physical {
			t.Fatalf("block %d: %d", x.physical, entryChild(e))
		}
	}
}

// TestSplitNode: a node is split as it was made, and what can't be one is refused.
func TestSplitNode(t *testing.T) {
	extents := []span.Span{span.At(100, 8), span.At(5000, 32768), span.At(1<<33, 1)}
	node := slices.Concat(extentNode(extents, inlineExtents), make([]byte, extentEntry))
	entries, depth, err := splitNode(node, -1)
	if err != nil || depth != 0 || len(entries) != len(extents) {
		t.Fatalf("%d entries of depth %d: %v", len(entries), depth, err)
	}
	logical := int64(0)
	for i, e := range entries {
		want := extent{logical, extents[i].Start, extents[i].Len()}
		if x, written := entryExtent(e); x != want || !written {
			t.Errorf("entry %d is %+v, not %+v", i, x, want)
		}
		if cap(e) != extentEntry {
			t.Errorf("appending to entry %d would write over the next one", i)
		}
		logical += extents[i].Len()
	}
	if nodeRoom(node) != inlineExtents || nodeTail(node) != len(node) {
		t.Errorf("room for %d, checksum at %d of %d", nodeRoom(node), nodeTail(node), len(node))
	}
	for name, hurt := range map[string]func(b []byte){
		"another magic":        func(b []byte) { b[0]++ },
		"more than has room":   func(b []byte) { binary.LittleEndian.PutUint16(b[ehEntries:], inlineExtents+1) },
		"deeper than any tree": func(b []byte) { binary.LittleEndian.PutUint16(b[ehDepth:], maxDepth+1) },
	} {
		b := slices.Clone(node)
		hurt(b)
		if _, _, err := splitNode(b, -1); !errors.Is(err, errGarbled) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, _, err := splitNode(node, 1); !errors.Is(err, errGarbled) {
		t.Errorf("a leaf where a node above leaves belongs: %v", err)
	}
}
