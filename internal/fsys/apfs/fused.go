package apfs

import (
	"encoding/binary"
	"fmt"
	"io"
	"iter"
	"slices"

	"twinshelf/internal/container/fusion"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// Half is one of the two devices of a container, without the other one.
type Half struct {
	id   string
	size int64
}

var _ fsys.Volume = (*Half)(nil)

// halfOf is the volume that a half is by itself.
func halfOf(r io.ReaderAt, size int64) (fsys.Volume, error) {
	h, err := fusion.Read(r, size)
	if err != nil || h == nil {
		return nil, err
	}
	return &Half{h.ID(), size}, nil
}

// Info names it; without the other half nobody can tell what of it is used.
func (h *Half) Info() fsys.Info {
	return fsys.Info{Kind: fusion.Kind, ID: h.id, Size: h.size, Unit: minBlock,
		Opaque: "it is one half of an APFS container on two disks"}
}

// Used is all of it.
func (h *Half) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) { yield(span.Span{End: h.size}, nil) }
}

// What the first device keeps of the second (Fusion, middle tree): addresses there are the keys.
const (
	cacheAt     = 0 // block of the first device
	cacheLength = 8
	cacheFlags  = 12
	cacheLen    = 16
	cacheDirty  = 1 // the second device doesn't have it yet
)

// mostCached bounds how many runs are known to wait.
const mostCached = 1 << 20

func (c *Container) middle() uint64 { return binary.LittleEndian.Uint64(c.super[superMiddle:]) }

// middleTree is the tree of what the first device keeps of the second; nil where there is none.
func (c *Container) middleTree() (*btree, error) {
	oid := c.middle()
	if !c.fused || oid == 0 {
		return nil, nil
	}
	where := func(oid uint64) (int64, error) {
		if e, is := c.ephemeral[oid]; is {
			return e.first, nil
		}
		if p, err := c.objects.find(oid, c.xid); err == nil {
			return p.at, nil
		}
		if at := c.address(oid); c.within(extent{at, 1}) {
			return at, nil
		}
		return 0, fmt.Errorf("object %d isn't in the checkpoint", oid)
	}
	root, err := where(oid)
	if err != nil {
		return nil, err
	}
	return &btree{c: c, root: root, where: where}, nil
}

// readCached learns which contents of the second device are newer on the first. How long such a run is isn't said in
// blocks for certain, so that it may only be too long here. Where the tree can't be followed, nothing on the second
// device is believed to be the newest.
func (c *Container) readCached() {
	t, err := c.middleTree()
	if err == nil && t != nil {
		err = t.all(func(key, value []byte) error {
			le := binary.LittleEndian
			if len(value) < cacheLen {
				return fmt.Errorf("what is kept of the second device is described in %d bytes", len(value))
			}
			if le.Uint32(value[cacheFlags:])&cacheDirty == 0 {
				return nil
			}
			if len(c.cached) >= mostCached {
				return fmt.Errorf("more than %d runs wait for the second device", mostCached)
			}
			c.cached = append(c.cached, extent{c.address(le.Uint64(key)), int64(le.Uint32(value[cacheLength:]))})
			return nil
		})
	}
	if err != nil {
		c.cached = []extent{{c.second, c.blocks - c.second}}
	}
}

// waits says whether some of a run may be newer on the first device.
func (c *Container) waits(e extent) bool {
	return slices.ContainsFunc(c.cached, func(k extent) bool {
		return e.first < k.first+k.count && k.first < e.first+e.count
	})
}
