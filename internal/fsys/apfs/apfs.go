// Package apfs knows containers of APFS (Apple's "Apple File System Reference"): which blocks they use by the space
// manager, what object maps, trees and snapshots name beside that, and the files of all volumes and snapshots. It never
// writes by itself.
//
// Limits: blocks of nodes of another size than the container's, and checkpoint areas in several pieces make it an
// error, so that the part is captured whole. Files of encrypted volumes are read with the volume's key, where that is
// sealed by a password or a recovery key. Of a container on two devices both halves must be there, one after the other
// (package fusion).
package apfs

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Family makes APFS known.
func Family() fsys.Family { return fsys.Family{Name: "apfs", Probe: Probe, Mirrors: mirrors} }

// Container is a container with its volumes. Addresses are in blocks.
type Container struct {
	r      io.ReaderAt
	info   fsys.Info
	unit   int64 // of a block, bytes
	blocks int64
	// fused says that it lies on two devices; second is the first block of the second one, 0 as long as that isn't
	// known.
	fused  bool
	second int64
	super  []byte // of the newest checkpoint
	xid    uint64
	// descriptions and data are the areas that checkpoints are written to.
	descriptions, data extent
	// ephemeral are the runs that objects lie in which are written anew with each checkpoint, by their numbers.
	ephemeral map[uint64]extent
	space     *space
	objects   *objects
	volumes   []*volume
	nodes     nodes
	// cached are the runs of the second device whose newest contents wait on the first one.
	cached []extent
}

// extent is a run of blocks.
type extent struct{ first, count int64 }

// Probe recognises a container by its first block, and finds its newest checkpoint.
func Probe(r io.ReaderAt, size int64, _ int) (fsys.Volume, error) {
	b := make([]byte, minBlock)
	if n, _ := r.ReadAt(b, 0); n < len(b) || string(b[superMagic:superMagic+4]) != magicSuper {
		return nil, nil
	}
	c := &Container{r: r}
	err := c.readGeometry(b, size)
	if err == nil {
		err = c.open(size)
	}
	if c.fused && c.second == 0 {
		return halfOf(r, size)
	}
	return c, err
}

func (c *Container) readGeometry(b []byte, size int64) error {
	le := binary.LittleEndian
	c.unit, c.blocks = int64(le.Uint32(b[superBlockSize:])), int64(min(le.Uint64(b[superBlocks:]), 1<<60))
	c.fused = le.Uint64(b[superIncompat:])&incompatFusion != 0
	if c.unit < minBlock || c.unit > maxBlock || c.unit&(c.unit-1) != 0 {
		return fsys.Contradiction(superBlockSize, "APFS with blocks of %d bytes is not known", c.unit)
	}
	if c.blocks < 16 || c.blocks > size/c.unit {
		return fsys.Contradiction(superBlocks, "the APFS container claims %d blocks of %d bytes, and its part has %d "+
			"bytes", c.blocks, c.unit, size)
	}
	if c.fused {
		c.blocks = size / c.unit // how many are whose is the space manager's to say
	}
	c.descriptions = extent{int64(le.Uint64(b[superDescBase:])), int64(le.Uint32(b[superDescBlocks:]))}
	c.data = extent{int64(le.Uint64(b[superDataBase:])), int64(le.Uint32(b[superDataBlocks:]))}
	for _, e := range []extent{c.descriptions, c.data} {
		if e.count&areaIsTree != 0 {
			return fsys.Contradiction(superDescBlocks, "its checkpoints lie in several pieces, which isn't known here")
		}
		if e.first <= 0 || e.count == 0 || e.first+e.count > c.blocks {
			return fsys.Contradiction(superDescBase, "its checkpoints should lie in %d blocks from block %d "+
				"on", e.count,
				e.first)
		}
	}
	return nil
}

// mostDescriptions bounds the blocks of the checkpoint descriptor area.
const mostDescriptions = 1 << 16

// open reads the newest checkpoint that is whole, and all volumes.
func (c *Container) open(size int64) error {
	if err := c.newest(size); err != nil {
		return err
	}
	le := binary.LittleEndian
	if err := c.readCheckpoint(); err != nil {
		return fmt.Errorf("checkpoint: %w", err)
	}
	var err error
	if c.space, err = c.openSpace(le.Uint64(c.super[superSpace:])); err != nil {
		return fmt.Errorf("space manager: %w", err)
	}
	c.info = fsys.Info{Kind: "APFS", Size: c.blocks * c.unit, Unit: c.unit, ID: uuidOf(c.super[superUUID:])}
	if c.objects, err = c.openMap(c.address(le.Uint64(c.super[superMap:]))); err != nil {
		return fmt.Errorf("object map: %w", err)
	}
	most := min(le.Uint32(c.super[superMostVolume:]), mostVolumes)
	var names []string
	for i := range most {
		oid := le.Uint64(c.super[superVolumes+8*i:])
		if oid == 0 {
			continue
		}
		v, err := c.openVolume(oid)
		if err != nil {
			return fmt.Errorf("volume %d: %w", i+1, err)
		}
		v.number = (uint64(i) + 1) * (mostSnapshots + 1)
		c.volumes = append(c.volumes, v)
		names = append(names, v.name)
	}
	const mostNamed = 3
	if len(names) > mostNamed {
		names = append(names[:mostNamed], "…")
	}
	c.info.Label = units.Visible(strings.Join(names, ", "))
	c.readCached()
	return nil
}

// newest finds the superblock with the highest transaction among those that are whole.
func (c *Container) newest(size int64) error {
	if c.descriptions.count > mostDescriptions {
		return fsys.Contradiction(superDescBlocks, "%d blocks for checkpoints", c.descriptions.count)
	}
	for i := range c.descriptions.count {
		b, err := c.block(c.descriptions.first + i)
		if err != nil {
			return err
		}
		le := binary.LittleEndian
		if kindOf(b) != typeSuper || string(b[superMagic:superMagic+4]) != magicSuper || !sound(b) {
			continue
		}
		if xid := le.Uint64(b[objXID:]); c.super == nil || xid > c.xid {
			c.super, c.xid = b, xid
		}
	}
	if c.super == nil {
		return errors.New("none of its checkpoints is whole")
	}
	// It says what its container is like, too.
	unit, descriptions, data := c.unit, c.descriptions, c.data
	if err := c.readGeometry(c.super, size); err != nil {
		return err
	}
	if unit != c.unit || descriptions != c.descriptions || data != c.data {
		return errors.New("its newest checkpoint says that it is laid out in another way than its first block does")
	}
	return nil
}

// readCheckpoint finds where the objects of the newest checkpoint lie that are written anew with each.
func (c *Container) readCheckpoint() error {
	le := binary.LittleEndian
	c.ephemeral = map[uint64]extent{}
	index, n := int64(le.Uint32(c.super[superDescIndex:])), int64(le.Uint32(c.super[superDescLen:]))
	if index >= c.descriptions.count || n > c.descriptions.count {
		return fmt.Errorf("it has %d blocks from block %d on of %d", n, index, c.descriptions.count)
	}
	for i := range n {
		at := c.descriptions.first + (index+i)%c.descriptions.count
		b, err := c.object(at, typeCheckpoint, typeSuper)
		if err != nil {
			return err
		}
		if kindOf(b) == typeSuper {
			continue
		}
		count := int(le.Uint32(b[checkCount:]))
		if count > (len(b)-checkEntries)/checkEntry {
			return fsys.Contradiction(at*c.unit, "a checkpoint with %d objects in a block", count)
		}
		for e := b[checkEntries : checkEntries+count*checkEntry]; len(e) > 0; e = e[checkEntry:] {
			c.ephemeral[le.Uint64(e[checkOID:])] = extent{int64(min(le.Uint64(e[checkAddress:]), 1<<62)),
				max(1, int64(le.Uint32(e[checkSize:]))/c.unit)}
		}
	}
	return nil
}

// Info describes the container.
func (c *Container) Info() fsys.Info { return c.info }

// span is where blocks lie, in bytes of the part.
func (c *Container) span(e extent) span.Span { return span.At(e.first*c.unit, e.count*c.unit) }

// within says whether a run of blocks is one of the container's.
func (c *Container) within(e extent) bool {
	return e.first >= 0 && e.count >= 0 && e.count <= c.blocks && e.first <= c.blocks-e.count
}

// mirrors are the copies of the first block in the checkpoints; it names where.
func mirrors(r io.ReaderAt, _, _ int64) []fsys.Mirror {
	b := make([]byte, minBlock)
	if disk.ReadFull(r, b, 0) != nil || string(b[superMagic:superMagic+4]) != magicSuper {
		return nil
	}
	le := binary.LittleEndian
	unit := int64(le.Uint32(b[superBlockSize:]))
	at := int64(min(le.Uint64(b[superDescBase:]), 1<<40)) * unit
	if unit < minBlock || unit > maxBlock || at <= 0 {
		return nil
	}
	return []fsys.Mirror{{Of: span.At(0, unit), At: span.At(at+unit, unit)}}
}
