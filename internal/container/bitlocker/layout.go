// Package bitlocker reads volumes that Windows encrypts by BitLocker: what protects them, and, once one of their keys
// is
// given, what they hold. It decodes and deciphers bytes and knows no file system.
//
// The structures are those that are published as "BitLocker Drive Encryption (BDE) format specification" (Joachim
// Metz),
// and as "AES-CBC + Elephant diffuser" (Niels Ferguson) for the older ciphers.
package bitlocker

import "encoding/binary"

var le = binary.LittleEndian

// The first sector of a volume.
const (
	headLen     = 512
	headSign    = 3
	headSector  = 0x0B // bytes in a sector, 2
	headCluster = 0x0D // sectors in a cluster
	headMedia   = 0x15
	headFAT     = 0x47 // name and kind of a FAT32
	headVista   = 0x38 // of Vista's: the cluster in which the first metadata lie, 8
	headGUID    = 0xA0
	headBlocks  = 0xB0  // where the metadata lie, 3 × 8
	headEOW     = 0xC8  // of one that is converted as it is written
	headToGo    = 0x1A8 // GUID of a To Go volume
	headToGoAt  = 0x1B8 // and where its metadata lie
	fveMagic    = "-FVE-FS-"
	ntfsSign    = "NTFS    "
	vistaPlain  = 16 << 9 // bytes at the start of Vista's volumes that aren't enciphered
	metadataLen = 64 << 10
	// vistaMetadata is how much of that Vista's take.
	vistaMetadata = 16 << 10
	copies        = 3
	maxMetadata   = metadataLen
	maxSector     = 4096
	leastSector   = 512
	guidBDE       = "\x3b\xd6\x67\x49\x29\x2e\xd8\x4a\x83\x99\xf6\xa3\x39\xe3\xd0\x01"
	guidEOW       = "\x3b\x4d\xa8\x92\x80\xdd\x0e\x4d\x9e\x4e\xb1\xe3\x28\x4e\xae\xd8"
	guidLen       = 16
	filetimeUnit  = 100 // nanoseconds
)

// A block of metadata: its own head, then that of the entries, then the entries.
const (
	blockLen     = 64
	blockSize    = 8 // 2; in units of 16 bytes from version 2 on
	blockVersion = 10
	blockState   = 12
	blockNext    = 14
	blockVolume  = 16 // bytes that are enciphered, 8
	blockConvert = 24 // bytes that are being converted, 4
	blockHeader  = 28 // sectors of the volume's start that are kept elsewhere, 4
	blockCopies  = 32 // where all copies lie, 3 × 8
	blockBackup  = 56 // where the start is kept, 8; of Vista's: the cluster of the mirror of the file table

	setLen    = 48 // from blockLen on
	setSize   = 0  // 4
	setGUID   = 16
	setCipher = 36 // 2
	setMade   = 40 // FILETIME

	checkLen = 8 // after the block: size 2, version 2, CRC-32 of the block 4
	checkCRC = 4
)

// An entry.
const (
	entryLen   = 8
	entrySize  = 0
	entryType  = 2
	entryValue = 4
)

// What entries are about, and what they hold.
const (
	typeVMK         = 0x0002
	typeFVEK        = 0x0003
	typeStartupKey  = 0x0006
	typeDescription = 0x0007
	typeStart       = 0x000F // where the start of the volume is kept

	valueKey      = 0x0001
	valueText     = 0x0002
	valueStretch  = 0x0003
	valueSealed   = 0x0005 // AES-CCM
	valueVMK      = 0x0008
	valueExternal = 0x0009
	valueStart    = 0x000F // place 8, bytes 8
)

// Places in values, from the start of the entry.
const (
	vmkGUID     = entryLen
	vmkChanged  = entryLen + 16
	vmkProtect  = entryLen + 26
	vmkNested   = entryLen + 28
	extGUID     = entryLen
	extNested   = entryLen + 24
	stretchSalt = entryLen + 4
	stretchLen  = entryLen + 20
	saltLen     = 16
	sealedNonce = entryLen
	sealedMAC   = entryLen + 12
	sealedBytes = entryLen + 28
	nonceLen    = 12
	macLen      = 16
	startPlace  = entryLen
	startBytes  = entryLen + 8
	startLen    = entryLen + 16
	keyBytes    = entryLen + 4
	stretches   = 1 << 20
	maxEntries  = 1000
	maxText     = 2048 // bytes
)
