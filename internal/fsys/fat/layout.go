package fat

// Where everything lies on the disk, in one place for what reads, checks, makes and changes the file system. Source:
// the specification that the package names; its sections stand in parentheses. All is little-endian. Offsets and
// lengths are in bytes.

// The boot sector and the BIOS parameter block ("Boot Sector and BPB").
const (
	bootName     = 3
	bpbSector    = 11
	bpbCluster   = 13
	bpbReserved  = 14
	bpbFATs      = 16
	bpbRootCount = 17
	bpbTotal16   = 19
	bpbMedia     = 21
	bpbFATSize16 = 22
	bpbTrack     = 24
	bpbHeads     = 26
	bpbHidden    = 28
	bpbTotal32   = 32

	// FAT12 and FAT16 go on so,
	bs16Drive  = 36
	bs16Dirty  = 37
	bs16Sig    = 38
	bs16Serial = 39
	bs16Label  = 43
	bs16Type   = 54
	bootCode16 = 62

	// and FAT32 so.
	bpbFATSize32 = 36
	bpbExtFlags  = 40
	bpbVersion32 = 42
	bpbRoot32    = 44
	bpbFSInfo    = 48
	bpbBackup    = 50
	bs32Drive    = 64
	bs32Dirty    = 65
	bs32Sig      = 66
	bs32Serial   = 67
	bs32Label    = 71
	bs32Type     = 82
	bootCode32   = 90

	extendedSig = 0x29
	mediaFixed  = 0xF8
	firstDrive  = 0x80

	// How many clusters a volume has at most decides its kind ("FAT Type Determination").
	maxFAT12 = 4084
	maxFAT16 = 65524
	maxFAT32 = 0x0FFFFFF5
	maxTotal = 1<<32 - 1 // sectors
)

// The FSInfo sector of FAT32 ("FAT32 FSInfo Sector Structure and Backup Boot Sector").
const (
	fsiStructAt = 484
	fsiFree     = 488
	fsiNext     = 492
	fsiTrailAt  = 508

	fsiLead    = 0x41615252
	fsiStruct  = 0x61417272
	fsiTrail   = 0xAA550000
	fsiUnknown = 0xFFFFFFFF

	fsiSector    = 1 // where new volumes have it
	backupSector = 6
)

// A directory entry ("FAT 32 Byte Directory Entry Structure", "FAT Long Directory Entries").
const (
	dirEntry     = 32
	entAttr      = 11
	entCase      = 12
	entTenths    = 13 // of the creation, in hundredths of a second
	entMadeTime  = 14
	entMadeDate  = 16
	entReadDate  = 18
	entClusterHi = 20
	entTime      = 22
	entDate      = 24
	entCluster   = 26
	entSize      = 28

	attrReadOnly = 0x01
	attrHidden   = 0x02
	attrSystem   = 0x04
	attrVolumeID = 0x08
	attrDir      = 0x10
	attrArchive  = 0x20
	attrLongName = 0x0F

	entFree   = 0xE5
	entKanji  = 0x05 // stands for 0xE5 as a first letter
	lowerBase = 0x08
	lowerExt  = 0x10

	longLast = 0x40
	longSum  = 13
)
