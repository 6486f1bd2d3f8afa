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
	recLSN          = 8
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
	fileRecallOpen = 0x4_0000
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

// The log ("$LogFile", fs/ntfs3/fslog.c). Its first two pages, of the system's page size, are restart pages; then come
// copies of the pages that were written last, and the pages with records.
const (
	restartMagic = "RSTR"
	logPageMagic = "RCRD"

	restartSystemPage = 16 // bytes
	restartLogPage    = 20 // bytes
	restartArea       = 24 // where the area begins in its page
	restartMajor      = 28
	restartLen        = 4096 // of the pages that nearly all logs have

	areaLSN          = 0 // of the last record when the area was written
	areaClients      = 8
	areaInUse        = 12 // the first client that has the log open
	areaFlags        = 14
	areaSeqBits      = 16 // of an LSN, those that count the turns through the file
	areaClientsAt    = 22
	areaSize         = 24 // bytes of the log that are used
	areaRecordHead   = 36 // bytes of a record's header
	areaPageData     = 38 // where records begin in a page
	areaLen          = 48
	areaClean        = 0x0002
	noClient         = 0xFFFF
	clientOldest     = 0  // LSN of the oldest record that it needs
	clientRestart    = 8  // LSN of its last restart record
	clientLSNs       = 16 // bytes of it that matter here
	clientLen        = 160
	maxClients       = 16
	copiesOne        = 2    // pages that are copies, up to version 1
	copiesTwo        = 0x20 // from version 2 on
	restartPages     = 2
	minLogPages      = 0x30
	minPage, maxPage = 512, 64 << 10 // bytes

	pageLSN     = 8  // of the last record in the page; of a copy up to version 1: where it belongs
	pageLastEnd = 32 // LSN of the last record that ends in the page
	pageFileOff = 60 // from version 2 on: where a copy belongs
	pageHeadMin = 64

	lrLSN     = 0  // a record's header
	lrLength  = 24 // bytes of what the client logged
	lrType    = 32
	lrHeadMin = 48
	lrClient  = 1
	lrRestart = 2

	opRedo     = 0 // what the client logged: two operations with their data, and which clusters they are for
	opUndo     = 2
	opRedoAt   = 4
	opRedoLen  = 6
	opUndoAt   = 8
	opUndoLen  = 10
	opClusters = 14 // how many cluster numbers follow
	opRecordAt = 16 // where in the target its structure begins
	opAttrAt   = 18 // where in that the change begins
	opBlockAt  = 20 // where in the target's cluster, in units of 512 bytes
	opVCN      = 24
	opLCNs     = 32

	rsMajor      = 0 // what a restart record holds
	rsDirtyLSN   = 32
	rsActionsLSN = 40
	rsLen        = 64

	tableEntryLen  = 0 // a table that is dumped into the log
	tableEntries   = 2
	tableHead      = 24
	tableAllocated = 0xFFFFFFFF // at the start of an entry in use

	dirtyClusters  = 12 // an entry of the table of dirty pages: how many cluster numbers it has
	dirtyOldest    = 24 // LSN
	dirtyLCNs      = 32
	dirtyOldest32  = 28 // the same in logs whose tables have version 0
	dirtyLCNs32    = 36
	actionFirstLSN = 8 // an entry of the table of transactions
)

// The operations of the log that name clusters, and the last one that is known.
const (
	opInitRecord     = 0x02
	opFreeRecord     = 0x03
	opWriteEnd       = 0x04
	opCreateAttr     = 0x05
	opDeleteAttr     = 0x06
	opMapping        = 0x09
	opDeleteClusters = 0x0A
	opSetSizes       = 0x0B
	opSetBits        = 0x15
	opClearBits      = 0x16
	opHotFix         = 0x17
	opDirtyPages     = 0x1F
	opTransactions   = 0x20
	opLast           = 0x25
)

// A hibernation file begins with its state ("PO_MEMORY_IMAGE" in the public symbols of the system). The places of what
// follows differ between 32 and 64 bits, and by version.
const (
	hiberPage                    = 4096
	hiberSelf64                  = 16 // number of a page
	hiberPageSize32, hiberTime32 = 20, 24
	hiberPageSize64, hiberTime64 = 24, 32

	// Two counted lists stand before the mark that it was written for a fast start. Where, depends on the version.
	hiberSearchFrom, hiberSearchTo = 0x80, 0x800
	hiberLogPages                  = 24 // numbers of pages, 8 bytes each, after their count
	hiberCheck                     = 4  // from the end of that list
	hiberContext                   = 8
	hiberFast                      = 12
	hiberHighest                   = 64
	hiberKeyPages                  = 72
	hiberKeyCount                  = 4
)
