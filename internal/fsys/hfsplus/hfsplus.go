// Package hfsplus knows HFS Plus and HFSX (Apple's Technical Note TN1150, "HFS Plus Volume Format"), on a part of their
// own or wrapped in an HFS volume. It tells which blocks are in use by the allocation file, follows catalog, extents
// and attributes, and reads files; it never writes by itself.
//
// Limits: a journal on another device makes the volume one that isn't quiet, and so does one that wasn't replayed.
package hfsplus

import (
	"crypto/md5"
	"encoding/binary"
	"fmt"
	"io"
	"unicode/utf16"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Family makes HFS Plus known.
func Family() fsys.Family {
	return fsys.Family{Name: "hfsplus", Probe: Probe, Mirrors: mirrors, Makers: []fsys.Maker{maker()}}
}

// Volume is an HFS Plus volume. Offsets and sizes are in bytes of its part.
type Volume struct {
	ground
	info    fsys.Info
	head    []byte // the volume header
	part    int64  // bytes
	end     int64  // up to where it may reach
	wrapped bool

	bitmap     fork
	catalog    catalog
	attributes *attributes // nil without any

	rest fsys.Rest
	// settled says that it wasn't unmounted, and that its journal has nothing that isn't done.
	settled bool
	// raw is the volume as it lies there, where the journal changes it, and changed is what it does; nil otherwise.
	raw     *Volume
	changed *replay
}

// Probe recognises HFS Plus by its volume header.
func Probe(r io.ReaderAt, size int64, _ int) (fsys.Volume, error) {
	b := make([]byte, headerLen)
	if n, _ := r.ReadAt(b, headerAt); n < len(b) {
		return nil, nil
	}
	v := &Volume{ground: ground{r: r}, head: b, part: size}
	end := size
	if binary.BigEndian.Uint16(b) == signHFS {
		at, n, ok := embedded(b)
		if !ok {
			return nil, nil
		}
		if at+n > size {
			return nil, fsys.Contradiction(headerAt+wrapStart, "the volume wrapped in HFS ends at byte %d, beyond "+
				"the part of %d bytes", at+n, size)
		}
		v.at, v.wrapped, end = at, true, at+n
		if err := disk.ReadFull(r, b, at+headerAt); err != nil {
			return nil, err
		}
	}
	known := signed(b)
	switch {
	case !known && v.wrapped:
		return nil, fsys.Contradiction(v.at+headerAt, "the HFS volume should wrap one of HFS Plus, and there is none")
	case !known:
		return nil, nil
	}
	v.end = end
	if err := v.readHeader(); err != nil {
		return nil, err
	}
	if err := v.begin(); err != nil {
		return nil, err
	}
	return v, v.open()
}

// signed says whether a volume header is one of HFS Plus or HFSX.
func signed(b []byte) bool {
	be := binary.BigEndian
	s, version := be.Uint16(b[headSignature:]), be.Uint16(b[headVersion:])
	return s == signPlus && version == versionPlus || s == signX && version == versionX
}

// embedded is where an HFS volume says that it wraps another one.
func embedded(b []byte) (at, n int64, ok bool) {
	be := binary.BigEndian
	if be.Uint16(b[wrapSignature:]) != signPlus {
		return 0, 0, false
	}
	block := int64(be.Uint32(b[wrapBlockSize:]))
	at = int64(be.Uint16(b[wrapFirst:]))*wrapSector + int64(be.Uint16(b[wrapStart:]))*block
	return at, int64(be.Uint16(b[wrapCount:])) * block, true
}

// readHeader takes the volume header apart.
func (v *Volume) readHeader() error {
	be := binary.BigEndian
	v.unit, v.blocks = int64(be.Uint32(v.head[headBlockSize:])), int64(be.Uint32(v.head[headBlocks:]))
	at := v.at + headerAt
	switch {
	case v.unit < minBlock || v.unit > maxBlock || v.unit&(v.unit-1) != 0:
		return fsys.Contradiction(at+headBlockSize, "HFS Plus with blocks of %d bytes is not known", v.unit)
	case v.blocks == 0 || v.blocks > (v.end-v.at)/v.unit:
		return fsys.Contradiction(at+headBlocks, "the HFS Plus volume claims %d blocks of %d bytes, more than its "+
			"place of %d bytes holds", v.blocks, v.unit, v.end-v.at)
	case v.blocks*v.unit < 4*headerAt:
		return fsys.Contradiction(at+headBlocks, "an HFS Plus volume of %d bytes is too small", v.blocks*v.unit)
	}
	kind := "HFS+"
	if be.Uint16(v.head[headSignature:]) == signX {
		kind = "HFSX"
	}
	v.info = fsys.Info{Kind: kind, Size: v.at + v.blocks*v.unit, Unit: v.unit, ID: uuidOf(v.head[headIdentity:])}
	return nil
}

// namespace is what the identity of a volume is hashed with to make a UUID of it, as the system does: the UUID
// b3e20f39-f292-11d6-97a4-00306543ecac.
var namespace = [16]byte{0xB3, 0xE2, 0x0F, 0x39, 0xF2, 0x92, 0x11, 0xD6, 0x97, 0xA4, 0x00, 0x30, 0x65, 0x43, 0xEC, 0xAC}

// uuidOf makes a UUID by name (RFC 9562, version 3) of the eight bytes that identify a volume; "" where they are zeros.
func uuidOf(id []byte) string {
	if binary.BigEndian.Uint64(id) == 0 {
		return ""
	}
	u := md5.Sum(append(namespace[:], id[:8]...)) //nolint:gosec // that is how it is defined
	u[6], u[8] = u[6]&0x0F|0x30, u[8]&0x3F|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", u[:4], u[4:6], u[6:8], u[8:10], u[10:])
}

// open finds the trees and the label.
func (v *Volume) open() error {
	v.bitmap = v.specialFork(headBitmap, idBitmap)
	var err error
	if v.extents, err = v.openTree(v.specialFork(headExtents, idExtents), extentKeyLen); err != nil {
		return fmt.Errorf("extents overflow file: %w", err)
	}
	if v.catalog.btree, err = v.openTree(v.specialFork(headCatalog, idCatalog), catalogKey); err != nil {
		return fmt.Errorf("catalog: %w", err)
	}
	if f := v.specialFork(headAttributesF, idAttributes); f.size > 0 {
		t, err := v.openTree(f, attrKey)
		if err != nil {
			return fmt.Errorf("attributes file: %w", err)
		}
		v.attributes = &attributes{t, v}
	}
	v.catalog.folds = v.info.Kind == "HFS+" || v.catalog.compare == compareFolded
	if v.info.Kind == "HFSX" && v.catalog.compare != compareFolded && v.catalog.compare != compareBinary {
		return fsys.Contradiction(v.at, "the catalog orders names in a way that isn't known (%#x)", v.catalog.compare)
	}
	if v.info.Label, err = v.label(); err != nil {
		return fmt.Errorf("name of the volume: %w", err)
	}
	return nil
}

// label is the name of the root folder.
func (v *Volume) label() (string, error) {
	rec, err := v.catalog.thread(idRoot)
	if err != nil {
		return "", err
	}
	return units.Visible(string(utf16.Decode(rec.name))), nil
}

// Info describes the volume.
func (v *Volume) Info() fsys.Info { return v.info }

// mirrors is the copy of the volume header (Volume Header).
func mirrors(r io.ReaderAt, size, _ int64) []fsys.Mirror {
	for _, at := range []int64{headerAt, size - copyAt} {
		b := make([]byte, headerLen)
		if disk.ReadFull(r, b, at) == nil && signed(b) {
			return []fsys.Mirror{{Of: span.At(headerAt, headerLen), At: span.At(size-copyAt, headerLen)}}
		}
	}
	return nil
}
