// Package fusion joins the halves of an APFS container that lies on two devices (Apple's "Apple File System
// Reference", Fusion): a quick one, which has all that the container says of itself, and a large one with contents. It
// gives one device: the blocks of the quick half, and after them those of the large one. What is in the blocks is the
// file system's business.
package fusion

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"twinshelf/internal/container"
	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Kind is what a half is called.
const Kind = "half of an APFS container"

// The container's superblock, which is the first block of both halves (Container). Offsets are in bytes.
const (
	magicAt       = 32
	unitAt        = 36
	blocksAt      = 40
	incompatAt    = 64
	uuidAt        = 72
	checkpointsAt = 112 // block
	headLen       = 4096

	magic       = "NXSB"
	incompat    = 0x100
	largestUnit = 64 << 10
	mostBlocks  = 1 << 50
)

// An object's kind (Objects), and those that checkpoints begin with.
const (
	kindAt         = 24
	kindMask       = 0xFFFF
	kindSuper      = 0x01
	kindCheckpoint = 0x0C
	// checkpointsLook is how many blocks of the area of checkpoints are looked at.
	checkpointsLook = 8
)

// Half is one of the two.
type Half struct {
	member container.Member
	uuid   [16]byte
	unit   int64 // bytes
	blocks int64 // that its superblock claims: of this half, or of both
	// quick says that it has the checkpoints.
	quick bool
}

// Read reads the first block of a half; nil where it isn't one.
func Read(r io.ReaderAt, size int64) (*Half, error) {
	b := make([]byte, headLen)
	if size < headLen {
		return nil, nil
	}
	if err := disk.ReadFull(r, b, 0); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if string(b[magicAt:magicAt+len(magic)]) != magic || le.Uint64(b[incompatAt:])&incompat == 0 {
		return nil, nil
	}
	h := &Half{member: container.Member{R: r, Size: size}, unit: int64(le.Uint32(b[unitAt:])),
		blocks: int64(min(le.Uint64(b[blocksAt:]), mostBlocks))}
	copy(h.uuid[:], b[uuidAt:])
	if h.unit < headLen || h.unit > largestUnit || h.unit&(h.unit-1) != 0 {
		return nil, fmt.Errorf("APFS with blocks of %d bytes is not known", h.unit)
	}
	first := int64(min(le.Uint64(b[checkpointsAt:]), mostBlocks))
	for at := first; at < first+checkpointsLook && (at+1)*h.unit <= size; at++ {
		if err := disk.ReadFull(r, b, at*h.unit); err != nil {
			return nil, err
		}
		kind := le.Uint32(b[kindAt:]) & kindMask
		h.quick = h.quick || kind == kindCheckpoint || kind == kindSuper && string(b[magicAt:magicAt+4]) == magic
	}
	return h, nil
}

// ID is the container's UUID, as text.
func (h *Half) ID() string {
	u := h.uuid
	return fmt.Sprintf("%x-%x-%x-%x-%x", u[:4], u[4:6], u[6:8], u[8:10], u[10:])
}

// whole is how many blocks fit.
func (h *Half) whole() int64 { return h.member.Size / h.unit }

// Large is what the address of a block on the large half has beside its number there, in a container with blocks of
// so many bytes.
func Large(unit int64) uint64 { return 1 << 62 / uint64(unit) }

// Fusion is a container of both halves. It never changes.
type Fusion struct {
	given []*Half // as they were given
	quick int     // which of them
	cut   int64   // blocks of the quick half that count
	m     *container.Map
}

var _ container.Container = (*Fusion)(nil)

// Open joins a half with its other one, which is among others. Where there are several that could be it, none is
// believed.
func Open(m container.Member, others ...container.Member) (*Fusion, []container.Member, error) {
	mine, err := Read(m.R, m.Size)
	if err != nil {
		return nil, nil, err
	}
	if mine == nil {
		return nil, nil, errors.New("it is no half of an APFS container")
	}
	var other *Half
	for _, o := range others {
		h, err := Read(o.R, o.Size)
		if err != nil || h == nil || h.uuid != mine.uuid {
			continue
		}
		if other != nil || h.quick == mine.quick {
			return nil, nil, errors.New("several disks could have its other half: attach only those that belong " +
				"together")
		}
		other = h
	}
	if other == nil {
		return nil, nil, errors.New("the other half isn't on this disk: captured as one machine, the disks of " +
			"both are " +
			"read by what is used")
	}
	f := &Fusion{given: []*Half{mine, other}}
	if other.quick {
		f.quick = 1
	}
	return f, []container.Member{mine.member, other.member}, f.join()
}

// join lays the device over both halves. Superblocks count the blocks of the quick half or those of both.
func (f *Fusion) join() (err error) {
	quick, large := f.given[f.quick], f.given[1-f.quick]
	if quick.unit != large.unit {
		return fmt.Errorf("its halves have blocks of %d and of %d bytes", quick.unit, large.unit)
	}
	switch n := quick.blocks; {
	case n > 0 && n <= quick.whole():
		f.cut = n
	case n > quick.whole() && n <= quick.whole()+large.whole():
		f.cut = quick.whole()
	default:
		return fmt.Errorf("it claims %d blocks, and its halves have %d and %d", n, quick.whole(), large.whole())
	}
	end := f.cut * quick.unit
	f.m, err = container.NewMap([]container.Segment{
		{Inner: span.At(0, end), Places: []container.Place{{Member: f.quick}}},
		{Inner: span.At(end, large.whole()*large.unit), Places: []container.Place{{Member: 1 - f.quick}}},
	})
	return err
}

// Head describes the container as it shows on a half.
func (f *Fusion) Head(member int) container.Head {
	h := f.given[member]
	which := "large"
	if member == f.quick {
		which = "quick"
	}
	return container.Head{Kind: "APFS on two disks", Name: fmt.Sprintf("the %s half, %s", which,
		units.Bytes(h.member.Size)), ID: h.ID(), Unit: h.unit, Members: len(f.given)}
}

// Devices is the device of both.
func (f *Fusion) Devices() []container.Device {
	return []container.Device{{Name: "both halves", Sole: true, ID: f.given[0].ID(), Size: f.m.Size(), Map: f.m}}
}

// Own is what no block of the device lies on.
func (f *Fusion) Own(member int) span.Set {
	var on span.Set
	f.m.On(member, span.Span{End: f.m.Size()}, &on)
	return span.Of(span.Span{End: f.given[member].member.Size}).Subtract(on)
}
