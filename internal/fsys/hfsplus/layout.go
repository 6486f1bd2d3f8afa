package hfsplus

// Where everything lies on the disk, in one place for what reads, checks, makes and changes the file system. Source:
// Apple's Technical Note TN1150, "HFS Plus Volume Format"; its sections stand in parentheses. All is big-endian.
// Offsets and lengths are in bytes.

// The volume header (Volume Header) and its copy, which begins a KiB before the end of the volume.
const (
	headerAt  = 1024
	headerLen = 512
	copyAt    = 1024 // before the end

	headSignature   = 0
	headVersion     = 2
	headAttributes  = 4
	headMounter     = 8 // who mounted it last
	headJournal     = 12
	headMade        = 16
	headModified    = 20
	headChecked     = 28
	headFiles       = 32
	headFolders     = 36
	headBlockSize   = 40
	headBlocks      = 44
	headFree        = 48
	headNextBlock   = 52
	headForkClump   = 56
	headDataClump   = 60
	headNextID      = 64
	headWrites      = 68
	headEncodings   = 72
	headFinder      = 80 // eight words; the first is the blessed folder, the last two identify the volume
	headIdentity    = 104
	headBitmap      = 112
	headExtents     = 192
	headCatalog     = 272
	headAttributesF = 352
	headStartup     = 432

	signPlus, signX       = 0x482B, 0x4858
	versionPlus, versionX = 4, 5

	flagHardLock     = 1 << 7
	flagUnmounted    = 1 << 8
	flagSpared       = 1 << 9
	flagInconsistent = 1 << 11
	flagIDsReused    = 1 << 12
	flagJournaled    = 1 << 13

	minBlock = 512
	maxBlock = 1 << 27 // no system makes larger ones than 64 KiB
)

// The head of an HFS volume that wraps one of HFS Plus (HFS Wrapper).
const (
	wrapBlockSize = 20
	wrapFirst     = 28 // of the allocation blocks, in sectors of 512 bytes
	wrapSignature = 124
	wrapStart     = 126
	wrapCount     = 128
	wrapLen       = 162
	signHFS       = 0x4244
	wrapSector    = 512
)

// A fork (Fork Data Structure): eight extents in the record, more in the extents overflow file.
const (
	forkLen     = 80
	forkSize    = 0
	forkClump   = 8
	forkBlocks  = 12
	forkExtents = 16
	extentLen   = 8
	extents     = 8
)

// A B-tree (B-Trees): nodes of one size; the first has the header record, one for whoever uses the tree, and a map.
const (
	nodeNext    = 0
	nodeBefore  = 4
	nodeKind    = 8
	nodeHeight  = 9
	nodeRecords = 10
	nodeHeadLen = 14

	kindLeaf   = 0xFF
	kindIndex  = 0
	kindHeader = 1
	kindMap    = 2

	treeDepth      = 14 // the header record begins after the node's head
	treeRoot       = 16
	treeLeaves     = 20 // records in leaves
	treeFirst      = 24
	treeLast       = 28
	treeNodeSize   = 32
	treeMaxKey     = 34
	treeNodes      = 36
	treeFree       = 40
	treeClump      = 46
	treeKind       = 50
	treeCompare    = 51
	treeAttributes = 52
	treeHeadLen    = 106
	treeUserLen    = 128

	compareFolded, compareBinary = 0xCF, 0xBC
	treeBigKeys, treeVariable    = 2, 4

	minNode, maxNode = 512, 32768
	maxDepth         = 16
)

// Files that the volume itself consists of (Catalog Node IDs).
const (
	idRootParent = 1
	idRoot       = 2
	idExtents    = 3
	idCatalog    = 4
	idBad        = 5
	idBitmap     = 6
	idStartup    = 7
	idAttributes = 8
	idFirst      = 16
)

// The catalog (Catalog File).
const (
	keyParent   = 2
	keyName     = 6
	maxName     = 255 // units
	catalogKey  = 516 // the longest
	recFolder   = 1
	recFile     = 2
	recFolderTo = 3 // from a folder's number to its name
	recFileTo   = 4

	itemFlags    = 2
	itemValence  = 4
	itemID       = 8
	itemMade     = 12
	itemModified = 16
	itemChanged  = 20
	itemRead     = 24
	itemOwner    = 32
	itemGroup    = 36
	itemFlagsOf  = 41 // what the owner set
	itemMode     = 42
	itemSpecial  = 44
	itemFinder   = 48 // 16 bytes, and 16 more
	itemType     = 48 // of a file, and who made it
	itemCreator  = 52
	itemHints    = 56 // for the Finder
	itemEncoding = 80
	folderLen    = 88
	fileData     = 88
	fileResource = 168
	fileLen      = 248

	threadParent = 4
	threadName   = 8

	ownerImmutable = 1 << 1
	hintInvisible  = 1 << 14
)

// How hard links are kept (Hard Links; links of folders work alike).
const (
	linkType, linkCreator             = "hlnk", "hfs+"
	folderLinkType, folderLinkCreator = "fdrp", "MACS"
	linksFolder                       = "\x00\x00\x00\x00HFS+ Private Data"
	folderLinksFolder                 = ".HFS+ Private Directory Data\r"
	linkName                          = "iNode%d"
	folderLinkName                    = "dir_%d"
)

// The extents overflow file (Extents Overflow File).
const (
	extentKeyLen  = 10 // without its length
	extentFork    = 2
	extentFile    = 4
	extentBlock   = 8
	extentData    = 12
	forkIsData    = 0
	forkIsRes     = 0xFF
	extentRecords = 64
)

// The attributes file (Attributes File).
const (
	attrFile     = 4
	attrBlock    = 8
	attrNameLen  = 12
	attrName     = 14
	maxAttrName  = 127
	attrKey      = 266 // the longest
	attrInline   = 0x10
	attrForkKind = 0x20
	attrExtents  = 0x30
	inlineSize   = 12
	inlineData   = 16
	attrForkAt   = 8
)

// The journal (Journal).
const (
	journalInfoLen = 180
	journalFlags   = 0
	journalAt      = 36
	journalSize    = 44
	journalHere    = 1
	journalNeeds   = 4 // it is still to be made

	logMagic    = 0x4A4E4C78
	logEndian   = 0x12345678
	logStart    = 8
	logEnd      = 16
	logSize     = 24
	logListSize = 32
	logSum      = 36
	logHeadSize = 40
	logHeadLen  = 44
)
