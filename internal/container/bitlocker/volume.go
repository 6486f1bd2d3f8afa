package bitlocker

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"time"

	"twinshelf/internal/container"
	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Form is which kind of volume it is.
type Form string

// The forms.
const (
	Fixed Form = "BitLocker"
	ToGo  Form = "BitLocker To Go"
	Vista Form = "BitLocker of Windows Vista"
)

// State is how far the volume is enciphered.
type State uint16

// The states that are told apart.
const (
	Decrypted      State = 1
	Converting     State = 2
	ConvertOnWrite State = 3
	Encrypted      State = 4
	Paused         State = 5
)

// Volume is a volume as its metadata tell, without any key.
type Volume struct {
	Form  Form
	ID    string // GUID of the volume
	Label string // machine, drive and date, as Windows describes it
	Made  time.Time
	State State
	// Cipher is how sectors are enciphered.
	Cipher     Cipher
	Protectors []Protector
	// Damaged says in words which of its three copies of the metadata can't be read; another one counts.
	Damaged []string

	member  container.Member
	sector  int64
	size    int64 // bytes of the volume
	done    int64 // bytes from its start that are enciphered
	onWrite bool
	differ  bool        // whole copies of the metadata say different things
	areas   []span.Span // of its metadata, and where its start is kept
	header  int64       // bytes of its start that are kept elsewhere
	backup  int64       // and where
	vista   struct{ mirror uint64 }
	entries []entry
}

// ErrNone means that there is no such volume.
var ErrNone = errors.New("no BitLocker volume")

// Read reads what a member tells of itself.
func Read(m container.Member) (*Volume, error) {
	h := make([]byte, headLen)
	if err := disk.ReadFull(m.R, h, 0); err != nil {
		return nil, err
	}
	v := &Volume{member: m, sector: int64(le.Uint16(h[headSector:])), size: m.Size}
	if v.sector < leastSector || v.sector > maxSector || v.sector&(v.sector-1) != 0 {
		return nil, fmt.Errorf("its head says that a sector has %d bytes", v.sector)
	}
	at, err := v.places(h)
	if err != nil {
		return nil, err
	}
	var found []*block
	for i, off := range at {
		b, err := readBlock(m, off)
		if err != nil {
			v.Damaged = append(v.Damaged, fmt.Sprintf("copy %d of its metadata, at byte %d: %v", i+1, off, err))
			continue
		}
		found = append(found, b)
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("none of the copies of its metadata can be read: %s", v.Damaged)
	}
	// The copy that was written last counts; they are written one after the other.
	best := slices.MaxFunc(found, func(a, b *block) int { return int(a.counter()) - int(b.counter()) })
	for _, b := range found {
		v.differ = v.differ || !bytes.Equal(b.essence(), best.essence())
	}
	return v, v.take(best, at)
}

// places are where the copies of the metadata lie, by the first sector.
func (v *Volume) places(h []byte) ([]int64, error) {
	list := headBlocks
	switch {
	case string(h[headToGo:headToGo+guidLen]) == guidBDE:
		v.Form, list = ToGo, headToGoAt
	case string(h[headSign:headSign+len(fveMagic)]) != fveMagic:
		return nil, ErrNone
	case string(h[headGUID:headGUID+guidLen]) == guidBDE:
		v.Form = Fixed
	case string(h[headGUID:headGUID+guidLen]) == guidEOW:
		v.Form, v.onWrite = Fixed, true
	default:
		v.Form = Vista
		cluster := uint64(h[headCluster]) * uint64(v.sector)
		first := le.Uint64(h[headVista:])
		if cluster == 0 || first > uint64(v.size)/cluster {
			return nil, fmt.Errorf("its metadata would lie in cluster %d", first)
		}
		b, err := readBlock(v.member, int64(first*cluster))
		if err != nil {
			return nil, fmt.Errorf("its metadata, at byte %d: %w", first*cluster, err)
		}
		return b.copies(v.size)
	}
	b := block{raw: make([]byte, blockLen)}
	copy(b.raw[blockCopies:], h[list:list+8*copies])
	return b.copies(v.size)
}

// block is a copy of the metadata.
type block struct{ raw []byte }

// copies are where all copies lie.
func (b *block) copies(size int64) ([]int64, error) {
	var out []int64
	for i := range copies {
		off := le.Uint64(b.raw[blockCopies+8*i:])
		if off > uint64(size) || uint64(size)-off < blockLen+setLen {
			return nil, fmt.Errorf("a copy of its metadata would lie at byte %d of %d", off, size)
		}
		out = append(out, int64(off))
	}
	return out, nil
}

// essence is what decides how the volume is read; the rest may be newer in one copy while all are being written.
func (b *block) essence() []byte {
	e := bytes.Clone(b.raw[blockVersion : blockLen+setGUID+guidLen])
	clear(e[blockLen-blockVersion : blockLen+setGUID-blockVersion]) // how long the entries are
	return append(e, b.raw[blockLen+setCipher:blockLen+setCipher+2]...)
}

func (b *block) version() uint16 { return le.Uint16(b.raw[blockVersion:]) }

// counter rises with each change of the entries.
func (b *block) counter() uint32 { return le.Uint32(b.raw[blockLen+32:]) }

func readBlock(m container.Member, off int64) (*block, error) {
	if off < 0 || off > m.Size-blockLen-setLen {
		return nil, fmt.Errorf("it would lie at byte %d of %d", off, m.Size)
	}
	b := &block{make([]byte, min(metadataLen, m.Size-off))}
	if err := disk.ReadFull(m.R, b.raw, off); err != nil {
		return nil, err
	}
	if string(b.raw[:len(fveMagic)]) != fveMagic {
		return nil, errors.New("it has no signature")
	}
	n := int64(le.Uint16(b.raw[blockSize:]))
	switch b.version() {
	case 1:
	case 2:
		n *= 16
	default:
		return nil, fmt.Errorf("version %d of metadata isn't known", b.version())
	}
	if n < blockLen+setLen || n > int64(len(b.raw))-checkLen {
		return nil, fmt.Errorf("it says that it has %d bytes", n)
	}
	if sum := crc32.ChecksumIEEE(b.raw[:n]); sum != le.Uint32(b.raw[n+checkCRC:]) {
		return nil, errors.New("its checksum is wrong")
	}
	b.raw = b.raw[:n]
	return b, nil
}

// take takes over what a copy of the metadata says.
func (v *Volume) take(b *block, at []int64) error {
	set := b.raw[blockLen:]
	n := int64(le.Uint32(set[setSize:]))
	if n < setLen || n > int64(len(set)) {
		return fmt.Errorf("its entries would have %d bytes", n)
	}
	v.ID, v.Made = guid(set[setGUID:]), filetime(le.Uint64(set[setMade:]))
	v.State, v.Cipher = State(le.Uint16(b.raw[blockState:])), Cipher(le.Uint16(set[setCipher:]))
	v.done = int64(min(le.Uint64(b.raw[blockVolume:]), uint64(v.size)))
	if v.State == Encrypted {
		v.done = v.size
	}
	if le.Uint32(b.raw[blockConvert:]) != 0 && v.State != Encrypted {
		v.onWrite = true // a stretch is under way, and what of it is enciphered can't be told
	}
	long := int64(metadataLen)
	if b.version() == 1 {
		long = vistaMetadata
	}
	for _, off := range at {
		v.areas = append(v.areas, span.At(off, long).Intersect(span.Span{End: v.size}))
	}
	var err error
	if v.entries, err = entries(set[setLen:n]); err != nil {
		return err
	}
	if b.version() == 1 {
		v.vista.mirror = le.Uint64(b.raw[blockBackup:])
	} else if err := v.start(b); err != nil {
		return err
	}
	for _, e := range v.entries {
		if e.value == valueText && e.kind == typeDescription {
			v.Label = text(e.raw[entryLen:])
		}
		if e.kind == typeVMK && e.value == valueVMK {
			if p, ok := protector(e); ok {
				v.Protectors = append(v.Protectors, p)
			}
		}
	}
	return nil
}

// start says where the start of the volume is kept: by an entry of its own, or by the head of the block.
func (v *Volume) start(b *block) error {
	at, n := le.Uint64(b.raw[blockBackup:]), uint64(le.Uint32(b.raw[blockHeader:]))*uint64(v.sector)
	for _, e := range v.entries {
		if e.kind == typeStart && e.value == valueStart && len(e.raw) >= startLen {
			at, n = le.Uint64(e.raw[startPlace:]), le.Uint64(e.raw[startBytes:])
		}
	}
	sector := uint64(v.sector)
	if at > uint64(v.size) || n > uint64(v.size)-at || at < n || n == 0 || at%sector != 0 || n%sector != 0 {
		return fmt.Errorf("%d bytes of its start would be kept at byte %d", n, at)
	}
	v.header, v.backup = int64(n), int64(at)
	v.areas = append(v.areas, span.At(v.backup, v.header))
	return nil
}

// entry is an entry of the metadata.
type entry struct {
	kind, value uint16
	raw         []byte // with its head
}

// entries reads a list of them. It ends at the end, or where an entry has no size.
func entries(b []byte) ([]entry, error) {
	var out []entry
	for len(b) >= entryLen {
		n := int(le.Uint16(b[entrySize:]))
		if n == 0 {
			break
		}
		if n < entryLen || n > len(b) || len(out) == maxEntries {
			return nil, fmt.Errorf("entry %d would have %d of %d bytes", len(out)+1, n, len(b))
		}
		out = append(out, entry{le.Uint16(b[entryType:]), le.Uint16(b[entryValue:]), b[:n]})
		b = b[n:]
	}
	return out, nil
}

// nested are the entries within one, from byte at of it on.
func (e entry) nested(at int) []entry {
	if len(e.raw) < at {
		return nil
	}
	out, err := entries(e.raw[at:])
	if err != nil {
		return nil
	}
	return out
}

// first is the first of entries that holds a kind of value.
func first(all []entry, value uint16, least int) (entry, bool) {
	i := slices.IndexFunc(all, func(e entry) bool { return e.value == value && len(e.raw) >= least })
	if i < 0 {
		return entry{}, false
	}
	return all[i], true
}

// guid is a GUID as people write it.
func guid(b []byte) string {
	return fmt.Sprintf("%08X-%04X-%04X-%04X-%012X", le.Uint32(b), le.Uint16(b[4:]), le.Uint16(b[6:]), b[8:10], b[10:16])
}

// filetime is a time of Windows: so many tenths of microseconds since 1601.
func filetime(n uint64) time.Time {
	const epoch = 116444736000000000
	if n < epoch || n > 1<<62 {
		return time.Time{}
	}
	return time.Unix(0, 0).Add(time.Duration(n-epoch) * filetimeUnit).UTC()
}

// text is a text of 16-bit units.
func text(b []byte) string {
	b = b[:min(len(b), maxText)&^1]
	if i := bytes.Index(b, []byte{0, 0, 0}); i >= 0 {
		b = b[:(i+1)&^1]
	}
	return units.Visible(utf16Text(b))
}
