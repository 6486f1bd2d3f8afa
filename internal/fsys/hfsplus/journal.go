package hfsplus

import (
	"encoding/binary"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// journal is where changes to the volume's structures are written before they are made.
type journal struct {
	info      span.Span // the block that describes it
	area      span.Span
	elsewhere bool // on another device
	fresh     bool // nothing was ever written to it
	order     binary.ByteOrder
	start     int64 // of what isn't replayed yet, and its end, from the journal's beginning
	end       int64
	headSize  int64
	listSize  int64
}

// empty says whether nothing is to be replayed.
func (j *journal) empty() bool { return j.fresh || j.start == j.end }

// journal finds the journal and what it says of itself.
func (v *Volume) journal() (*journal, error) {
	block := int64(binary.BigEndian.Uint32(v.head[headJournal:]))
	if block >= v.blocks {
		return nil, fsys.Contradiction(v.at+headerAt+headJournal, "the journal should be described in block %d of "+
			"%d", block,
			v.blocks)
	}
	j := &journal{info: v.span(block, 1)}
	b := make([]byte, journalInfoLen)
	if err := disk.ReadFull(v.r, b, j.info.Start); err != nil {
		return nil, err
	}
	be := binary.BigEndian
	flags := be.Uint32(b[journalFlags:])
	at, n := be.Uint64(b[journalAt:]), be.Uint64(b[journalSize:])
	j.fresh, j.elsewhere = flags&journalNeeds != 0, flags&journalHere == 0
	whole := uint64(v.blocks * v.unit)
	switch {
	case j.elsewhere:
		return j, nil
	case n < logHeadLen || at > whole || n > whole-at:
		return nil, fsys.Contradiction(j.info.Start, "the journal should have %d bytes from byte %d on", n, at)
	}
	j.area = span.At(v.at+int64(at), int64(n))
	if j.fresh {
		return j, nil
	}
	return j, v.journalHead(j)
}

// journalHead reads the head of the journal, which is written in the byte order of the machine.
func (v *Volume) journalHead(j *journal) error {
	b := make([]byte, logHeadLen)
	if err := disk.ReadFull(v.r, b, j.area.Start); err != nil {
		return err
	}
	j.order = binary.LittleEndian
	if binary.BigEndian.Uint32(b) == logMagic {
		j.order = binary.BigEndian
	}
	if j.order.Uint32(b) != logMagic || j.order.Uint32(b[4:]) != logEndian {
		return fsys.Contradiction(j.area.Start, "there is no journal where it should be")
	}
	size := j.area.Len()
	j.start, j.end = int64(j.order.Uint64(b[logStart:])), int64(j.order.Uint64(b[logEnd:]))
	j.headSize, j.listSize = int64(j.order.Uint32(b[logHeadSize:])), int64(j.order.Uint32(b[logListSize:]))
	if have := int64(j.order.Uint64(b[logSize:])); have != size || j.start < 0 || j.start > size || j.end < 0 ||
		j.end > size || j.headSize < logHeadLen || j.headSize >= size {
		return fsys.Contradiction(j.area.Start, "a journal of %d bytes in %d, used from %d to "+
			"%d", have, size, j.start, j.end)
	}
	return nil
}

// journal enters the journal. Its files are in the catalog, too.
func (a accounting) journal() error {
	if binary.BigEndian.Uint32(a.v.head[headAttributes:])&flagJournaled == 0 {
		return nil
	}
	j, err := a.v.journal()
	if err != nil {
		return err
	}
	o := fsys.Owner{Kind: "the journal at byte", Number: j.info.Start}
	if err := a.l.Need(j.info, o); err != nil {
		return err
	}
	return a.l.Need(j.area, o)
}
