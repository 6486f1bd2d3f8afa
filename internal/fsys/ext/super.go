// Package ext knows ext2, ext3 and ext4 (the kernel's
// Documentation/filesystems/ext4, "Global Structures" and "Dynamic Structures"):
// block sizes of 1 to 64 KiB, 64bit, flex_bg, meta_bg, uninitialised groups, bigalloc,
// sparse_super2, with and without a journal. It tells which blocks are in use,
// reads files, and makes and changes volumes as patches; it never writes by itself.
//
// Limits: at most 1,048,576 block groups. Features that this package doesn't
// know make the volume an error, so that it is captured whole.
package ext

import (
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"sync"

	"twinshelf/internal/fsys"
	"twinshelf/internal/units"
)

// Family makes ext2, ext3 and ext4 known.
func Family() fsys.Family {
	return fsys.Family{Name: "ext", Probe: Probe, Mirrors: mirrors, Makers: []fsys.Maker{maker()}}
}

// maxGroups bounds the group descriptors that are read.
const maxGroups = 1 << 20

// Volume is an ext file system. Counts are in blocks of BlockSize bytes unless
// they say otherwise.
type Volume struct {
	geometry
	info fsys.Info
}

// geometry is where the structures of a volume lie, and how they are read: the first layer, which knows no files.
type geometry struct {
	r io.ReaderAt

	blockSize    int64
	blocks       int64
	firstData    int64
	blocksPerGrp int64
	ratio        int64 // blocks per cluster; 1 without bigalloc
	inodesPerGrp int64
	inodeSize    int64
	groups       int64
	descSize     int64
	reservedGDT  int64
	firstMetaBG  int64
	backupBGs    [2]int64
	compat       uint32
	incompat, ro uint32
	descPerBlock int64
	descBlocks   int64
	seed         uint32 // of checksums
	// tables are the places of inode tables that were looked up, by group.
	tables *sync.Map
}

// Probe recognises an ext file system by its super block.
func Probe(r io.ReaderAt, size int64, _ int) (fsys.Volume, error) {
	if size < superOffset+superLen {
		return nil, nil
	}
	sb := make([]byte, superLen)
	if n, _ := r.ReadAt(sb, superOffset); n < superLen {
		return nil, nil
	}
	le := binary.LittleEndian
	if le.Uint16(sb[sbMagic:]) != magic {
		return nil, nil
	}
	v := &Volume{geometry: geometry{
		r: r, compat: le.Uint32(sb[sbCompat:]), incompat: le.Uint32(sb[sbIncompat:]), ro: le.Uint32(sb[sbROCompat:]),
		blocks: int64(le.Uint32(sb[sbBlocksLo:])), firstData: int64(le.Uint32(sb[sbFirstData:])),
		blocksPerGrp: int64(le.Uint32(sb[sbBlocksPerGroup:])), inodesPerGrp: int64(le.Uint32(sb[sbInodesPerGroup:])),
		inodeSize: 128, descSize: 32, ratio: 1, tables: &sync.Map{}, reservedGDT: int64(le.Uint16(sb[sbReservedGDT:])),
	}}
	if le.Uint32(sb[sbRev:]) == 0 { // the original revision had no feature fields
		v.compat, v.incompat, v.ro, v.reservedGDT = 0, 0, 0, 0
	} else {
		v.inodeSize = int64(le.Uint16(sb[sbInodeSize:]))
	}
	if bad := v.incompat &^ incompatKnown; bad != 0 {
		return nil, fmt.Errorf("the ext file system uses features that are not known (incompatible set %#x)", bad)
	}
	if bad := v.ro &^ roKnown; bad != 0 {
		return nil, fmt.Errorf("the ext file system uses features that are not known (read-only set %#x)", bad)
	}
	if v.incompat&incompatJournalDev != 0 {
		return nil, fmt.Errorf("it is the external journal of an ext file system on another disk")
	}
	v.seed = csum(^uint32(0), sb[sbUUID:sbUUID+16])
	if v.incompat&incompatSeed != 0 {
		v.seed = le.Uint32(sb[sbSeed:])
	}
	if err := v.readGeometry(sb, size); err != nil {
		return nil, err
	}
	v.describe(sb)
	return v, nil
}

// geometry fills in the derived sizes and refuses what can't be.
func (v *Volume) readGeometry(sb []byte, size int64) error {
	le := binary.LittleEndian
	logBlock, logCluster := le.Uint32(sb[sbLogBlock:]), le.Uint32(sb[sbLogCluster:])
	if logBlock > 6 {
		return fsys.Contradiction(superOffset+sbLogBlock, "the ext super block claims blocks of 2^%d KiB", logBlock)
	}
	v.blockSize = 1024 << logBlock
	if v.incompat&incompat64bit != 0 {
		v.blocks |= int64(le.Uint32(sb[sbBlocksHi:])) << 32
		v.descSize = int64(le.Uint16(sb[sbDescSize:]))
	}
	if v.ro&roBigalloc != 0 {
		if logCluster < logBlock || logCluster-logBlock > 16 {
			return fsys.Contradiction(superOffset+sbLogCluster, "the ext super block claims clusters of 2^%d KiB",
				logCluster)
		}
		v.ratio = 1 << (logCluster - logBlock)
	}
	perGroup := int64(le.Uint32(sb[sbClustersPerGrp:]))
	if v.ratio == 1 {
		perGroup = v.blocksPerGrp
	}
	switch {
	case v.descSize < 32 || v.descSize > v.blockSize || v.descSize&(v.descSize-1) != 0:
		return fsys.Contradiction(superOffset+sbDescSize, "the ext super block claims group descriptors of %d bytes",
			v.descSize)
	case v.blocksPerGrp < 256 || perGroup*v.ratio != v.blocksPerGrp || perGroup > v.blockSize*8 || perGroup%8 != 0:
		return fsys.Contradiction(superOffset+sbBlocksPerGroup, "the ext super block claims %d blocks in a group",
			v.blocksPerGrp)
	case v.inodesPerGrp == 0 || v.inodesPerGrp > v.blockSize*8:
		return fsys.Contradiction(superOffset+sbInodesPerGroup, "the ext super block claims %d inodes in a group",
			v.inodesPerGrp)
	case v.inodeSize < 128 || v.inodeSize > v.blockSize || v.inodeSize&(v.inodeSize-1) != 0:
		return fsys.Contradiction(superOffset+sbInodeSize, "the ext super block claims inodes of %d bytes", v.inodeSize)
	case v.reservedGDT > v.blockSize/4: // more than the resize inode can name
		return fsys.Contradiction(superOffset+sbReservedGDT,
			"the ext super block claims %d blocks kept for descriptors",
			v.reservedGDT)
	case v.firstData > 1 || v.blocks <= v.firstData+8:
		return fsys.Contradiction(superOffset+sbFirstData, "the ext super block claims %d blocks from block %d",
			v.blocks, v.firstData)
	case v.blocks > size/v.blockSize:
		return fsys.Contradiction(superOffset+sbBlocksLo, "the ext file system claims %d blocks of %d bytes, more "+
			"than its part of %d bytes holds", v.blocks, v.blockSize, size)
	}
	v.groups = (v.blocks - v.firstData + v.blocksPerGrp - 1) / v.blocksPerGrp
	if v.groups > maxGroups {
		return fsys.Contradiction(superOffset, "the ext file system has %d block groups; at most %d are handled",
			v.groups, maxGroups)
	}
	v.descPerBlock = v.blockSize / v.descSize
	v.descBlocks = (v.groups + v.descPerBlock - 1) / v.descPerBlock
	v.firstMetaBG = int64(le.Uint32(sb[sbFirstMetaBG:]))
	v.backupBGs = [2]int64{int64(le.Uint32(sb[sbBackupBGs:])), int64(le.Uint32(sb[sbBackupBGs+4:]))}
	return nil
}

func (v *Volume) describe(sb []byte) {
	le := binary.LittleEndian
	kind := "ext2"
	switch {
	case v.incompat&(incompatExtents|incompat64bit|incompatFlexBG) != 0 ||
		v.ro&(roGDTCsum|roMetadataCsum|roBigalloc) != 0:
		kind = "ext4"
	case v.compat&compatJournal != 0:
		kind = "ext3"
	}
	u := sb[sbUUID:]
	v.info = fsys.Info{
		Kind: kind, Size: v.blocks * v.blockSize, Unit: v.blockSize * v.ratio,
		Label: units.Visible(strings.ToValidUTF8(strings.TrimRight(string(sb[sbLabel:sbLabel+16]), "\x00"), "\uFFFD")),
		ID:    fmt.Sprintf("%x-%x-%x-%x-%x", u[:4], u[4:6], u[6:8], u[8:10], u[10:16]),
	}
	state := le.Uint16(sb[sbState:])
	switch {
	case v.incompat&incompatRecover != 0:
		v.info.Unclean = "its journal hasn't been replayed (mounted now, or the machine went down)"
	case state&stateValid == 0:
		v.info.Unclean = "it wasn't unmounted cleanly"
	case state&stateErrors != 0:
		v.info.Unclean = "the system that used it recorded errors on it"
	case v.ro&roOrphanPresent != 0:
		v.info.Unclean = "it has deleted files that were still open"
	}
}

// Info describes the volume.
func (v *Volume) Info() fsys.Info { return v.info }
