// Package lvm decodes volume groups of the Linux logical volume manager, second version: physical volumes with their
// labels and metadata areas, and logical volumes that are linear or striped. Others are known to be there, with the
// room that they take.
//
// Sources: "Logical Volume Manager (LVM) format" by the libvslvm project (sections 3 to 5), and the comments of the
// lvm2 source (lib/format_text/layout.h, lib/label/label.c).
//
// Limits: see the constants; what exceeds them isn't followed.
package lvm

import (
	"encoding/binary"
	"hash/crc32"
)

var le = binary.LittleEndian

// sector is what the on-disk structures count in, whatever the disk's own sectors are; bytes.
const sector = 512

// The label stands in one of the first labelSectors sectors.
const (
	labelSectors = 4
	labelMagic   = "LABELONE"
	labelType    = "LVM2 001"

	labelNumber = 8  // number of its own sector, u64
	labelCRC    = 16 // of what follows it in its sector, u32
	labelOffset = 20 // of the physical volume's header, from the label's start, u32
	labelKind   = 24
	labelLen    = 32
)

// The header of a physical volume. Lists of areas follow it: data, then metadata, each ended by an empty entry.
const (
	pvID    = 0 // 32 letters
	pvIDLen = 32
	pvSize  = 32 // of the device, bytes, u64
	pvAreas = 40

	areaLen  = 16 // start and length in bytes, u64 each
	maxAreas = 8
)

// The header of a metadata area; the text is in what follows it, which is written round and round.
const (
	mdaMagic = " LVM2 x[5A%r0N*>"

	mdaCRC     = 0 // of the rest of the header, u32
	mdaSign    = 4
	mdaVersion = 20 // u32
	mdaStart   = 24 // of the area on the device, bytes, u64
	mdaSize    = 32 // bytes, u64
	mdaSlots   = 40
	mdaLen     = 512

	slotOffset = 0  // of the text from the area's start, bytes, u64
	slotSize   = 8  // of the text, bytes, u64
	slotCRC    = 16 // of the text, u32
	slotFlags  = 20 // u32
	slotLen    = 24

	flagIgnored = 1
)

// maxText bounds the metadata text, in bytes.
const maxText = 16 << 20

// checksum is the CRC-32 that the format uses: the usual polynomial, a start of its own, and no last inversion.
func checksum(b []byte) uint32 {
	const start = 0xF597A6CF
	return ^crc32.Update(^uint32(start), crc32.IEEETable, b)
}
