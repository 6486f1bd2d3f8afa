package table

import (
	"encoding/binary"
	"fmt"
	"io"

	"twinshelf/internal/span"
)

// Offsets in an MBR (UEFI 2.10, tables 5-1 and 5-2).
const (
	mbrDiskSig   = 440
	mbrEntries   = 446
	mbrEntryLen  = 16
	mbrBootSig   = 510
	mbrActive    = 0x80
	entMBRType   = 4
	entMBRFirst  = 8
	entMBRCount  = 12
	maxChain     = 128 // links of an extended chain that are followed
	maxMBRSector = 1<<32 - 1
)

func hasBootSig(b []byte) bool { return b[mbrBootSig] == 0x55 && b[mbrBootSig+1] == 0xAA }

type mbrEntry struct {
	status, kind byte
	first, count uint32
}

func mbrEntryAt(b []byte, i int) mbrEntry {
	e := b[mbrEntries+i*mbrEntryLen:]
	le := binary.LittleEndian
	return mbrEntry{e[0], e[entMBRType], le.Uint32(e[entMBRFirst:]), le.Uint32(e[entMBRCount:])}
}

func isExtended(kind byte) bool { return kind == 0x05 || kind == 0x0F || kind == 0x85 }

func hasProtective(first []byte) bool {
	if !hasBootSig(first) {
		return false
	}
	for i := range 4 {
		if mbrEntryAt(first, i).kind == mbrProtective {
			return true
		}
	}
	return false
}

// looksLikeMBR tells an MBR from the boot sector of a file system that fills
// the whole disk: every status byte is 0 or 0x80, and some entry is in use.
func looksLikeMBR(first []byte) bool {
	if !hasBootSig(first) {
		return false
	}
	used := false
	for i := range 4 {
		e := mbrEntryAt(first, i)
		if e.status&^mbrActive != 0 {
			return false
		}
		if e.kind != mbrTypeEmpty {
			if e.count == 0 {
				return false
			}
			used = true
		}
	}
	return used
}

func (t *Table) readMBR(r io.ReaderAt, size int64, first []byte) error {
	if !looksLikeMBR(first) {
		return nil
	}
	t.Kind = MBR
	t.ID = fmt.Sprintf("%08x", binary.LittleEndian.Uint32(first[mbrDiskSig:]))
	t.Usable = span.Span{Start: int64(t.Sector), End: min(size, (maxMBRSector+1)*int64(t.Sector))}
	active := 0
	var chain []mbrEntry
	for i := range 4 {
		e := mbrEntryAt(first, i)
		switch {
		case e.kind == mbrTypeEmpty:
			continue
		case isExtended(e.kind):
			chain = append(chain, e)
			continue
		}
		if e.status == mbrActive {
			active++
		}
		t.Parts = append(t.Parts, t.mbrPart(i+1, e, 0, int64(mbrEntries+i*mbrEntryLen)))
	}
	if active > 1 {
		t.find(Warning, mbrEntries, "%d parts are marked as the one to start; boot code expects one", active)
	}
	if len(chain) > 1 {
		t.find(Warning, mbrEntries, "there are %d extended parts; the first one is followed", len(chain))
	}
	if len(chain) > 0 {
		return t.readChain(r, size, chain[0])
	}
	return nil
}

func (t *Table) mbrPart(number int, e mbrEntry, base, at int64) Part {
	s := int64(t.Sector)
	return Part{
		Number: number, Type: fmt.Sprintf("0x%02x", e.kind), Active: e.status == mbrActive, TableAt: at,
		Span: span.At((base+int64(e.first))*s, int64(e.count)*s),
	}
}

// readChain follows the extended chain: each link describes one part relative
// to itself and the next link relative to the start of the extended part.
func (t *Table) readChain(r io.ReaderAt, size int64, ext mbrEntry) error {
	s := int64(t.Sector)
	base := int64(ext.first)
	b := make([]byte, t.Sector)
	seen := map[int64]bool{}
	number := 5
	for lba := base; ; {
		at := lba * s
		if seen[lba] || len(seen) >= maxChain {
			t.find(Damage, at, "the chain of extended parts runs in a circle or is longer than %d links at sector "+
				"%d; the rest is left aside", maxChain, lba)
			return nil
		}
		seen[lba] = true
		if at+s > size {
			t.find(Damage, at, "the chain of extended parts leads to sector %d, beyond the end of the disk", lba)
			return nil
		}
		if err := readAt(r, b, at); err != nil {
			return fmt.Errorf("the chain of extended parts can't be read: %w", err)
		}
		if !hasBootSig(b) {
			t.find(Damage, at, "sector %d should hold a link of the extended chain and doesn't; parts after it are "+
				"not known", lba)
			return nil
		}
		if e := mbrEntryAt(b, 0); e.kind != mbrTypeEmpty && e.count > 0 {
			p := t.mbrPart(number, e, lba, at+mbrEntries)
			p.Logical = true
			t.Parts = append(t.Parts, p)
			number++
		}
		next := mbrEntryAt(b, 1)
		if next.kind == mbrTypeEmpty || next.count == 0 {
			return nil
		}
		lba = base + int64(next.first)
	}
}
