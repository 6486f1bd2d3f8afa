package table

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"strings"
	"unicode/utf16"

	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Offsets in the GPT header (UEFI 2.10, table 5-5) and in an entry (table 5-6).
const (
	gptSignature = "EFI PART"

	hdrRevision   = 8
	hdrSize       = 12
	hdrCRC        = 16
	hdrMyLBA      = 24
	hdrAltLBA     = 32
	hdrFirst      = 40
	hdrLast       = 48
	hdrGUID       = 56
	hdrEntriesLBA = 72
	hdrCount      = 80
	hdrEntrySize  = 84
	hdrEntriesCRC = 88
	hdrMinSize    = 92

	entType  = 0
	entGUID  = 16
	entFirst = 32
	entLast  = 40
	entAttrs = 48
	entName  = 56
	entMin   = 128

	gptRevision1 = 0x00010000
	// maxEntryBytes bounds the entry array: 1,024 entries of 4 KiB.
	maxEntryBytes = 4 << 20
)

// gptGeometry is what is needed to build the same GPT again elsewhere.
type gptGeometry struct {
	first      []byte // the protective MBR as it stands, with any boot code
	header     []byte // the header that was read, whole sector
	entries    []byte // the entry array as it stands
	entriesLBA uint64 // of the primary copy
	count      uint32
	entrySize  uint32
	myLBA      uint64
	altLBA     uint64
}

// gptCopy is one of the two copies of a GPT.
type gptCopy struct {
	gptGeometry
	guid        string
	firstUsable uint64
	lastUsable  uint64
}

// readCopy reads the header at lba and its entries. The error says in words
// what is wrong with this copy; present says whether a header is there at all.
func readCopy(r io.ReaderAt, size int64, sector int, lba uint64) (c *gptCopy, present bool, err error) {
	sectors := uint64(size) / uint64(sector)
	if lba >= sectors {
		return nil, false, fmt.Errorf("sector %d lies beyond the end of the disk", lba)
	}
	h := make([]byte, sector)
	if err := readAt(r, h, int64(lba)*int64(sector)); err != nil {
		return nil, false, err
	}
	if string(h[:8]) != gptSignature {
		return nil, false, fmt.Errorf("sector %d holds no GPT header", lba)
	}
	le := binary.LittleEndian
	hs := le.Uint32(h[hdrSize:])
	if hs < hdrMinSize || int(hs) > sector {
		return nil, true, fmt.Errorf("its header claims a size of %d bytes", hs)
	}
	sum := bytes.Clone(h[:hs])
	le.PutUint32(sum[hdrCRC:], 0)
	if got, want := crc32.ChecksumIEEE(sum), le.Uint32(h[hdrCRC:]); got != want {
		return nil, true, fmt.Errorf("its header's checksum is wrong")
	}
	if got := le.Uint64(h[hdrMyLBA:]); got != lba {
		return nil, true, fmt.Errorf("its header says that it belongs at sector %d", got)
	}
	c = &gptCopy{gptGeometry: gptGeometry{
		header: h, entriesLBA: le.Uint64(h[hdrEntriesLBA:]), count: le.Uint32(h[hdrCount:]),
		entrySize: le.Uint32(h[hdrEntrySize:]),
		myLBA:     lba, altLBA: le.Uint64(h[hdrAltLBA:]),
	}, guid: GUIDString(h[hdrGUID:]), firstUsable: le.Uint64(h[hdrFirst:]), lastUsable: le.Uint64(h[hdrLast:])}
	if c.entrySize < entMin || c.entrySize%8 != 0 || uint64(c.count)*uint64(c.entrySize) > maxEntryBytes {
		return nil, true, fmt.Errorf("its header claims %d entries of %d bytes", c.count, c.entrySize)
	}
	n := int64(c.count) * int64(c.entrySize)
	if c.entriesLBA >= sectors || int64(c.entriesLBA)*int64(sector)+n > size {
		return nil, true, fmt.Errorf("its entries lie beyond the end of the disk")
	}
	c.entries = make([]byte, n)
	if err := readAt(r, c.entries, int64(c.entriesLBA)*int64(sector)); err != nil {
		return nil, true, err
	}
	if crc32.ChecksumIEEE(c.entries) != le.Uint32(h[hdrEntriesCRC:]) {
		return nil, true, fmt.Errorf("the checksum of its entries is wrong")
	}
	return c, true, nil
}

// readGPT reads both copies and takes the primary one, or the back-up when the
// primary is damaged. It returns false when the disk has no GPT.
func (t *Table) readGPT(r io.ReaderAt, size int64, first []byte) (bool, error) {
	s := int64(t.Sector)
	lastLBA := uint64(size/s) - 1
	if lastLBA < 2 {
		return false, nil
	}
	main, mainThere, mainErr := readCopy(r, size, t.Sector, 1)
	backLBA := lastLBA
	if main != nil && main.altLBA <= lastLBA {
		backLBA = main.altLBA
	}
	back, backThere, backErr := readCopy(r, size, t.Sector, backLBA)
	protective := hasProtective(first)
	if main == nil && back == nil {
		if mainThere || backThere && protective {
			t.Kind = GPT
			t.find(Damage, s, "both copies of the GPT are damaged: the first one: %v; the back-up: %v", mainErr,
				backErr)
			return true, nil
		}
		return false, nil
	}
	if !protective && looksLikeMBR(first) {
		// Every system goes by sector 0: the GPT after it is a leftover, however whole it is.
		t.find(Warning, s, "an old GPT lies after the MBR; the disk is laid out by the MBR")
		return false, nil
	}
	if main == nil && !mainThere && !protective {
		// A back-up alone, after something that isn't a GPT disk: a leftover.
		t.find(Note, int64(backLBA)*s, "an old GPT back-up copy lies at the end of the disk; the disk isn't laid "+
			"out by it")
		return false, nil
	}
	use := main
	switch {
	case main == nil:
		use = back
		t.FromBackup = true
		t.find(Damage, s, "the first copy of the GPT is damaged (%v); the back-up copy at sector %d is used", mainErr,
			backLBA)
	case back == nil && main.altLBA > lastLBA:
		t.find(Damage, s, "the GPT says its back-up copy is at sector %d, but the disk ends at sector %d: the image "+
			"is cut off or the table belongs to a larger disk", main.altLBA, lastLBA)
	case back == nil:
		t.find(Damage, int64(backLBA)*s, "the back-up copy of the GPT is damaged (%v); the first copy is used", backErr)
	case !bytes.Equal(main.entries, back.entries) || main.guid != back.guid:
		t.find(Warning, int64(backLBA)*s, "the two copies of the GPT differ; the first copy is used")
	}
	if main != nil && back != nil && backLBA != lastLBA {
		t.find(Note, int64(backLBA)*s, "the GPT's back-up copy is at sector %d, not in the last sector %d: the "+
			"table was made for a smaller disk", backLBA, lastLBA)
	}
	if !protective {
		t.find(Warning, 0, "the protective MBR is missing: tools that know only MBR take the disk for empty")
	}
	t.Kind, t.ID, t.gpt = GPT, use.guid, use.gptGeometry
	t.gpt.first = first
	if t.FromBackup {
		t.gpt.entriesLBA, t.gpt.myLBA = 2, 1
	}
	if use.lastUsable < use.firstUsable || use.lastUsable > lastLBA {
		t.find(Damage, s, "the GPT's usable sectors %d to %d don't fit the disk", use.firstUsable, use.lastUsable)
		use.lastUsable = min(use.lastUsable, lastLBA)
	}
	t.Usable = span.Span{Start: int64(min(use.firstUsable, lastLBA)) * s, End: (int64(use.lastUsable) + 1) * s}
	t.gptParts(lastLBA)
	return true, nil
}

func (t *Table) gptParts(lastLBA uint64) {
	le := binary.LittleEndian
	for i := range int(t.gpt.count) {
		e := t.gpt.entries[i*int(t.gpt.entrySize):][:t.gpt.entrySize]
		kind := GUIDString(e[entType:])
		if kind == typeUnused {
			continue
		}
		first, last := le.Uint64(e[entFirst:]), le.Uint64(e[entLast:])
		at := int64(t.gpt.entriesLBA)*int64(t.Sector) + int64(i)*int64(t.gpt.entrySize)
		if last < first || first > 1<<51 || last > 1<<51 {
			t.find(Damage, at, "entry %d runs from sector %d to sector %d, which can't be; it is left aside", i+1,
				first, last)
			continue
		}
		t.Parts = append(t.Parts, Part{
			Number: i + 1, Type: kind, GUID: GUIDString(e[entGUID:]), Name: nameString(e[entName:entMin]),
			Attrs:   le.Uint64(e[entAttrs:]),
			Span:    span.Span{Start: int64(first) * int64(t.Sector), End: (int64(last) + 1) * int64(t.Sector)},
			TableAt: at,
		})
	}
}

// GUIDString writes the 16 bytes as a GUID; the first three fields are
// little-endian (UEFI 2.10, appendix A).
func GUIDString(b []byte) string {
	le := binary.LittleEndian
	return fmt.Sprintf("%08X-%04X-%04X-%X-%X", le.Uint32(b), le.Uint16(b[4:]), le.Uint16(b[6:]), b[8:10], b[10:16])
}

// NewGUID makes a GUID of random bytes (version 4; RFC 9562, section 5.4).
func NewGUID(random [16]byte) string {
	b := random
	b[6], b[8] = b[6]&0x0F|0x40, b[8]&0x3F|0x80
	return fmt.Sprintf("%X-%X-%X-%X-%X", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// GUIDBytes is how a GUID stands in structures: the first three groups with the lowest byte first.
func GUIDBytes(s string) ([]byte, error) {
	var a uint32
	var b, c uint16
	var d, e []byte
	if n, err := fmt.Sscanf(s, "%08X-%04X-%04X-%X-%X", &a, &b, &c, &d, &e); err != nil || n != 5 || len(d) != 2 ||
		len(e) != 6 {
		return nil, fmt.Errorf("%q is not a GUID such as %s", s, TypeESP)
	}
	le := binary.LittleEndian
	out := le.AppendUint16(le.AppendUint16(le.AppendUint32(nil, a), b), c)
	return append(append(out, d...), e...), nil
}

// nameString decodes the UTF-16LE name of an entry.
func nameString(b []byte) string {
	u := make([]uint16, 0, len(b)/2)
	for i := 0; i+1 < len(b); i += 2 {
		c := binary.LittleEndian.Uint16(b[i:])
		if c == 0 {
			break
		}
		u = append(u, c)
	}
	return units.Visible(strings.ToValidUTF8(string(utf16.Decode(u)), "\uFFFD"))
}
