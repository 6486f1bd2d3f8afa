package store

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
)

// A pack is a file header, entries one after the other, and a table of the
// entries at the end. docs/shelf-format.md, "Packs".
const (
	entryMagic = "TSBK"
	entryLen   = 96

	entCodec   = 4
	entStored  = 8
	entPlain   = 12
	entNameOff = 16
	entNonce   = 48
	entTag     = entNonce + nonceRoom
	entDataCRC = 88
	entCRC     = 92

	tableMagic    = "TSPT"
	tableEntryLen = 48
	trailerLen    = 32
)

// place is where a block is stored.
type place struct {
	pack   string
	offset int64 // of the entry's header
	stored uint32
}

type packEntry struct {
	name   Name
	offset int64
	stored uint32
	plain  uint32
}

func packPath(id string) string { return packFolder + "/" + id + ".pack" }

// entryBound is how many bytes of an entry's header its tag covers.
const entryBound = entNonce

// encodeEntry makes the header of an entry and seals stored in place.
func (k *keyring) encodeEntry(name Name, codec byte, stored []byte, plain int) []byte {
	b := make([]byte, entryLen)
	le := binary.LittleEndian
	copy(b, entryMagic)
	b[entCodec] = codec
	le.PutUint32(b[entStored:], uint32(len(stored)))
	le.PutUint32(b[entPlain:], uint32(plain))
	copy(b[entNameOff:], name[:])
	nonce, tag := k.seal(stored, b[:entryBound])
	copy(b[entNonce:], nonce[:])
	copy(b[entTag:], tag[:])
	le.PutUint32(b[entDataCRC:], crc32.Checksum(stored, castagnoli))
	le.PutUint32(b[entCRC:], crc32.Checksum(b[:entCRC], castagnoli))
	return b
}

type entryHeader struct {
	codec         byte
	stored, plain uint32
	name          Name
	nonce         [nonceRoom]byte
	tag           [tagRoom]byte
	dataCRC       uint32
}

func decodeEntry(file string, off int64, b []byte) (entryHeader, error) {
	le := binary.LittleEndian
	if len(b) < entryLen || string(b[:4]) != entryMagic ||
		crc32.Checksum(b[:entCRC], castagnoli) != le.Uint32(b[entCRC:]) {
		return entryHeader{}, &HurtError{file, off, "the header of a block is not what was written"}
	}
	return entryHeader{b[entCodec], le.Uint32(b[entStored:]), le.Uint32(b[entPlain:]), Name(b[entNameOff:][:32]),
		[nonceRoom]byte(b[entNonce:]), [tagRoom]byte(b[entTag:]), le.Uint32(b[entDataCRC:])}, nil
}

// encodeTable is the table and the trailer that end a pack; at is where it begins.
func encodeTable(entries []packEntry, at int64) []byte {
	b := make([]byte, 0, len(entries)*tableEntryLen+trailerLen)
	le := binary.LittleEndian
	for _, e := range entries {
		b = append(b, e.name[:]...)
		b = le.AppendUint64(b, uint64(e.offset))
		b = le.AppendUint32(b, e.stored)
		b = le.AppendUint32(b, e.plain)
	}
	t := make([]byte, trailerLen)
	copy(t, tableMagic)
	le.PutUint32(t[4:], uint32(len(entries)))
	le.PutUint64(t[8:], uint64(at))
	le.PutUint32(t[16:], crc32.Checksum(b, castagnoli))
	le.PutUint32(t[28:], crc32.Checksum(t[:28], castagnoli))
	return append(b, t...)
}

// readTable gives the entries of a finished pack from its table, or by walking
// from entry to entry when the table is missing or damaged. A walk ends at the
// first entry that isn't whole; what stands before it is good.
func readTable(r io.ReaderAt, size int64, file string) ([]packEntry, error) {
	h := make([]byte, headerLen)
	if n, err := r.ReadAt(h, 0); n < headerLen {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if _, err := decodeHeader(file, h, kindPack); err != nil {
		return nil, err
	}
	if entries, ok := tableOf(r, size); ok {
		return entries, nil
	}
	return walkPack(r, size, file), nil
}

func tableOf(r io.ReaderAt, size int64) ([]packEntry, bool) {
	le := binary.LittleEndian
	t := make([]byte, trailerLen)
	if size < headerLen+trailerLen {
		return nil, false
	}
	if n, _ := r.ReadAt(t, size-trailerLen); n < trailerLen || string(t[:4]) != tableMagic ||
		crc32.Checksum(t[:28], castagnoli) != le.Uint32(t[28:]) {
		return nil, false
	}
	count, at := int64(le.Uint32(t[4:])), int64(le.Uint64(t[8:]))
	if at < headerLen || at+count*tableEntryLen+trailerLen != size {
		return nil, false
	}
	b := make([]byte, count*tableEntryLen)
	if n, _ := r.ReadAt(b, at); n < len(b) || crc32.Checksum(b, castagnoli) != le.Uint32(t[16:]) {
		return nil, false
	}
	entries := make([]packEntry, count)
	for i := range entries {
		e := b[i*tableEntryLen:]
		entries[i] = packEntry{Name(e[:32]), int64(le.Uint64(e[32:])), le.Uint32(e[40:]), le.Uint32(e[44:])}
	}
	return entries, true
}

func walkPack(r io.ReaderAt, size int64, file string) []packEntry {
	var entries []packEntry
	b := make([]byte, entryLen)
	for off := int64(headerLen); ; {
		if n, _ := r.ReadAt(b, off); n < entryLen {
			return entries
		}
		e, err := decodeEntry(file, off, b)
		if err != nil || off+entryLen+int64(e.stored) > size {
			return entries
		}
		entries = append(entries, packEntry{e.name, off, e.stored, e.plain})
		off += entryLen + int64(e.stored)
	}
}
