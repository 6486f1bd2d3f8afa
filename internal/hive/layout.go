package hive

// Where everything lies in a registry file. Source: M. Suhanov, "Windows registry file format specification"
// (regf), whose sections stand in parentheses. All is little-endian; offsets of cells count from the end of the first
// block.

// The first block (Base block).
const (
	headLen      = 4096
	headMark     = "regf"
	headFirst    = 4 // sequence number of the last write that was begun
	headSecond   = 8 // and of the last one that was ended
	headMinor    = 24
	headType     = 28
	headFormat   = 32
	headRoot     = 36
	headBins     = 40  // bytes of all bins
	headSum      = 508 // over all words before it
	headSumLen   = 512
	typePrimary  = 0
	formatMemory = 1
	minorBig     = 4 // from this version on large values lie in segments
)

// Bins and the cells in them (Hive bin, Cell).
const (
	binUnit  = 4096
	cellHead = 4 // its size, negative when it is in use
	cellUnit = 8
)

// A key (Key node).
const (
	keyMark     = "nk"
	keyFlags    = 2
	keyCount    = 20
	keyList     = 28
	keyValues   = 36
	keyValueAt  = 40
	keyNameLen  = 72
	keyName     = 76
	keyNarrow   = 0x20 // its name has one byte a character
	nothing     = 0xFFFFFFFF
	listCount   = 2
	listEntries = 4
)

// A value (Key value, Big data).
const (
	valueMark    = "vk"
	valueNameLen = 2
	valueLen     = 4
	valueAt      = 8
	valueKind    = 12
	valueFlags   = 16
	valueName    = 20
	valueNarrow  = 1
	valueHere    = 1 << 31 // of the length: up to four bytes stand where the place of the data would
	bigMark      = "db"
	bigCount     = 2
	bigList      = 4
	bigLen       = 8
	bigSegment   = 16344 // bytes
)

// Kinds of values that are read here (Data types).
const (
	Text   = 1
	Expand = 2
	Word   = 4
	Texts  = 7
)

// A log (Old format, New format).
const (
	logStart     = 512
	logOldType   = 1
	logOldType2  = 2
	logNewType   = 6
	dirtMark     = "DIRT"
	dirtPage     = 512
	entryMark    = "HvLE"
	entrySize    = 4
	entrySeq     = 12
	entryBins    = 16
	entryPages   = 20
	entryHash    = 24
	entryHash2   = 32
	entryLen     = 40
	entryPageLen = 8
)

// Bounds of what is followed.
const (
	mostBins   = 1 << 30 // bytes
	mostCell   = 16 << 20
	mostKeys   = 1 << 20 // of a key
	mostValues = 1 << 16 // of a key
	mostName   = 512     // bytes of a key's name
	mostLog    = 64 << 20
	mostPages  = 1 << 16 // of an entry of a log
	mostEdits  = 1 << 18
)
