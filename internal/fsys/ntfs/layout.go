package ntfs

// Where everything lies on the disk, in one place for what reads, checks, makes and changes the file system. Sources:
// those that the package names; their sections stand in parentheses. All is little-endian. Offsets and lengths are in
// bytes.

// The boot sector ("NTFS Boot Sector").
const (
	bootJump        = 0
	bootOEM         = 3
	bootSectorSize  = 11
	bootClusterSize = 13 // in sectors, or 2^-n when above 0x80
	bootMedia       = 21
	bootTrack       = 24
	bootHeads       = 26
	bootHidden      = 28
	bootReserved    = 36
	bootSectors     = 40
	bootMFT         = 48
	bootMFTMirror   = 56
	bootRecordSize  = 64 // in clusters, or 2^-n bytes when negative
	bootIndex       = 68
	bootSerial      = 72
	bootNewCode     = 84
	bootLen         = 512
	bootBytes       = 8192 // the boot sector and the loader after it
)

// File records with fixed numbers ("NTFS System Files").
const (
	recMFT     = 0
	recMirror  = 1
	recLog     = 2
	recVolume  = 3
	recAttrDef = 4
	recRoot    = 5
	recBitmap  = 6
	recBoot    = 7
	recBadClus = 8
	recSecure  = 9
	recUpcase  = 10
	recExtend  = 11
	recQuota   = 24
	recObjID   = 25
	recReparse = 26

	firstShown = 16 // records below are the volume's own, among them $Extend with more of them
	firstUser  = 24 // records below belong to the file system itself
)

// A file record ("NTFS Master File Table"). The end of each stride of it is replaced by a fix-up.
const (
	recMagic        = "FILE"
	recUSAOffset    = 4
	recUSACount     = 6
	recSequence     = 16
	recLinks        = 18
	recAttrsOffset  = 20
	recFlags        = 22
	recBytesInUse   = 24
	recAllocated    = 28
	recBaseRecord   = 32
	recNextInstance = 40
	recNumberAt     = 44

	recordInUse    = 0x0001
	recordIsDir    = 0x0002
	recordIsExtend = 0x0004
	recordIsView   = 0x0008

	recNumberBytes = 1<<48 - 1 // of a reference: the number, below the sequence
	fixupStride    = 512
	usaOffset      = 48 // of new records
	usn            = 1  // of every fix-up of new records
)

// The kinds of attributes ("NTFS File Attributes").
const (
	attrStandard   = 0x10
	attrList       = 0x20
	attrFileName   = 0x30
	attrVolumeName = 0x60
	attrVolumeInfo = 0x70
	attrData       = 0x80
	attrIndexRoot  = 0x90
	attrIndexAlloc = 0xA0
	attrBitmap     = 0xB0
	attrReparse    = 0xC0
	attrEnd        = 0xFFFFFFFF
)

// The header of an attribute ("Attribute Header"): what all have, what resident ones have after it, and the others.
const (
	headLength      = 4
	headNonResident = 8
	headNameLen     = 9 // units
	headNameOffset  = 10
	headFlags       = 12
	attrHeaderShort = 24
	attrHeaderLong  = 64

	resLength = 16
	resOffset = 20

	nonFirstVCN  = 16
	nonLastVCN   = 24
	nonRuns      = 32
	nonUnit      = 34 // 2^n clusters that are packed together
	nonAllocated = 40
	nonSize      = 48
	nonInitial   = 56

	streamCompressed = 0x00FF
	streamEncrypted  = 0x4000
)

// An entry of an attribute list ("$ATTRIBUTE_LIST").
const (
	listLength     = 4
	listNameLen    = 6 // units
	listNameOffset = 7
	listFirstVCN   = 8
	listRecord     = 16
	listEntryMin   = 26
)

// $STANDARD_INFORMATION. Times are units of 100 ns from 1601.
const (
	stdMade     = 0
	stdModified = 8
	stdChanged  = 16
	stdRead     = 24
	stdFlags    = 32
	stdLen      = 48

	fileReadOnly   = 0x0001
	fileHidden     = 0x0002
	fileSystem     = 0x0004
	fileHiddenSys  = fileHidden | fileSystem
	fileArchive    = 0x0020
	fileSparse     = 0x0200
	fileReparse    = 0x0400
	fileCompressed = 0x0800
	fileOffline    = 0x1000
	fileEncrypted  = 0x4000
	fileRecall     = 0x40_0000
	fileIndex      = 0x1000_0000
	fileView       = 0x2000_0000

	epoch = 116444736000000000 // 1970
)

// $VOLUME_INFORMATION.
const (
	infoMajor = 8
	infoMinor = 9
	infoFlags = 10
	infoLen   = 12

	volumeDirty     = 0x0001
	volumeResizeLog = 0x0002
	volumeUpgrade   = 0x0004
	volumeChkdsk    = 0x8000
)

// An index ("$INDEX_ROOT", "$INDEX_ALLOCATION", "Index Header"), and $FILE_NAME, which is the key of a directory's.
const (
	indexName = "$I30"

	rootBlockSize = 8 // of a $INDEX_ROOT
	rootHeader    = 16
	rootMin       = 32

	indexUSA      = 40 // of an INDX block
	indexHeaderAt = 24

	headerEntries = 0 // of an index header
	headerUsed    = 4
	headerLen     = 16

	entryLength    = 8 // of an entry
	entryKeyLength = 10
	entryFlags     = 12
	indexEntryMin  = 16

	entryNode  = 1
	entryLast  = 2
	largeIndex = 1

	collateName     = 0x01
	collateULong    = 0x10
	collateSID      = 0x11
	collateSecurity = 0x12
	collateULongs   = 0x13

	nameLenInFileName      = 64
	spaceInFileName        = 65
	nameInFileName         = 66
	spaceDOS          byte = 2 // a short name beside a long one
	win32AndDOS            = 3
)

// An entry of $AttrDef.
const (
	defKind      = 128
	defCollate   = 136
	defFlags     = 140
	defMin       = 144
	defMax       = 152
	defLen       = 160
	attrDefBytes = 2560
)

// The log's restart area ("$LogFile").
const (
	restartLen   = 4096
	restartArea  = 24
	restartClean = 0x0002
	noClient     = 0xFFFF
)
