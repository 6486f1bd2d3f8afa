package ldm

// What lies where in the database of a dynamic disk, as the Linux kernel's block/partitions/ldm.h and its documentation
// have it. Numbers are big-endian; places on the disk are counted in its sectors.

// The private header. By MBR it is in sector 6, by GPT in the last sector of the database's part; a copy is in the last
// sector of the database.
const (
	headMagic   = "PRIVHEAD"
	headMBR     = 6 // sector
	headMajor   = 0x0C
	headMinor   = 0x0E
	headDisk    = 0x30 // GUIDs and names are text, ended by a zero byte
	headGroup   = 0xB0
	headName    = 0xF0
	headStart   = 0x11B // of the area that volumes lie in
	headLen     = 0x123
	headDB      = 0x12B // of the database
	headDBLen   = 0x133
	guidLen     = 64
	nameLen     = 32
	headMajorOK = 2
)

// The table of contents, in the sectors 1 and 2 of the database and in two before its end, names two areas in it.
const (
	tocMagic  = "TOCBLOCK"
	tocFirst  = 0x24
	tocLen    = 0x22
	tocAreas  = 2
	tocStart  = 0x0A // in an area's description: sectors of the database
	tocSize   = 0x12
	tocConfig = "config"
)

// The head of the area with the records.
const (
	dbMagic     = "VMDB"
	dbLast      = 0x04 // how many records there are, with those that the head takes the place of
	dbRecord    = 0x08 // bytes
	dbFirst     = 0x0C // bytes from the head on
	dbStatus    = 0x10
	dbMajor     = 0x12
	dbMinor     = 0x14
	dbGroup     = 0x35
	dbCommitted = 0x75
	dbPending   = 0x7D
	dbMajorOK   = 4
	dbSettled   = 1 // status: nothing is being changed
)

// A record: one of several fragments, or whole.
const (
	recMagic  = "VBLK"
	recGroup  = 0x08
	recIndex  = 0x0C
	recCount  = 0x0E
	recHead   = 0x10
	recFlags  = 0x02 // from here on in bytes of the fragments put together
	recKind   = 0x03
	recLength = 0x04
	recBody   = 0x08
)

// Kinds of records. The high digit is the revision.
const (
	kindComponent = 0x32
	kindPartition = 0x33
	kindDisk      = 0x34
	kindGroup     = 0x35
	kindDisk2     = 0x44
	kindGroup2    = 0x45
	kindVolume    = 0x51
)

// How a component is laid out.
const (
	layStriped = 1
	laySpanned = 2
	layRAID    = 3
)

// Flags of records.
const (
	flagStripes = 0x10 // component: with the size of stripes and the number of columns
	flagIndex   = 0x08 // partition: with its column
	flagID1     = 0x08 // volume: what else it bears
	flagID2     = 0x20
	flagSize2   = 0x80
	flagHint    = 0x02
)

// active is the state of what is in use.
const active = "ACTIVE"

// Entries of an MBR (UEFI Specification 2.10, section 5.2), and the kinds that matter.
const (
	mbrEntries    = 446
	mbrEntryLen   = 16
	mbrKind       = 4
	mbrDynamic    = 0x42
	mbrProtective = 0xEE
)

// Bounds.
const (
	maxDatabase  = 16 << 20 // bytes
	maxFragments = 64       // of a record
	minRecord    = 64       // bytes
	maxRecord    = 4096
	maxSectors   = 1 << 52
)
