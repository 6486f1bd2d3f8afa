package apfs

// Where everything lies on the disk, in one place for what reads and checks the file system. Source: Apple's "Apple
// File System Reference" (2020-06-22); its chapters stand in parentheses. All is little-endian. Offsets and lengths
// are in bytes, addresses in blocks.

// Every object begins with these (Objects).
const (
	objSum     = 0
	objID      = 8
	objXID     = 16
	objType    = 24
	objSubtype = 28
	objHead    = 32

	typeMask       = 0xFFFF
	typeSuper      = 0x01
	typeRoot       = 0x02
	typeNode       = 0x03
	typeSpace      = 0x05
	typeAddresses  = 0x06
	typeChunks     = 0x07
	typeMap        = 0x0B
	typeCheckpoint = 0x0C
	typeVolume     = 0x0D
	typeJumpstart  = 0x14
)

// The container's superblock (Container).
const (
	superMagic      = 32
	superBlockSize  = 36
	superBlocks     = 40
	superIncompat   = 64
	superUUID       = 72
	superDescBlocks = 104
	superDataBlocks = 108
	superDescBase   = 112
	superDataBase   = 120
	superDescIndex  = 136
	superDescLen    = 140
	superSpace      = 152
	superMap        = 160
	superMostVolume = 180
	superVolumes    = 184
	superFlags      = 1264
	superJumpstart  = 1272
	superKeys       = 1296
	superMiddle     = 1352 // of a container on two devices: the tree of what the first keeps of the second
	superCache      = 1368 // and the run of blocks on the first through which is written to the second
	superMediaKeys  = 1392
	superLen        = 1408

	magicSuper     = "NXSB"
	mostVolumes    = 100
	incompatFusion = 0x100
	softwareCrypto = 4       // no hardware takes part in its encryption
	areaIsTree     = 1 << 31 // of the number of blocks: the area lies in pieces

	minBlock = 4096
	maxBlock = 65536
)

// A checkpoint's map of where ephemeral objects lie (Container).
const (
	checkCount   = 36
	checkEntries = 40
	checkEntry   = 40
	checkSize    = 8
	checkOID     = 24
	checkAddress = 32
)

// The space manager (Space Manager).
const (
	spaceBlocksPerChunk = 36
	spaceChunksPerBlock = 40
	spaceBlocksPerList  = 44
	spaceDevice         = 48 // of the main device
	spaceTier2          = 96
	spaceDevBlocks      = 0
	spaceDevChunks      = 8
	spaceDevInfos       = 16
	spaceDevLists       = 20
	spaceDevFree        = 24
	spaceDevAddresses   = 32
	// The second device's addresses follow those of the first.
	spaceDevice2Addresses = spaceTier2 - spaceDevice + spaceDevAddresses
	spaceBitmapSize       = 164 // of the internal pool's own bitmaps, blocks
	spacePool             = 152
	spaceBitmapOwn        = 160 // blocks that one bitmap of the pool takes
	spaceBitmapBase       = 168
	spacePoolBase         = 176
	spaceQueueTree        = 208 // of the pool's blocks that wait for being freed
	spaceQueueLimit       = 224 // nodes that it may have
	spaceMainLimit        = 264 // and that of all other blocks
	spaceBitmapAt         = 328 // where in the manager it stands which bitmap of the pool counts

	listIndex   = 32
	listCount   = 36
	listEntries = 40
	chunkEntry  = 32
	chunkFirst  = 8
	chunkBlocks = 16
	chunkFree   = 20
	chunkBitmap = 24

	// Of both numbers of a chunk the upper bits are reserved.
	chunkCountMask = 0x000FFFFF
)

// B-trees (B-Trees): a node with a table of where keys and values are, keys after it, values from the end backwards.
const (
	nodeFlags   = 32
	nodeLevel   = 34
	nodeKeys    = 36
	nodeTableAt = 40
	nodeTable   = 42
	nodeData    = 56
	treeInfo    = 40 // bytes at the end of the root
	infoNode    = 4
	infoKey     = 8
	infoValue   = 12

	flagRoot  = 1
	flagLeaf  = 2
	flagFixed = 4

	noValue  = 0xFFFF
	maxDepth = 12
)

// Object maps (Object Maps).
const (
	mapTree        = 48
	mapSnapshots   = 56
	mapKeyLen      = 16
	mapValueLen    = 16
	mapFlags       = 0
	mapAddress     = 8
	mapIsDeleted   = 1
	mapIsEncrypted = 4
)

// A volume's superblock (Volumes).
const (
	volMagic        = 32
	volIncompat     = 56
	volMap          = 128
	volRoot         = 136
	volExtents      = 144
	volSnapshots    = 152
	volExtentsKind  = 120
	volSnapKind     = 124
	volUUID         = 240
	volChanged      = 256
	volFlags        = 264
	volName         = 704
	volNameLen      = 256
	volRole         = 964
	volGroup        = 1008
	volFileExtents  = 1032
	volFileKind     = 1040
	volLen          = 1048
	magicVolume     = "APSB"
	volUnencrypted  = 1
	volAnyCase      = 1
	volSealed       = 0x20
	storagePhysical = 0x40000000
	storageMask     = 0xC0000000
)

// Records of a file system (File-System Objects).
const (
	keyKind   = 60 // bits of the first word of a key before its kind
	keyIDMask = 1<<60 - 1

	recSnapshot = 1
	recExtent   = 2
	recInode    = 3
	recAttr     = 4
	recFile     = 8
	recEntry    = 9

	inoParent     = 0
	inoPrivate    = 8
	inoMade       = 16
	inoChanged    = 24
	inoMeta       = 32
	inoRead       = 40
	inoInside     = 48
	inoLinks      = 56
	inoGeneration = 64 // counts writes
	inoBSD        = 68
	inoOwner      = 72
	inoGroup      = 76
	inoMode       = 80
	inoSize       = 84
	inoLen        = 92

	extName   = 4
	extFinder = 7
	extStream = 8
	extSparse = 13
	extDevice = 14

	entFile  = 0
	entFlags = 16
	entLen   = 18

	attrFlags   = 0
	attrLen     = 2
	attrData    = 4
	attrStream  = 1
	attrInline  = 2
	streamID    = 0
	streamSize  = 8
	attrStreamN = 48

	fileLen      = 0
	fileAt       = 8
	fileLenMask  = 1<<56 - 1
	filePhysical = 8

	extentLenMask = 1<<60 - 1

	snapExtents = 0
	snapVolume  = 8
	snapMade    = 16
	snapNameLen = 48
	snapName    = 50

	rootFolder   = 2
	maxName      = 1024
	symlinkAttr  = "com.apple.fs.symlink"
	firmlinkAttr = "com.apple.fs.firmlink"
	resourceAttr = "com.apple.ResourceFork"
	immutable    = 1 << 1
	hiddenFlag   = 1 << 15
)

// Keys (Encryption): a bag of entries in a locker, for the container and for each volume. The pieces of an entry are
// values after tags and lengths (ASN.1, DER).
const (
	bagOfContainer = 0x6B657973 // "keys"
	bagOfVolume    = 0x72656373 // "recs"
	bagKeys        = 34
	bagEntries     = 48
	entryTag       = 16
	entryLen       = 18
	entryData      = 24
	entryAlign     = 16
	tagVolumeKey   = 2
	tagUnlocking   = 3 // in a container's bag where the volume's is, in that one a key that a secret opens
	tagHint        = 4

	derSequence   = 0x30
	derBlob       = 0xA3
	derUUID       = 0x81
	derFlags      = 0x82
	derWrapped    = 0x83
	derIterations = 0x84
	derSalt       = 0x85
	flagHalfKey   = 2 // keys of 128 bits, as disks have that were encrypted by an older system

	cipherSector = 512 // bytes
	volOneKey    = 8   // all files have the volume's key
	fileCrypto   = 16  // the tweak of an extent, in blocks
)
