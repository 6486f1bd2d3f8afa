package ext

// Where everything lies on the disk, in one place for what reads, checks, writes and makes the file system. Source:
// the Linux kernel's documentation, "ext4 Data Structures and Algorithms"; the sections stand in parentheses. All is
// little-endian but the journal. Offsets and lengths are in bytes.

// The super block ("The Super Block"), 1,024 bytes at byte 1,024.
const (
	superOffset = 1024
	superLen    = 1024

	sbInodes         = 0x00
	sbBlocksLo       = 0x04
	sbReserved       = 0x08
	sbFreeLo         = 0x0C
	sbFreeInodes     = 0x10
	sbFirstData      = 0x14
	sbLogBlock       = 0x18
	sbLogCluster     = 0x1C
	sbBlocksPerGroup = 0x20
	sbClustersPerGrp = 0x24
	sbInodesPerGroup = 0x28
	sbWriteTime      = 0x30
	sbMaxMounts      = 0x36
	sbMagic          = 0x38
	sbState          = 0x3A
	sbErrors         = 0x3C
	sbCheckTime      = 0x40
	sbRev            = 0x4C
	sbFirstInode     = 0x54
	sbInodeSize      = 0x58
	sbGroupNr        = 0x5A
	sbCompat         = 0x5C
	sbIncompat       = 0x60
	sbROCompat       = 0x64
	sbUUID           = 0x68
	sbLabel          = 0x78
	sbLastMounted    = 0x88
	sbReservedGDT    = 0xCE
	sbJournalInode   = 0xE0
	sbHashSeed       = 0xEC
	sbHashVersion    = 0xFC
	sbJournalBackup  = 0xFD
	sbDescSize       = 0xFE
	sbMountOpts      = 0x100
	sbFirstMetaBG    = 0x104
	sbMkTime         = 0x108
	sbJournalBlocks  = 0x10C
	sbBlocksHi       = 0x150
	sbReservedHi     = 0x154
	sbFreeHi         = 0x158
	sbMinExtra       = 0x15C
	sbWantExtra      = 0x15E
	sbFlags          = 0x160
	sbMMPBlock       = 0x168
	sbLogFlex        = 0x174
	sbChecksumType   = 0x175
	sbSnapshotInode  = 0x180
	sbUserQuota      = 0x240
	sbGroupQuota     = 0x244
	sbOverhead       = 0x248
	sbBackupBGs      = 0x24C
	sbProjQuota      = 0x26C
	sbSeed           = 0x270
	sbOrphanFile     = 0x280
	sbChecksum       = 0x3FC

	magic          = 0xEF53
	stateValid     = 1
	stateErrors    = 2
	hashHalfMD4    = 1
	flagSignedHash = 1
	optXattrACL    = 0xC
	never          = 0xFFFF
)

// What a file system may have: features that may be ignored, that forbid reading when they aren't known, and that
// forbid writing ("The Super Block", s_feature_…).
const (
	compatJournal      = 0x4
	compatExtAttr      = 0x8
	compatResizeInode  = 0x10
	compatDirIndex     = 0x20
	compatSparseSuper2 = 0x200
	compatOrphanFile   = 0x1000

	incompatFiletype   = 0x2
	incompatRecover    = 0x4
	incompatJournalDev = 0x8
	incompatMetaBG     = 0x10
	incompatExtents    = 0x40
	incompat64bit      = 0x80
	incompatMMP        = 0x100
	incompatFlexBG     = 0x200
	incompatEAInode    = 0x400
	incompatDirData    = 0x1000
	incompatSeed       = 0x2000
	incompatLargeDir   = 0x4000
	incompatInline     = 0x8000
	incompatEncrypt    = 0x10000
	incompatCasefold   = 0x20000
	incompatKnown      = incompatFiletype | incompatRecover | incompatJournalDev | incompatMetaBG | incompatExtents |
		incompat64bit | incompatMMP | incompatFlexBG | incompatEAInode | incompatDirData | incompatSeed |
		incompatLargeDir | incompatInline | incompatEncrypt | incompatCasefold

	roSparseSuper   = 0x1
	roLargeFile     = 0x2 // set by the first large file
	roBtreeDir      = 0x4
	roHugeFile      = 0x8
	roGDTCsum       = 0x10
	roDirNlink      = 0x20
	roExtraIsize    = 0x40
	roQuota         = 0x100
	roBigalloc      = 0x200
	roMetadataCsum  = 0x400
	roReadonly      = 0x1000
	roProject       = 0x2000
	roVerity        = 0x8000
	roOrphanPresent = 0x10000
	roKnown         = roSparseSuper | roLargeFile | roBtreeDir | roHugeFile | roGDTCsum | roDirNlink | roExtraIsize |
		roQuota | roBigalloc | roMetadataCsum | roReadonly | roProject | roVerity | roOrphanPresent
)

// A group descriptor ("Block Group Descriptors"), 32 or 64 bytes.
const (
	bgBlockBitmapLo = 0x00
	bgInodeBitmapLo = 0x04
	bgInodeTableLo  = 0x08
	bgFreeBlocksLo  = 0x0C
	bgFreeInodesLo  = 0x0E
	bgDirsLo        = 0x10
	bgFlags         = 0x12
	bgBlockCsumLo   = 0x18
	bgInodeCsumLo   = 0x1A
	bgUnusedLo      = 0x1C
	bgChecksum      = 0x1E
	bgHi            = 0x20 // the upper halves follow in the same order
	bgBlockBitmapHi = 0x20
	bgInodeBitmapHi = 0x24
	bgInodeTableHi  = 0x28
	bgFreeBlocksHi  = 0x2C
	bgUnusedHi      = 0x32
	bgBlockCsumHi   = 0x38
	bgInodeCsumHi   = 0x3A

	groupInodesUninit = 0x1
	groupBlocksUninit = 0x2
)

// An inode ("Index Nodes"), 128 bytes or more.
const (
	inoMode       = 0x00
	inoUID        = 0x02
	inoSizeLo     = 0x04
	inoAtime      = 0x08
	inoCtime      = 0x0C
	inoMtime      = 0x10
	inoGID        = 0x18
	inoLinks      = 0x1A
	inoBlocksLo   = 0x1C // in units of 512 bytes
	inoFlags      = 0x20
	inoBlock      = 0x28
	inoGeneration = 0x64
	inoACLLo      = 0x68
	inoSizeHi     = 0x6C
	inoBlocksHi   = 0x74
	inoACLHi      = 0x76
	inoUIDHi      = 0x78
	inoGIDHi      = 0x7A
	inoCsumLo     = 0x7C
	inoExtraSize  = 0x80
	inoCsumHi     = 0x82
	inoCtimeExtra = 0x84
	inoMtimeExtra = 0x88
	inoAtimeExtra = 0x8C
	inoCrtime     = 0x90
	inoCrExtra    = 0x94
	inoBlockSz    = 60
	inoBase       = 128

	extraForCsumHi = 4  // of extra size, from which on inoCsumHi is there
	indirectSlot   = 12 // of inoBlock: the indirect block
	dindSlot       = 13 // and the double indirect one

	flagImmutable = 0x10
	flagEncrypted = 0x800
	flagIndex     = 0x1000 // a directory with hashed names
	flagExtents   = 0x80000
	flagAttrInode = 0x200000 // an inode that holds a value of an extended attribute
	flagInline    = 0x10000000
	flagFolded    = 0x40000000 // a directory whose names differ by more than case

	modeMask   = 0xF000
	modeFIFO   = 0x1000
	modeChar   = 0x2000
	modeDir    = 0x4000
	modeBlock  = 0x6000
	modeFile   = 0x8000
	modeLink   = 0xA000
	modeSock   = 0xC000
	modeSetUID = 0x800
	modeSetGID = 0x400
	modeSticky = 0x200

	badInode       = 1
	rootInode      = 2
	resizeInode    = 7
	journalInode   = 8
	lostFoundInode = 11 // the first one that isn't reserved
)

// A tree of extents ("Extent Tree"): a header, and entries that are extents in the leaves and children above.
const (
	extentMagic  = 0xF30A
	extentHeader = 12
	extentEntry  = 12

	ehEntries = 0x2
	ehMost    = 0x4
	ehDepth   = 0x6

	eeLogical = 0x0 // also of a child
	eeLen     = 0x4
	eeStartHi = 0x6
	eeStartLo = 0x8

	eiChildLo = 0x4
	eiChildHi = 0x8

	maxExtent    = 1 << 15 // blocks
	uninitExtent = 1 << 15 // added to the length of what is allocated and not yet written
)

// Directories ("Linear (Classic) Directories", "Hash Tree Directories").
const (
	dirHeader  = 8
	dirParent  = 4    // bytes before the entries of a directory in its inode
	typeDir    = 2    // as the file type of an entry
	dirTailLen = 12   // bytes at the end of a block of names
	dirTailTag = 0xDE // as the file type of the entry that stands for the tail
	dxRootAt   = 32   // of the counts in the first block
	dxNodeAt   = 8    // and in the others
	dxEntry    = 8
	dxInfoAt   = 24
	dxInfoLen  = 8
)

// Extended attributes ("Extended Attributes"), and access control lists in them.
const (
	xattrMagic      = 0xEA020000
	xattrBlockHead  = 32
	xattrEntryHead  = 16
	xattrSystem     = 7
	xattrInlineName = "data"
	attrChecksum    = 0x10

	aclVersionDisk  = 1
	aclVersionShown = 2
	aclNobody       = 0xFFFFFFFF
)

// The journal's super block, big-endian ("Journal (jbd2)").
const (
	jMagic     = 0xC03B3998
	jSuperV2   = 4
	jBlockSize = 0x0C
	jLen       = 0x10
	jFirst     = 0x14
	jSeq       = 0x18
	jUUID      = 0x30
	jUsers     = 0x40
	jUser      = 0x100
)
