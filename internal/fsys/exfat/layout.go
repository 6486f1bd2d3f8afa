package exfat

// Where everything lies on the disk, in one place for what reads, checks, makes and changes the file system. Source:
// the specification that the package names; its sections stand in parentheses. All is little-endian. Offsets and
// lengths are in bytes.

// The main boot sector (section 3.1). A boot region is twelve sectors; the last repeats the checksum of the others
// (3.4).
const (
	bootName      = 3
	bootZero      = 11 // 53 bytes where FAT has its parameters
	bootZeroLen   = 53
	bootPartition = 64
	bootLength    = 72
	bootFAT       = 80
	bootFATLength = 84
	bootHeap      = 88
	bootClusters  = 92
	bootRoot      = 96
	bootSerial    = 100
	bootRevision  = 104
	bootFlags     = 106
	bootSector    = 108
	bootCluster   = 109
	bootFATs      = 110
	bootDrive     = 111
	bootPercent   = 112
	bootCode      = 120
	bootSignature = 510

	regionSectors  = 12
	checksumSector = 11

	flagDirty  = 0x0002
	flagMedium = 0x0004
)

// The FAT (section 4.1).
const (
	firstCluster = 2
	maxClusters  = 1<<32 - 11
	badCluster   = 0xFFFFFFF7
	endOfChain   = 0xFFFFFFFF
)

// A directory entry (sections 6 and 7). A file's set has one for the file, one for its stream, and the name in pieces
// of 15 units (7.4, 7.6 and 7.7).
const (
	entryLen  = 32
	entFirst  = 20
	entLength = 24

	typeEnd       = 0x00
	typeBitmap    = 0x81
	typeUpcase    = 0x82
	typeLabel     = 0x83
	typeFile      = 0x85
	typeStream    = 0xC0
	typeName      = 0xC1
	typeInUse     = 0x80
	typeSecondary = 0x40
	typeBenign    = 0xA0 // from here on kinds that may be passed over

	upcaseSumAt = 4
	maxLabel    = 11 // units

	fileCount    = 1 // of the entries that follow
	fileSum      = 2
	fileAttr     = 4
	fileMade     = 8
	fileModified = 12
	fileRead     = 16
	fileMade10   = 20
	fileMod10    = 21
	fileMadeZone = 22
	fileModZone  = 23
	fileReadZone = 24

	streamFlags   = 1
	streamNameLen = 3
	streamValid   = 8

	flagAllocated  = 1
	flagContiguous = 2
	nameUnits      = 15
	minSecondary   = 2
	maxSecondary   = 18

	attrReadOnly = 0x01
	attrHidden   = 0x02
	attrSystem   = 0x04
	attrDir      = 0x10
	attrArchive  = 0x20
)
